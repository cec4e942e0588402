"""Cosine with sine, exponential: of sums and products alone, so that lanes can go along.

Range reduction in parts and polynomials about zero (Cody and Waite, "Software Manual for the
Elementary Functions", 1980), long enough that what is left lies below the last bits. The library's
own functions cost a call for each number, and round differently from one machine to another.
"""

import math

from oarlock.jit import njit
from oarlock.lanes.bits import WHOLE, power_of_two

LEAST_POWER = -708.0  # of e, that `exp` takes
THIRD, PER_SQRT3 = 1.0 / 3.0, 0.5773502691896258
_jit = njit(inline=True)
# pi/2 in three parts, the first two of 33 bits: times a count of up to 2^20 they are exact.
_HALF_PI, _HALF_PI_2, _HALF_PI_3 = 1.5707963267341256, 6.077100506303966e-11, 2.0222662487959506e-21
_HALF_LN2, _HALF_LN2_2 = 0.34657359018456190, 9.541074646352939e-11  # the first of 32 bits
# Of the exponential up to ln 2 / 4, interpolated at Chebyshev's points: 6e-17 or less from it.
_E2, _E3, _E4 = 0.4999999999999982, 0.16666666666666652, 0.0416666666685331
_E5, _E6, _E7 = 0.008333333333502998, 0.0013888885781333851, 0.00019841267016397775
_E8, _E9 = 2.4818143088255625e-05, 2.75723692148189e-06
# Of sine and cosine: Taylor's.
_S3, _S5, _S7, _S9 = 1.0 / 6.0, 1.0 / 120.0, 1.0 / 5040.0, 1.0 / 362880.0
_S11, _S13, _S15 = 1.0 / 39916800.0, 1.0 / 6227020800.0, 1.0 / 1307674368000.0
_C4, _C6, _C8, _C10 = 1.0 / 24.0, 1.0 / 720.0, 1.0 / 40320.0, 1.0 / 3628800.0
_C12, _C14, _C16 = 1.0 / 479001600.0, 1.0 / 87178291200.0, 1.0 / 20922789888000.0


@_jit
def cos_sin(x: float) -> tuple[float, float]:
    """Return cosine and sine of an angle (rad), 2e-16 or less from them up to a million turns."""
    k = (x * 0.6366197723675814 + WHOLE) - WHOLE
    r = x - k * _HALF_PI - k * _HALF_PI_2 - k * _HALF_PI_3
    z = r * r
    zz = z * z
    odd = (_S3 - z * _S5) + zz * ((_S7 - z * _S9) + zz * ((_S11 - z * _S13) + zz * _S15))
    even = (_C4 - z * _C6) + zz * ((_C8 - z * _C10) + zz * ((_C12 - z * _C14) + zz * _C16))
    s, c = r - r * z * odd, 1.0 - z * (0.5 - z * even)
    quarter = k - 4.0 * math.floor(0.25 * k)
    crosses = quarter == 1.0 or quarter == 3.0
    first, second = (s if crosses else c), (c if crosses else s)
    return (
        -first if quarter == 1.0 or quarter == 2.0 else first,
        -second if quarter >= 2.0 else second,
    )


@_jit
def sin(x: float) -> float:
    """Return the sine of an angle (rad)."""
    _, s = cos_sin(x)
    return s


@_jit
def exp(x: float) -> float:
    """Return e to the power x, 4e-16 or less of it away; x from -708 to 709.

    It is the square of that of its half: two coefficients less.
    """
    turned = x * 1.4426950408889634 + WHOLE
    k = turned - WHOLE
    r = (0.5 * x - k * _HALF_LN2) - k * _HALF_LN2_2
    z = r * r
    low = (_E2 + r * _E3) + z * (_E4 + r * _E5)
    high = (_E6 + r * _E7) + z * (_E8 + r * _E9)
    half = 1.0 + (r + z * (low + z * z * high))
    return half * half * power_of_two(turned)
