"""Eight numbers in one: the vectors on which compiled code works where variants go side by side.

Each operation takes vectors and plain numbers alike and gives what the same operation on plain
numbers gives in each lane, to the last bit. Where lanes would have to go different ways, masks
(vectors of flags) tell which lane takes what.
"""

import math
from collections.abc import Callable, Sequence
from typing import Any

from llvmlite import ir
from numba.core import cgutils, types
from numba.extending import intrinsic, models, register_model

LANES = 8

_ORDER = (types.boolean, types.int64, types.float32, types.float64)
PLAIN: dict[Any, Any] = {types.boolean: ir.IntType(1), types.int64: ir.IntType(64),
          types.float32: ir.FloatType(), types.float64: ir.DoubleType()}  # fmt: skip


class Lanes(types.Type):
    """A vector of eight numbers of one kind."""

    def __init__(self, of: types.Type) -> None:
        self.of = of
        super().__init__(name=f"Lanes({of})")


@register_model(Lanes)
class _LanesModel(models.PrimitiveModel):  # type: ignore[misc]
    def __init__(self, dmm: Any, fe_type: Lanes) -> None:
        super().__init__(dmm, fe_type, ir.VectorType(PLAIN[fe_type.of], LANES))


def _kind(given: types.Type) -> types.Type:
    """Return the kind of the numbers in a vector, or of a plain one."""
    if isinstance(given, Lanes):
        return given.of
    given = types.unliteral(given)  # type: ignore[attr-defined]
    if isinstance(given, types.Integer):
        return types.int64
    return given


def _common(*given: types.Type) -> types.Type:
    """Return the kind that an operation on kinds works in, as plain code has it."""
    kinds = {_kind(one) for one in given}
    if kinds == {types.float32, types.int64}:
        return types.float64
    return max(kinds, key=_ORDER.index)


def splat(builder: ir.IRBuilder, value: ir.Value) -> ir.Value:
    """Return a plain value in all lanes."""
    vector = ir.VectorType(value.type, LANES)
    place = ir.IntType(32)
    one = builder.insert_element(ir.Constant(vector, ir.Undefined), value, place(0))
    mask = ir.Constant(ir.VectorType(place, LANES), [0] * LANES)
    return builder.shuffle_vector(one, ir.Constant(vector, ir.Undefined), mask)


def _convert(builder: ir.IRBuilder, value: ir.Value, old: types.Type, new: types.Type) -> ir.Value:
    """Convert each lane of a vector to another kind."""
    if old == new:
        return value
    into = ir.VectorType(PLAIN[new], LANES)
    if old == types.boolean:
        if new == types.int64:
            return builder.zext(value, into)
        return builder.uitofp(value, into)
    if old == types.int64:
        return builder.sitofp(value, into)
    return builder.fpext(value, into) if new == types.float64 else builder.fptrunc(value, into)


def widened(
    context: Any, builder: ir.IRBuilder, value: ir.Value, given: types.Type, of: types.Type
) -> ir.Value:
    """Return a value as a vector of a kind."""
    if isinstance(given, Lanes):
        return _convert(builder, value, given.of, of)
    return splat(builder, context.cast(builder, value, given, of))


def bits(builder: ir.IRBuilder, flags: ir.Value) -> ir.Value:
    """Return flags as the bits of one number."""
    return builder.bitcast(flags, ir.IntType(LANES))


def _intrinsic_of(builder: ir.IRBuilder, name: str, *values: ir.Value) -> ir.Value:
    """Call one of LLVM's own functions on whole vectors."""
    vector = values[0].type
    letter = "f64" if vector.element == ir.DoubleType() else "f32"
    kind = ir.FunctionType(vector, [vector] * len(values))
    found = cgutils.get_or_insert_function(builder.module, kind, f"llvm.{name}.v{LANES}{letter}")
    return builder.call(found, values)


def _taking(many: int, typed: Callable[[Sequence[types.Type]], tuple[Any, Any]]) -> Any:
    """Return a compiled function of one argument or two."""

    @intrinsic
    def one(typingctx: Any, a: Any) -> Any:
        return typed((a,))

    @intrinsic
    def two(typingctx: Any, a: Any, b: Any) -> Any:
        return typed((a, b))

    return one if many == 1 else two


Emit = Callable[[ir.IRBuilder, types.Type, Sequence[ir.Value]], ir.Value]


def _operation(many: int, emit: Emit, *, gives: types.Type | None = None,
               floats: bool = False) -> Any:  # fmt: skip
    """Return a function of `many` vectors or plain numbers, one of them a vector."""

    def typed(given: Sequence[types.Type]) -> tuple[Any, Any]:
        of = _common(*given)
        if floats and of in (types.boolean, types.int64):
            of = types.float64

        def made(context: Any, builder: ir.IRBuilder, sig: Any, args: Any) -> ir.Value:
            values = [widened(context, builder, value, kind, of)
                      for value, kind in zip(args, sig.args, strict=True)]  # fmt: skip
            return emit(builder, of, values)

        return Lanes(gives or of)(*given), made

    return _taking(many, typed)


def _arithmetic(whole: str, real: str) -> Emit:
    def emit(builder: ir.IRBuilder, of: types.Type, values: Sequence[ir.Value]) -> ir.Value:
        return getattr(builder, real if of in _ORDER[2:] else whole)(*values)

    return emit


def compared(sign: str) -> Emit:
    """Return what compares two vectors."""

    def emit(builder: ir.IRBuilder, of: types.Type, values: Sequence[ir.Value]) -> ir.Value:
        if of not in _ORDER[2:]:
            return builder.icmp_signed(sign, *values)
        if sign == "!=":
            return builder.fcmp_unordered(sign, *values)
        return builder.fcmp_ordered(sign, *values)

    return emit


