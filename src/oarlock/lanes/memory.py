"""Vectors in arrays whose last axis is the lanes, and what must be the same in all of them."""

from collections.abc import Callable
from typing import Any

from llvmlite import ir
from numba.core import cgutils, types
from numba.extending import intrinsic

from oarlock.lanes.vectors import LANES, PLAIN, Lanes, bits, compared, splat, widened


def _pointer(context: Any, builder: ir.IRBuilder, kind: Any, value: ir.Value, at: Any) -> ir.Value:
    """Return where a vector lies: as the last axis is the lanes, mostly at a fixed place."""
    assert kind.layout == "C", "vectors lie one behind the other"
    array = context.make_array(kind)(context, builder, value)
    shape, flat = cgutils.unpack_tuple(builder, array.shape), at[0]
    for size, place in zip(shape[1:], at[1:], strict=False):
        flat = builder.add(builder.mul(flat, size), place)
    first = builder.bitcast(array.data, ir.VectorType(PLAIN[kind.dtype], LANES).as_pointer())
    return builder.gep(first, [flat], inbounds=True)


def _places(context: Any, builder: ir.IRBuilder, sig: Any, args: Any, many: int) -> list[ir.Value]:
    return [context.cast(builder, args[n], sig.args[n], types.intp) for n in range(1, 1 + many)]


def _read(many: int, *, stays: bool = False) -> Callable[..., Any]:
    def typed(*given: Any) -> tuple[Any, Any]:
        def made(context: Any, builder: ir.IRBuilder, sig: Any, args: Any) -> ir.Value:
            at = _places(context, builder, sig, args, many)
            found = builder.load(_pointer(context, builder, sig.args[0], args[0], at), align=4)
            if stays:
                found.set_metadata("invariant.load", builder.module.add_metadata([]))
            return found

        return Lanes(given[0].dtype)(*given), made

    return typed


def _written(many: int) -> Callable[..., Any]:
    def typed(*given: Any) -> tuple[Any, Any]:
        def made(context: Any, builder: ir.IRBuilder, sig: Any, args: Any) -> ir.Value:
            at = _places(context, builder, sig, args, many)
            where = _pointer(context, builder, sig.args[0], args[0], at)
            of = sig.args[0].dtype
            value = widened(context, builder, args[-1], sig.args[-1], of)
            flags = widened(context, builder, args[-2], sig.args[-2], types.boolean)
            builder.store(builder.select(flags, value, builder.load(where, align=4)), where,
                          align=4)  # fmt: skip
            return context.get_dummy_value()

        return types.none(*given), made

    return typed


@intrinsic
def get(typingctx: Any, array: Any, i: Any) -> Any:
    """Return the vector at a place of an array (n, lanes)."""
    return _read(1)(array, i)


@intrinsic
def setting(typingctx: Any, array: Any, i: Any) -> Any:
    """Return the same of an array into which nothing is written meanwhile."""
    return _read(1, stays=True)(array, i)


@intrinsic
def get2(typingctx: Any, array: Any, i: Any, j: Any) -> Any:
    """Return the vector at a place of an array (n, m, lanes)."""
    return _read(2)(array, i, j)


@intrinsic
def get3(typingctx: Any, array: Any, i: Any, j: Any, k: Any) -> Any:
    """Return the vector at a place of an array (n, m, l, lanes)."""
    return _read(3)(array, i, j, k)


@intrinsic
def put(typingctx: Any, array: Any, i: Any, on: Any, value: Any) -> Any:
    """Write a vector to a place of an array (n, lanes), where the flag is set."""
    return _written(1)(array, i, on, value)


@intrinsic
def put2(typingctx: Any, array: Any, i: Any, j: Any, on: Any, value: Any) -> Any:
    """Write a vector to a place of an array (n, m, lanes), where the flag is set."""
    return _written(2)(array, i, j, on, value)


@intrinsic
def put3(typingctx: Any, array: Any, i: Any, j: Any, k: Any, on: Any, value: Any) -> Any:
    """Write a vector to a place of an array (n, m, l, lanes), where the flag is set."""
    return _written(3)(array, i, j, k, on, value)


@intrinsic
def same(typingctx: Any, flags: Any, apart: Any) -> Any:
    """Return the flag that all lanes have; where they differ, `apart[0]` becomes 1."""

    def made(context: Any, builder: ir.IRBuilder, sig: Any, args: Any) -> ir.Value:
        if not isinstance(sig.args[0], Lanes):
            return args[0]
        found, none = bits(builder, args[0]), ir.IntType(LANES)(0)
        one_way = builder.icmp_unsigned("==", found, none)
        other = builder.icmp_unsigned("==", found, ir.IntType(LANES)(-1))
        with builder.if_then(builder.not_(builder.or_(one_way, other)), likely=False):
            _part(context, builder, sig.args[1], args[1])
        return builder.trunc(found, ir.IntType(1))

    return types.boolean(flags, apart), made


def _part(context: Any, builder: ir.IRBuilder, kind: Any, value: ir.Value) -> None:
    array = context.make_array(kind)(context, builder, value)
    where = cgutils.get_item_pointer(
        context, builder, kind, array, [context.get_constant(types.intp, 0)]
    )
    builder.store(context.get_constant(types.int64, 1), where)


def _alike(context: Any, builder: ir.IRBuilder, sig: Any, args: Any) -> ir.Value:
    """Return what stands in the first lane, and note where the others have something else."""
    first = builder.extract_element(args[0], ir.IntType(32)(0))
    unlike = compared("!=")(builder, sig.args[0].of, (args[0], splat(builder, first)))
    some_ = builder.icmp_unsigned("!=", bits(builder, unlike), ir.IntType(LANES)(0))
    with builder.if_then(some_, likely=False):
        _part(context, builder, sig.args[1], args[1])
    return first


@intrinsic
def same_number(typingctx: Any, a: Any, apart: Any) -> Any:
    """Return the number that all lanes have; where they differ, `apart[0]` becomes 1."""
    return a.of(a, apart), _alike


@intrinsic
def same_whole(typingctx: Any, a: Any, apart: Any) -> Any:
    """Return the same as a whole number."""

    def made(context: Any, builder: ir.IRBuilder, sig: Any, args: Any) -> ir.Value:
        first = _alike(context, builder, sig, args)
        return context.cast(builder, first, sig.args[0].of, types.int64)

    return types.int64(a, apart), made
