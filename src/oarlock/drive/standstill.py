"""Waiting until a shaft that coasts stands still: what is played next begins at rest."""

import math
import time
from collections.abc import Callable

from oarlock.cancel import Cancel
from oarlock.drive.link import Link
from oarlock.errors import InputError
from oarlock.machine import Axis, SensorKind

_LOOK, _LOOK_HALL = 0.1, 0.4  # s: halls say nothing until the next edge
_STILL, _SECTORS = 0.01, 1.1  # rad within that; of halls: one may stand at an edge and flicker
_LONGEST = 60.0  # s


def await_standstill(
    axis: Axis, link: Link, cancel: Cancel, clock: Callable[[], float] = time.monotonic
) -> None:
    """Return once the drive's sensor sees the shaft stand; without a sensor, at once.

    Raises
    ------
    InputError : it turns on and on
    LinkError : the way to the drive failed
    Cancelled : the user stopped it

    """
    if axis.sensor.kind is SensorKind.NONE:
        return
    look, still = _LOOK, _STILL
    if axis.sensor.kind is SensorKind.HALL:
        look, still = _LOOK_HALL, _SECTORS * math.tau / 6.0 / axis.machine.pole_pairs.value
    until, before = clock() + _LONGEST, _angle(link)
    while clock() < until:
        cancel.wait(look)
        now = _angle(link)
        if abs(now - before) < still:
            return
        before = now
    raise InputError("the shaft does not come to rest", place="drive",
                     remedy="What turns it? Stop that first")  # fmt: skip


def _angle(link: Link) -> float:
    return link.read(["Drive.Angle"])["Drive.Angle"]
