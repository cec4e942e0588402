"""The numbers of a test as text and back: speeds in the units that were chosen."""

import math
from collections.abc import Mapping, Sequence

from oarlock.quantities.display import digits
from oarlock.quantities.shown import Scale

_SCALES = {
    "distance": Scale(math.tau, "turns"),
    "acceleration": Scale(1.0, "rad/s²"),
    "jerk_time": Scale(1e-3, "ms"),
}


def scales_of(name: str, speeds: Sequence[Scale]) -> Sequence[Scale]:
    """Return the units that a number of a test may be typed in, the one it is shown in first."""
    return (_SCALES[name],) if name in _SCALES else speeds


def texts(values: Mapping[str, float], speeds: Sequence[Scale]) -> dict[str, tuple[str, str]]:
    """Return values (SI) by name as text, each with its unit."""
    found = {}
    for name, value in values.items():
        scale = scales_of(name, speeds)[0]
        found[name] = digits(value / scale.per, 3), scale.unit
    return found
