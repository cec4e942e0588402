"""Round numbers, for scales that people read."""

import math
from collections.abc import Sequence

ONE_TWO_FIVE = (1.0, 2.0, 5.0, 10.0)
R10 = (1.0, 1.25, 1.6, 2.0, 2.5, 3.15, 4.0, 5.0, 6.3, 8.0, 10.0)  # ISO 3
_LAST_BITS = 1e-9


def at_least(value: float, series: Sequence[float] = ONE_TWO_FIVE) -> float:
    """Return the least number of a series, times a power of ten, that is not below a positive one.

    Parameters
    ----------
    series : rising, from 1 to 10

    """
    power = 10.0 ** math.floor(math.log10(value))
    return next(power * one for one in series if power * one >= (1.0 - _LAST_BITS) * value)
