"""How kernels reach memory: arrays and tables by address, lanes from them and back; see `kernel_memory`."""

from __future__ import annotations

import operator
from collections.abc import Callable
from inspect import Parameter, Signature
from typing import Any

import numpy as np
from llvmlite import ir
from numba import types
from numba.core import cgutils
from numba.core.imputils import lower_getattr_generic
from numba.core.typing.templates import (
    AbstractTemplate,
    AttributeTemplate,
    infer_getattr,
    infer_global,
    signature,
)
from numba.extending import intrinsic, lower_builtin, models, register_model
from numba.np.numpy_support import from_dtype

from grandlattice.tracer.compiling.lane_types import (
    BIT,
    FLOAT,
    LONG,
    WORD,
    LaneType,
    call_own,
    every,
    floats,
    ints,
    mask,
    places,
    spread,
    vector,
)
from grandlattice.tracer.lanes import LANES

# mypy: disable-error-code="no-untyped-def"


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


@register_model(LanePointer)
class _PointerModel(models.PrimitiveModel):  # type: ignore[misc]
    def __init__(self, manager, lane):
        super().__init__(manager, lane, vector(LONG))


@register_model(LaneRecord)
class _RecordModel(models.StructModel):  # type: ignore[misc]
    def __init__(self, manager, record):
        address, words = types.int64, types.UniTuple(ints, LANES * record.rows)
        held = [("address", address)] if record.same else [("words", words)]
        super().__init__(manager, record, held)


def numbers(name: str) -> Callable[[Any], Any]:
    """A function for kernels: the address of an array → the array.

    From `places`, an address for each lane, it is an array for each lane.
    """
    kind = getattr(types, name)
    pointer, pointers = types.CPointer(kind), LanePointer(kind)

    @intrinsic
    def at(typing_context, address):
        each = address is places

        def generate(context, builder, signature, arguments):
            if each:
                return arguments[0]
            return builder.inttoptr(arguments[0], context.get_value_type(pointer))

        return pointers(places) if each else pointer(types.int64), generate

    return at


def record(dtype: np.dtype[Any]) -> Callable[[int], Any]:
    """A function for kernels: the address of one record of `dtype` → the record."""
    kind = from_dtype(dtype)

    @intrinsic
    def at(typing_context, address):
        def generate(context, builder, signature, arguments):
            return builder.inttoptr(arguments[0], context.get_value_type(kind))

        return kind(types.int64), generate

    return at


# --- Lanes from memory, and back ------------------------------------------------------------

_KIND_OF = {types.float32: floats, types.int32: ints, types.int64: places}
_SHORT = {floats: "f32", ints: "i32", places: "i64"}


def _gather(builder, kind, pointers):
    name = f"llvm.masked.gather.v{LANES}{_SHORT[kind]}.v{LANES}p0"
    nothing = ir.Constant(vector(kind.element), ir.Undefined)
    align = ir.Constant(WORD, 4)
    return call_own(builder, name, nothing.type, pointers, align, every(BIT, 1), nothing)


def _pointers(builder, base, index, element):
    """A pointer for each lane: `index` elements from a scalar pointer.

    Said in this way, with 32-bit indices, the processor gathers sixteen in one go.
    """
    return builder.gep(spread(builder, base), [index], source_etype=element)


def _each_own(builder, addresses, index, element):
    """A pointer for each lane: `index` elements from the lane's own address."""
    own = builder.inttoptr(addresses, vector(ir.PointerType()))
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


