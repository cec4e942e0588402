"""Numbers put together of their bits: plain, and compiled; `vectors` has the same for lanes."""

import math
from typing import Any

import numba.extending
from llvmlite import ir
from numba.core import types

WHOLE = 6755399441055744.0  # 1.5 times 2^52: a number so much higher has no places left


def power_of_two(k: float) -> float:
    """Return 2 to the power of a whole number from -1022 to 1023, given `WHOLE` higher."""
    return math.ldexp(1.0, int(k - WHOLE))


@numba.extending.intrinsic
def _put_together(typingctx: Any, k: Any) -> Any:
    """Put a double together of its exponent alone."""

    def made(context: Any, builder: ir.IRBuilder, sig: Any, args: Any) -> ir.Value:
        whole = ir.IntType(64)
        bits = builder.add(builder.bitcast(args[0], whole), whole(1023))
        return builder.bitcast(builder.shl(bits, whole(52)), ir.DoubleType())

    return types.float64(types.float64), made


_inline = numba.extending.overload(power_of_two, jit_options={"forceinline": True})
_inline(lambda k: lambda k: _put_together(k))
