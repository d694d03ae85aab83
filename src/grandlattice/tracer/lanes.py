"""Sixteen numbers at a time: the processor's vectors as types of numba.

A kernel written with `floats`, `ints` and `mask` reads like one for a single path, and shades
sixteen of them.  Arithmetic, comparisons, `min`, `max`, `abs`, `math.sqrt` and `math.floor` work
on lanes, and plain numbers spread over all of them.  What a branch was for one path is a choice
between two values, `where(test, a, b)`; a real branch asks `any_of(test)`.

Memory is read in three ways: `load` takes sixteen neighbours, ``pointer[ints]`` gathers, and
``records(DTYPE)(address, ints)`` is a record for each lane whose fields are gathered when they are
asked for.  Lanes that are switched off still compute: their indices must be in range.

How wide the processor's own vectors are is the compiler's business.  No lane ever looks at its
neighbour, so a path is the same whoever travels beside it.
"""

from __future__ import annotations

import math
import operator
from collections.abc import Callable
from typing import Any

import numpy as np
from llvmlite import ir
from numba import njit, types
from numba.core import cgutils
from numba.core.imputils import lower_getattr_generic
from numba.core.typeconv import Conversion
from numba.core.typing.templates import (
    AbstractTemplate,
    AttributeTemplate,
    infer_getattr,
    infer_global,
    signature,
)
from numba.extending import intrinsic, lower_builtin, lower_cast, models, register_model

# mypy: disable-error-code="no-untyped-def"

LANES = 16

inner = njit(error_model="numpy", no_cpython_wrapper=True, no_cfunc_wrapper=True)
"""For functions that kernels alone call: compiled without doors to Python, in two thirds of the time."""

_BIT, _WORD, _LONG, _FLOAT = ir.IntType(1), ir.IntType(32), ir.IntType(64), ir.FloatType()


class LaneType(types.Type):  # type: ignore[misc]
    """The type of sixteen numbers of one kind."""

    def __init__(self, name: str, element: Any, scalar: types.Type) -> None:
        self.element, self.scalar = element, scalar
        super().__init__(f"{name}[{LANES}]")

    def can_convert_from(self, typing_context, other):
        return Conversion.safe if isinstance(other, types.Number | types.Boolean) else None

    def unify(self, typing_context, other):
        return self if isinstance(other, types.Number | types.Boolean) else None


floats = LaneType("floats", _FLOAT, types.float32)
ints = LaneType("ints", _WORD, types.int32)
mask = LaneType("mask", _BIT, types.boolean)
places = LaneType("places", _LONG, types.int64)
"""Kinds of lanes: single precision, 32-bit integers (`>>` shifts zeros in), truth, addresses."""


class LanePointer(types.Type):  # type: ignore[misc]
    """An array for each lane, by address."""

    def __init__(self, dtype: types.Type) -> None:
        self.dtype = dtype
        super().__init__(f"lane_pointer({dtype})")