def records(dtype: np.dtype[Any]) -> Callable[[int, Any], Any]:
    """A function for kernels: (address of a table of `dtype`, rows) → a record for each lane.

    A field of f4, i4 or i8 reads as floats, ints or places; a field of several as a tuple.  With
    one row for all lanes, fields are read when they are asked for, and spread.  Otherwise each
    lane's record is read whole, up to a multiple of 64 bytes: see `table`.
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
                made.address = builder.add(address, builder.mul(rows, ir.Constant(LONG, size)))
                return made._getvalue()
            table, words = builder.inttoptr(address, ir.PointerType()), []
            for start in range(0, size, 4 * LANES):
                place = builder.add(builder.mul(rows, every(WORD, size // 4)), every(WORD, start // 4))
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
            address = builder.add(held.address, ir.Constant(LONG, place))
            pointer = builder.inttoptr(address, ir.PointerType())
            return spread(builder, builder.load(pointer, typ=kind.element))
        word = builder.extract_value(held.words, place // 4)
        if kind is places:
            low, high = (
                builder.zext(part, vector(LONG))
                for part in (word, builder.extract_value(held.words, place // 4 + 1))
            )
            return builder.or_(low, builder.shl(high, every(LONG, 32)))
        return word if kind is ints else builder.bitcast(word, vector(kind.element))

    parts = [read(start + step * i) for i in range(max(count, 1))]
    return context.make_tuple(builder, types.UniTuple(kind, count), parts) if count else parts[0]


def _element(builder, pointer, index):
    at = builder.add(builder.ptrtoint(pointer, LONG), builder.mul(index, ir.Constant(LONG, 4)))
    return builder.inttoptr(at, ir.PointerType())


@intrinsic
def load(typing_context, pointer, index):
    """Sixteen neighbours of an array from `index` on."""
    kind = _KIND_OF[pointer.dtype]

    def generate(context, builder, signature, arguments):
        value = builder.load(_element(builder, *arguments), typ=vector(kind.element))
        value.align = 4
        return value

    return kind(pointer, types.int64), generate


@intrinsic
def load_rows(typing_context, pointer, index):
    """For each lane sixteen neighbours from its own `index` on, as sixteen lanes' values.

    A row is read whole, and the square of rows and lanes is transposed.
    """
    kind = _KIND_OF[pointer.dtype]

    def generate(context, builder, signature, arguments):
        columns = _read_rows(builder, kind, *arguments)
        return context.make_tuple(builder, signature.return_type, columns)

    return types.UniTuple(kind, LANES)(pointer, ints), generate


@intrinsic
def row_sums(typing_context, pointer, index, count):
    """For each lane the sum of `count` neighbours, 16 at most, from its own `index` on, one after the other.

    What is no number, or not finite, is left out.
    """

    def generate(context, builder, signature, arguments):
        pointer, index, count = arguments
        most, total = every(FLOAT, 3e38), every(FLOAT, 0.0)
        for j, column in enumerate(_read_rows(builder, floats, pointer, index)):
            size = call_own(builder, f"llvm.fabs.v{LANES}f32", column.type, column)
            sane = builder.fcmp_ordered("<", size, most)
            counts = builder.icmp_signed("<", ir.Constant(LONG, j), count)
            counted = builder.and_(sane, spread(builder, counts))
            total = builder.fadd(total, builder.select(counted, column, every(FLOAT, 0.0)))
        return total

    return floats(pointer, ints, types.int64), generate


@intrinsic
def store_rows(typing_context, pointer, index, columns):
    """Write a tuple of lanes to an array from `index` on, one after the other."""

    def generate(context, builder, signature, arguments):
        pointer, index, columns = arguments
        for i in range(len(signature.args[2])):
            place = builder.add(index, ir.Constant(LONG, i * LANES))
            value = builder.extract_value(columns, i)
            builder.store(value, _element(builder, pointer, place)).align = 4
        return context.get_dummy_value()

    return types.void(pointer, types.int64, columns), generate


@intrinsic
def store_columns(typing_context, pointer, index, step, columns):
    """Write for each lane what it has in sixteen lanes side by side, each lane's `step` after the other's.

    `columns` may be floats and ints.
    """

    def generate(context, builder, signature, arguments):
        pointer, index, step, columns = arguments
        parts = [builder.bitcast(builder.extract_value(columns, i), vector(WORD)) for i in range(LANES)]
        for lane, row in enumerate(_transposed(builder, parts)):
            place = builder.add(index, builder.mul(step, ir.Constant(LONG, lane)))
            builder.store(row, _element(builder, pointer, place)).align = 4
        return context.get_dummy_value()

    return types.void(pointer, types.int64, types.int64, columns), generate


def _read_rows(builder, kind, pointer, index):
    rows = []
    for lane in range(LANES):
        first = builder.sext(builder.extract_element(index, ir.Constant(WORD, lane)), LONG)
        row = builder.load(_element(builder, pointer, first), typ=vector(kind.element))
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
                    chosen = ir.Constant(vector(WORD), order)
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
        call_own(builder, name, ir.VoidType(), arguments[2], place, arguments[3])
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
        call_own(builder, name, ir.VoidType(), value, pointers, ir.Constant(WORD, 4), test)
        return context.get_dummy_value()

    return types.void(pointer, ints, kind, mask), generate


def other_fields(kind: type[Any]) -> Callable[..., Any]:
    """A function for kernels: (a named tuple of `kind`, values by name) → the same with these values."""
    names = kind._fields

    def change(typing_context, given, **values):
        kinds = [own if name in values else types.none for name, own in zip(names, given.types, strict=True)]

        def generate(context, builder, signature, arguments):
            made = arguments[0]
            for k, name in enumerate(names):
                if name in values:
                    made = builder.insert_value(made, arguments[1 + k], k)
            return made

        return given(given, *kinds), generate

    parameters = [Parameter(name, Parameter.POSITIONAL_OR_KEYWORD) for name in ("typing_context", "given")]
    parameters += [Parameter(name, Parameter.POSITIONAL_OR_KEYWORD, default=None) for name in names]
    change.__signature__ = Signature(parameters)  # type: ignore[attr-defined]
    return intrinsic(change)
