"""Sixteen numbers at a time: the processor's vectors as types of numba; see `lanes`.

How wide the processor's own vectors are is the compiler's business.
"""

from __future__ import annotations

import math
import operator
from collections.abc import Callable
from typing import Any

from llvmlite import ir
from numba import types
from numba.core import cgutils
from numba.core.typeconv import Conversion
from numba.core.typing.templates import (
    AbstractTemplate,
    infer_global,
    signature,
)
from numba.extending import intrinsic, lower_builtin, lower_cast, models, register_model

from grandlattice.tracer.lanes import LANES, inner

# mypy: disable-error-code="no-untyped-def"

BIT, WORD, LONG, FLOAT = ir.IntType(1), ir.IntType(32), ir.IntType(64), ir.FloatType()


class LaneType(types.Type):  # type: ignore[misc]
    """The type of sixteen numbers of one kind."""

    def __init__(self, name: str, element: Any, scalar: types.Type) -> None:
        self.element, self.scalar = element, scalar
        super().__init__(f"{name}[{LANES}]")

    def can_convert_from(self, typing_context, other):
        return Conversion.safe if isinstance(other, types.Number | types.Boolean) else None

    def unify(self, typing_context, other):
        return self if isinstance(other, types.Number | types.Boolean) else None


floats = LaneType("floats", FLOAT, types.float32)
ints = LaneType("ints", WORD, types.int32)
mask = LaneType("mask", BIT, types.boolean)
places = LaneType("places", LONG, types.int64)
"""Kinds of lanes: single precision, 32-bit integers (`>>` shifts zeros in), truth, addresses."""


# What generated code is made of; `pointer_types` uses it too.


def vector(element: Any) -> Any:
    return ir.VectorType(element, LANES)


@register_model(LaneType)
class _LaneModel(models.PrimitiveModel):  # type: ignore[misc]
    def __init__(self, manager, lane):
        super().__init__(manager, lane, vector(lane.element))


def spread(builder, scalar):
    """The same scalar in every lane."""
    nothing = ir.Constant(vector(scalar.type), ir.Undefined)
    one = builder.insert_element(nothing, scalar, ir.Constant(WORD, 0))
    return builder.shuffle_vector(one, nothing, ir.Constant(vector(WORD), [0] * LANES))


def every(element, value):
    return ir.Constant(vector(element), [value] * LANES)


@lower_cast(types.Number, LaneType)
@lower_cast(types.Boolean, LaneType)
def _spread_number(context, builder, source, target, value):
    scalar = context.cast(builder, value, source, target.scalar)
    if target is mask:
        scalar = builder.trunc(scalar, BIT) if scalar.type != BIT else scalar
    return spread(builder, scalar)


def call_own(builder, name: str, result, *values):
    """Call a function of the compiler's own, by name."""
    kind = ir.FunctionType(result, [value.type for value in values])
    return builder.call(cgutils.get_or_insert_function(builder.module, kind, name), values)


# --- Operators -------------------------------------------------------------------------------


OPERATIONS: set[Any] = {operator.getitem}
"""What numba is taught to do with lanes."""


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
    OPERATIONS.add(function)


_FUSED = ("contract",)  # products and sums may become one instruction


def _own(name: str) -> Callable[..., Any]:
    return lambda b, x: call_own(b, f"llvm.{name}.v{LANES}f32", x.type, x)


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
        return builder.zext(builder.bitcast(arguments[0], ir.IntType(LANES)), LONG)

    return types.int64(mask), generate


@intrinsic
def mask_of(typing_context, bits):
    """A mask from an integer, one bit for each lane."""

    def generate(context, builder, signature, arguments):
        return builder.bitcast(builder.trunc(arguments[0], ir.IntType(LANES)), vector(BIT))

    return mask(types.int64), generate


@intrinsic
def lowest_bit(typing_context, bits):
    """The number of the lowest bit that is set."""

    def generate(context, builder, signature, arguments):
        return builder.cttz(arguments[0], ir.Constant(BIT, 1))

    return types.int64(types.int64), generate


@intrinsic
def count_of(typing_context, test):
    """In how many lanes a mask holds."""

    def generate(context, builder, signature, arguments):
        bits = builder.bitcast(arguments[0], ir.IntType(LANES))
        return builder.zext(builder.ctpop(bits), LONG)

    return types.int64(mask), generate


@intrinsic
def to_ints(typing_context, x):
    """Floats without their fractions; only for numbers that fit."""

    def generate(context, builder, signature, arguments):
        return builder.fptosi(arguments[0], vector(WORD))

    return ints(floats), generate


@intrinsic
def to_floats(typing_context, x):
    """Signed integers as floats."""

    def generate(context, builder, signature, arguments):
        return builder.sitofp(arguments[0], vector(FLOAT))

    return floats(ints), generate


@intrinsic
def lane_numbers(typing_context):
    """0, 1, 2 … for the lanes from first to last."""

    def generate(context, builder, signature, arguments):
        return ir.Constant(vector(WORD), list(range(LANES)))

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
def power(typing_context, x, y):
    """`x` to the power of `y`, both floats, `x` not below 0."""

    def generate(context, builder, signature, arguments):
        return call_own(builder, f"llvm.pow.v{LANES}f32", arguments[0].type, *arguments)

    return floats(floats, floats), generate


@intrinsic
def _bits_as_ints(typing_context, x):
    """The bits of floats."""

    def generate(context, builder, signature, arguments):
        return builder.bitcast(arguments[0], vector(WORD))

    return ints(floats), generate


@inner
def logarithm(x):
    """To base 2, of positive floats; off by 0.09 at most: their bits are read as if it were a line."""
    return (to_floats(_bits_as_ints(x)) * 1.1920929e-07) - 127.0


@intrinsic
def number_in(typing_context, lanes, lane):
    """The number in one of the lanes, 0 … 15."""
    scalar = {ints: types.int64, floats: types.float32}[lanes]

    def generate(context, builder, signature, arguments):
        value = builder.extract_element(arguments[0], builder.trunc(arguments[1], WORD))
        return builder.sext(value, LONG) if lanes is ints else value

    return scalar(lanes, types.int64), generate