def _least(sign: str) -> Emit:
    """Return the later of two where it is further, as plain code has it."""

    def emit(builder: ir.IRBuilder, of: types.Type, values: Sequence[ir.Value]) -> ir.Value:
        a, b = values
        return builder.select(compared(sign)(builder, of, (b, a)), b, a)

    return emit


def _rounded(name: str) -> Emit:
    """Round; a whole number has no negative zero."""

    def emit(builder: ir.IRBuilder, of: types.Type, values: Sequence[ir.Value]) -> ir.Value:
        found = _intrinsic_of(builder, name, values[0])
        return builder.fadd(found, ir.Constant(found.type, [0.0] * LANES))

    return emit


def _called(name: str) -> Emit:
    return lambda builder, of, values: _intrinsic_of(builder, name, *values)


add = _operation(2, _arithmetic("add", "fadd"))
sub = _operation(2, _arithmetic("sub", "fsub"))
mul = _operation(2, _arithmetic("mul", "fmul"))
div = _operation(2, _arithmetic("sdiv", "fdiv"), floats=True)
less = _operation(2, compared("<"), gives=types.boolean)
less_equal = _operation(2, compared("<="), gives=types.boolean)
more = _operation(2, compared(">"), gives=types.boolean)
more_equal = _operation(2, compared(">="), gives=types.boolean)
equal = _operation(2, compared("=="), gives=types.boolean)
differ = _operation(2, compared("!="), gives=types.boolean)
both = _operation(2, lambda builder, of, values: builder.and_(*values))
either = _operation(2, lambda builder, of, values: builder.or_(*values))
flip = _operation(1, lambda builder, of, values: builder.not_(values[0]))
neg = _operation(1, lambda builder, of, values: builder.fneg(values[0]), floats=True)
size = _operation(1, _called("fabs"), floats=True)
least = _operation(2, _least("<"))
most = _operation(2, _least(">"))
root = _operation(1, _called("sqrt"), floats=True)
floor = _operation(1, _rounded("floor"), floats=True)
nearest = _operation(1, _rounded("rint"), floats=True)
signed = _operation(2, _called("copysign"), floats=True)


def _as_kind(of: types.Type) -> Any:
    @intrinsic
    def converted(typingctx: Any, a: Any) -> Any:
        def made(context: Any, builder: ir.IRBuilder, sig: Any, args: Any) -> ir.Value:
            return widened(context, builder, args[0], sig.args[0], of)

        return Lanes(of)(a), made

    return converted


single, double = _as_kind(types.float32), _as_kind(types.float64)


@intrinsic
def wide(typingctx: Any, a: Any) -> Any:
    """Return a number in all lanes; a vector as it is."""
    of = _kind(a)

    def made(context: Any, builder: ir.IRBuilder, sig: Any, args: Any) -> ir.Value:
        return widened(context, builder, args[0], sig.args[0], of)

    return Lanes(of)(a), made


@intrinsic
def pick(typingctx: Any, which: Any, a: Any, b: Any) -> Any:
    """Return, in each lane, `a` where the flag is set, else `b`."""
    of = _common(a, b)

    def made(context: Any, builder: ir.IRBuilder, sig: Any, args: Any) -> ir.Value:
        flags = widened(context, builder, args[0], sig.args[0], types.boolean)
        x, y = (widened(context, builder, args[n], sig.args[n], of) for n in (1, 2))
        return builder.select(flags, x, y)

    return Lanes(of)(which, a, b), made


@intrinsic
def some(typingctx: Any, flags: Any) -> Any:
    """Return whether any flag is set."""

    def made(context: Any, builder: ir.IRBuilder, sig: Any, args: Any) -> ir.Value:
        if not isinstance(sig.args[0], Lanes):
            return args[0]
        return builder.icmp_unsigned("!=", bits(builder, args[0]), ir.IntType(LANES)(0))

    return types.boolean(flags), made


def _put_together(builder: ir.IRBuilder, of: types.Type, values: Sequence[ir.Value]) -> ir.Value:
    """Put doubles together of their exponents alone."""
    vector = ir.VectorType(ir.IntType(64), LANES)
    whole = builder.bitcast(values[0], vector)
    up = builder.add(whole, ir.Constant(vector, [1023] * LANES))
    bits = builder.shl(up, ir.Constant(vector, [52] * LANES))
    return builder.bitcast(bits, ir.VectorType(ir.DoubleType(), LANES))


power_of_two = _operation(1, _put_together, gives=types.float64)


def _each(plain: Any, many: int) -> Any:
    """Return a function that does one lane after another what plain code does."""

    def typed(given: Sequence[types.Type]) -> tuple[Any, Any]:
        def made(context: Any, builder: ir.IRBuilder, sig: Any, args: Any) -> ir.Value:
            values = [widened(context, builder, value, kind, types.float64)
                      for value, kind in zip(args, sig.args, strict=True)]  # fmt: skip
            call = context.get_function(plain, types.float64(*[types.float64] * many))
            found = ir.Constant(values[0].type, ir.Undefined)
            for n in range(LANES):
                at = ir.IntType(32)(n)
                one = call(builder, [builder.extract_element(v, at) for v in values])
                found = builder.insert_element(found, one, at)
            return found

        return Lanes(types.float64)(*given), made

    return _taking(many, typed)


each_exp = _each(math.exp, 1)
each_sin, each_cos = _each(math.sin, 1), _each(math.cos, 1)
each_atan2, each_hypot = _each(math.atan2, 2), _each(math.hypot, 2)