class LaneRecord(types.Type):  # type: ignore[misc]
    """A record for each lane, or with `same` one for all of them."""

    def __init__(self, dtype: np.dtype[Any], same: bool) -> None:
        self.dtype, self.same = dtype, same
        self.rows = -(-dtype.itemsize // (4 * LANES))
        super().__init__(f"{'one' if same else 'lane'}_record({dtype})")


def _vector(element: Any) -> Any:
    return ir.VectorType(element, LANES)


@register_model(LaneType)
class _LaneModel(models.PrimitiveModel):  # type: ignore[misc]
    def __init__(self, manager, lane):
        super().__init__(manager, lane, _vector(lane.element))


@register_model(LanePointer)
class _PointerModel(models.PrimitiveModel):  # type: ignore[misc]
    def __init__(self, manager, lane):
        super().__init__(manager, lane, _vector(_LONG))


@register_model(LaneRecord)
class _RecordModel(models.StructModel):  # type: ignore[misc]
    def __init__(self, manager, record):
        address, words = types.int64, types.UniTuple(ints, LANES * record.rows)
        held = [("address", address)] if record.same else [("words", words)]
        super().__init__(manager, record, held)


def _spread(builder, scalar):
    """The same scalar in every lane."""
    nothing = ir.Constant(_vector(scalar.type), ir.Undefined)
    one = builder.insert_element(nothing, scalar, ir.Constant(_WORD, 0))
    return builder.shuffle_vector(one, nothing, ir.Constant(_vector(_WORD), [0] * LANES))


def _every(element, value):
    return ir.Constant(_vector(element), [value] * LANES)


@lower_cast(types.Number, LaneType)
@lower_cast(types.Boolean, LaneType)
def _spread_number(context, builder, source, target, value):
    scalar = context.cast(builder, value, source, target.scalar)
    if target is mask:
        scalar = builder.trunc(scalar, _BIT) if scalar.type != _BIT else scalar
    return _spread(builder, scalar)


def _call(builder, name: str, result, *values):
    """Call a function of the compiler's own, by name."""
    kind = ir.FunctionType(result, [value.type for value in values])
    return builder.call(cgutils.get_or_insert_function(builder.module, kind, name), values)


# --- Operators -------------------------------------------------------------------------------


def _operator(
    function: Any, kinds: dict[LaneType, tuple[LaneType, Callable[..., Any]]], count: int = 2
) -> None:
    """Teach numba what `function` does to `count` operands of each kind of lanes."""
    for kind, (_, generate) in kinds.items():

        def build(context, builder, signature, arguments, generate=generate):
            return generate(builder, *arguments)

        lower_builtin(function, *[kind] * count)(build)

    class Template(AbstractTemplate):  # type: ignore[misc]
        def generic(self, arguments, keywords):
            lanes = {a for a in arguments if isinstance(a, LaneType)}
            others = [a for a in arguments if not isinstance(a, LaneType)]
            if keywords or len(arguments) != count or len(lanes) != 1:
                return None
            (kind,) = lanes
            whole = kind is not ints or not any(isinstance(other, types.Float) for other in others)
            if kind not in kinds or not whole or not all(kind.can_convert_from(None, o) for o in others):
                return None
            return signature(kinds[kind][0], *[kind] * count)

    infer_global(function)(Template)


_FUSED = ("contract",)  # products and sums may become one instruction


def _own(name: str) -> Callable[..., Any]:
    return lambda b, x: _call(b, f"llvm.{name}.v{LANES}f32", x.type, x)


for _function in (operator.add, operator.iadd):
    _operator(_function, {
        floats: (floats, lambda b, x, y: b.fadd(x, y, flags=_FUSED)),
        ints: (ints, lambda b, x, y: b.add(x, y)),
    })  # fmt: skip
_operator(operator.sub, {
    floats: (floats, lambda b, x, y: b.fsub(x, y, flags=_FUSED)),
    ints: (ints, lambda b, x, y: b.sub(x, y)),
})  # fmt: skip
_operator(operator.mul, {
    floats: (floats, lambda b, x, y: b.fmul(x, y, flags=_FUSED)),
    ints: (ints, lambda b, x, y: b.mul(x, y)),
})  # fmt: skip
_operator(operator.truediv, {floats: (floats, lambda b, x, y: b.fdiv(x, y))})
_operator(operator.neg, {floats: (floats, lambda b, x: b.fneg(x))}, 1)
_operator(operator.invert, {mask: (mask, lambda b, x: b.not_(x))}, 1)
_operator(operator.lshift, {ints: (ints, lambda b, x, y: b.shl(x, y))})
_operator(operator.rshift, {ints: (ints, lambda b, x, y: b.lshr(x, y))})
_operator(math.sqrt, {floats: (floats, _own("sqrt"))}, 1)
_operator(math.floor, {floats: (floats, _own("floor"))}, 1)
_operator(abs, {floats: (floats, _own("fabs"))}, 1)
for _function, _name in ((operator.and_, "and_"), (operator.or_, "or_"), (operator.xor, "xor")):
    _bits = {
        kind: (kind, lambda b, x, y, name=_name: getattr(b, name)(x, y)) for kind in (ints, mask)
    }  # fmt: skip
    _operator(_function, _bits)
for _function, _name in (
    (operator.lt, "<"), (operator.le, "<="), (operator.gt, ">"),
    (operator.ge, ">="), (operator.eq, "=="), (operator.ne, "!="),
):  # fmt: skip
    _operator(_function, {
        floats: (mask, lambda b, x, y, test=_name: b.fcmp_ordered(test, x, y)),
        ints: (mask, lambda b, x, y, test=_name: b.icmp_signed(test, x, y)),
    })  # fmt: skip
for _function, _name in ((min, "<"), (max, ">")):
    _operator(_function, {
        floats: (floats, lambda b, x, y, test=_name: b.select(b.fcmp_ordered(test, x, y), x, y)),
        ints: (ints, lambda b, x, y, test=_name: b.select(b.icmp_signed(test, x, y), x, y)),
    })  # fmt: skip


# --- Choices and conversions -----------------------------------------------------------------


@intrinsic
def where(typing_context, test, a, b):
    """In each lane `a` where `test` holds, else `b`."""
    lanes = [kind for kind in (a, b) if isinstance(kind, LaneType)]
    whole = isinstance(a, types.Integer) and isinstance(b, types.Integer)
    kind = lanes[0] if lanes else ints if whole else floats

    def generate(context, builder, signature, arguments):
        return builder.select(*arguments)

    return kind(mask, kind, kind), generate


@intrinsic
def any_of(typing_context, test):
    """Whether a mask holds in any lane."""

    def generate(context, builder, signature, arguments):
        bits = builder.bitcast(arguments[0], ir.IntType(LANES))
        return builder.icmp_unsigned("!=", bits, ir.Constant(bits.type, 0))

    return types.boolean(mask), generate


@intrinsic
def bits_of(typing_context, test):
    """A mask as an integer, one bit for each lane."""

    def generate(context, builder, signature, arguments):
        return builder.zext(builder.bitcast(arguments[0], ir.IntType(LANES)), _LONG)

    return types.int64(mask), generate


@intrinsic
def mask_of(typing_context, bits):
    """A mask from an integer, one bit for each lane."""

    def generate(context, builder, signature, arguments):
        return builder.bitcast(builder.trunc(arguments[0], ir.IntType(LANES)), _vector(_BIT))

    return mask(types.int64), generate


@intrinsic
def lowest_bit(typing_context, bits):
    """The number of the lowest bit that is set."""

    def generate(context, builder, signature, arguments):
        return builder.cttz(arguments[0], ir.Constant(_BIT, 1))

    return types.int64(types.int64), generate


@intrinsic
def count_of(typing_context, test):
    """In how many lanes a mask holds."""

    def generate(context, builder, signature, arguments):
        bits = builder.bitcast(arguments[0], ir.IntType(LANES))
        return builder.zext(builder.ctpop(bits), _LONG)

    return types.int64(mask), generate


@intrinsic
def to_ints(typing_context, x):
    """Floats without their fractions; only for numbers that fit."""

    def generate(context, builder, signature, arguments):
        return builder.fptosi(arguments[0], _vector(_WORD))

    return ints(floats), generate


@intrinsic
def to_floats(typing_context, x):
    """Signed integers as floats."""

    def generate(context, builder, signature, arguments):
        return builder.sitofp(arguments[0], _vector(_FLOAT))

    return floats(ints), generate


@intrinsic
def lane_numbers(typing_context):
    """0, 1, 2 … for the lanes from first to last."""

    def generate(context, builder, signature, arguments):
        return ir.Constant(_vector(_WORD), list(range(LANES)))

    return ints(), generate


@intrinsic
def all_lanes(typing_context, number):
    """A number spread over all lanes; lanes stay what they are."""
    whole = ints if isinstance(number, types.Integer) else floats
    kind = number if isinstance(number, LaneType) else whole

    def generate(context, builder, signature, arguments):
        return arguments[0]

    return kind(kind), generate


@intrinsic
def first_of(typing_context, number):
    """The number in the first lane."""
    scalar = {ints: types.int64, floats: types.float32}[number]

    def generate(context, builder, signature, arguments):
        value = builder.extract_element(arguments[0], ir.Constant(_WORD, 0))
        return builder.sext(value, _LONG) if number is ints else value

    return scalar(number), generate


# --- Memory ----------------------------------------------------------------------------------

_KIND_OF = {types.float32: floats, types.int32: ints, types.int64: places}
_SHORT = {floats: "f32", ints: "i32", places: "i64"}


def _gather(builder, kind, pointers):
    name = f"llvm.masked.gather.v{LANES}{_SHORT[kind]}.v{LANES}p0"
    nothing = ir.Constant(_vector(kind.element), ir.Undefined)
    align = ir.Constant(_WORD, 4)
    return _call(builder, name, nothing.type, pointers, align, _every(_BIT, 1), nothing)


def _pointers(builder, base, index, element):
    """A pointer for each lane: `index` elements from a scalar pointer.

    Said in this way, with 32-bit indices, the processor gathers sixteen in one go.
    """
    return builder.gep(_spread(builder, base), [index], source_etype=element)


def _each_own(builder, addresses, index, element):
    """A pointer for each lane: `index` elements from the lane's own address."""
    own = builder.inttoptr(addresses, _vector(ir.PointerType()))
    return builder.gep(own, [index], source_etype=element)


@infer_global(operator.getitem)
class _Gathered(AbstractTemplate):  # type: ignore[misc]
    def generic(self, arguments, keywords):
        pointer, index = arguments
        if isinstance(pointer, types.CPointer | LanePointer) and index is ints:
            return signature(_KIND_OF[pointer.dtype], pointer, ints)
        return None


@lower_builtin(operator.getitem, types.CPointer, ints)
def _gather_from_array(context, builder, signature, arguments):
    kind = signature.return_type
    return _gather(builder, kind, _pointers(builder, arguments[0], arguments[1], kind.element))


@lower_builtin(operator.getitem, LanePointer, ints)
def _gather_from_arrays(context, builder, signature, arguments):
    kind = signature.return_type
    return _gather(builder, kind, _each_own(builder, arguments[0], arguments[1], kind.element))


@intrinsic
def floats_of(typing_context, address):
    """An array of float32 for each lane, from `places`."""

    def generate(context, builder, signature, arguments):
        return arguments[0]

    return LanePointer(types.float32)(places), generate


@intrinsic
def ints_of(typing_context, address):
    """An array of int32 for each lane, from `places`."""

    def generate(context, builder, signature, arguments):
        return arguments[0]

    return LanePointer(types.int32)(places), generate


def records(dtype: np.dtype[Any]) -> Callable[[int, Any], Any]:
    """A function for kernels: (address of a table of `dtype`, rows) → a record for each lane.

    A field of f4, i4 or i8 reads as floats, ints or places; a field of several as a tuple.  With
    one row for all lanes, fields are read when they are asked for, and spread.  Otherwise each
    lane's record is read whole, up to a multiple of 64 bytes: see `memory.table`.
    """
    size = dtype.itemsize

    @intrinsic
    def at(typing_context, address, rows):
        same = isinstance(rows, types.Integer)
        record = LaneRecord(dtype, same)

        def generate(context, builder, signature, arguments):
            made = cgutils.create_struct_proxy(record)(context, builder)
            address, rows = arguments
            if same:
                made.address = builder.add(address, builder.mul(rows, ir.Constant(_LONG, size)))
                return made._getvalue()
            table, words = builder.inttoptr(address, ir.PointerType()), []
            for start in range(0, size, 4 * LANES):
                place = builder.add(builder.mul(rows, _every(_WORD, size // 4)), _every(_WORD, start // 4))
                words += _read_rows(builder, ints, table, place)
            made.words = context.make_tuple(builder, types.UniTuple(ints, len(words)), words)
            return made._getvalue()

        return record(types.int64, types.int64 if same else ints), generate

    return at


_FIELD_KINDS = {"f4": floats, "i4": ints, "i8": places}


def _field_type(dtype: np.dtype[Any], name: str) -> tuple[LaneType, int]:
    base, shape = dtype[name].subdtype or (dtype[name], ())
    return _FIELD_KINDS[base.str[1:]], int(np.prod(shape, dtype=int)) if shape else 0


@infer_getattr
class _Fields(AttributeTemplate):  # type: ignore[misc]
    key = LaneRecord

    def generic_resolve(self, record, name):
        if name not in record.dtype.names:
            return None
        kind, count = _field_type(record.dtype, name)
        return types.UniTuple(kind, count) if count else kind


@lower_getattr_generic(LaneRecord)
def _read_field(context, builder, record, value, name):
    kind, count = _field_type(record.dtype, name)
    start, step = record.dtype.fields[name][1], 8 if kind is places else 4
    held = cgutils.create_struct_proxy(record)(context, builder, value=value)

    def read(place):
        if record.same:
            address = builder.add(held.address, ir.Constant(_LONG, place))
            pointer = builder.inttoptr(address, ir.PointerType())
            return _spread(builder, builder.load(pointer, typ=kind.element))
        word = builder.extract_value(held.words, place // 4)
        if kind is places:
            low, high = (
                builder.zext(part, _vector(_LONG))
                for part in (word, builder.extract_value(held.words, place // 4 + 1))
            )
            return builder.or_(low, builder.shl(high, _every(_LONG, 32)))
        return word if kind is ints else builder.bitcast(word, _vector(kind.element))

    parts = [read(start + step * i) for i in range(max(count, 1))]
    return context.make_tuple(builder, types.UniTuple(kind, count), parts) if count else parts[0]


def _element(builder, pointer, index):
    at = builder.add(builder.ptrtoint(pointer, _LONG), builder.mul(index, ir.Constant(_LONG, 4)))
    return builder.inttoptr(at, ir.PointerType())


@intrinsic
def load(typing_context, pointer, index):
    """Sixteen neighbours of an array from `index` on."""
    kind = _KIND_OF[pointer.dtype]

    def generate(context, builder, signature, arguments):
        value = builder.load(_element(builder, *arguments), typ=_vector(kind.element))
        value.align = 4
        return value

    return kind(pointer, types.int64), generate


@intrinsic
def load_rows(typing_context, pointer, index):
    """For each lane sixteen neighbours from its own `index` on, as sixteen lanes' values.

    A row is read whole and the square of rows and lanes is transposed, which takes a sixth of
    the time that sixteen gathers take.
    """
    kind = _KIND_OF[pointer.dtype]

    def generate(context, builder, signature, arguments):
        columns = _read_rows(builder, kind, *arguments)
        return context.make_tuple(builder, signature.return_type, columns)

    return types.UniTuple(kind, LANES)(pointer, ints), generate


@intrinsic
def store_rows(typing_context, pointer, index, columns):
    """Write a tuple of lanes to an array from `index` on, one after the other."""

    def generate(context, builder, signature, arguments):
        pointer, index, columns = arguments
        for i in range(len(signature.args[2])):
            place = builder.add(index, ir.Constant(_LONG, i * LANES))
            value = builder.extract_value(columns, i)
            builder.store(value, _element(builder, pointer, place)).align = 4
        return context.get_dummy_value()

    return types.void(pointer, types.int64, columns), generate


def _read_rows(builder, kind, pointer, index):
    rows = []
    for lane in range(LANES):
        first = builder.sext(builder.extract_element(index, ir.Constant(_WORD, lane)), _LONG)
        row = builder.load(_element(builder, pointer, first), typ=_vector(kind.element))
        row.align = 4
        rows.append(row)
    return _transposed(builder, rows)


def _transposed(builder, rows):
    """Columns of a square: in step after step, halves of two rows change places."""
    step = LANES // 2
    while step:
        low, high = [], []
        for i in range(LANES):
            kept = i & ~step  # where lane i of the upper row comes from: itself, or its partner
            low.append(i if not i & step else LANES + kept)
            high.append(i | step if not i & step else LANES + i)
        for i in range(LANES):
            if not i & step:
                a, b = rows[i], rows[i + step]
                for place, order in ((i, low), (i + step, high)):
                    chosen = ir.Constant(_vector(_WORD), order)
                    rows[place] = builder.shuffle_vector(a, b, chosen)
        step //= 2
    return rows


@intrinsic
def store(typing_context, pointer, index, value):
    """Write all lanes to an array from `index` on."""
    kind = _KIND_OF[pointer.dtype]

    def generate(context, builder, signature, arguments):
        written = builder.store(arguments[2], _element(builder, *arguments[:2]))
        written.align = 4
        return context.get_dummy_value()

    return types.void(pointer, types.int64, kind), generate


@intrinsic
def store_packed(typing_context, pointer, index, value, test):
    """Write the lanes of a mask side by side to an array from `index` on."""
    kind = _KIND_OF[pointer.dtype]

    def generate(context, builder, signature, arguments):
        place = _element(builder, *arguments[:2])
        name = f"llvm.masked.compressstore.v{LANES}{_SHORT[kind]}"
        _call(builder, name, ir.VoidType(), arguments[2], place, arguments[3])
        return context.get_dummy_value()

    return types.void(pointer, types.int64, kind, mask), generate


@intrinsic
def scatter_to(typing_context, pointer, index, value, test):
    """Write the lanes of a mask, each to its own index of an array."""
    kind = _KIND_OF[pointer.dtype]

    def generate(context, builder, signature, arguments):
        pointer, index, value, test = arguments
        pointers = _pointers(builder, pointer, index, kind.element)
        name = f"llvm.masked.scatter.v{LANES}{_SHORT[kind]}.v{LANES}p0"
        _call(builder, name, ir.VoidType(), value, pointers, ir.Constant(_WORD, 4), test)
        return context.get_dummy_value()

    return types.void(pointer, ints, kind, mask), generate
