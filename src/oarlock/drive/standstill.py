"""Waiting until a shaft that coasts stands still: what is played next begins at rest."""

import time
from collections.abc import Callable

from oarlock.cancel import Cancel
from oarlock.drive.link import Link
from oarlock.errors import InputError
from oarlock.machine import Axis, SensorKind

_LOOK, _LOOK_HALL = 0.1, 0.4  # s: halls say nothing until the next edge
_STILL = 0.01  # rad within that
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
    look = _LOOK_HALL if axis.sensor.kind is SensorKind.HALL else _LOOK
    until, before = clock() + _LONGEST, _angle(link)
    while clock() < until:
        cancel.wait(look)
        now = _angle(link)
        if abs(now - before) < _STILL:
            return
        before = now
    raise InputError("the shaft does not come to rest", place="drive",
                     remedy="What turns it? Stop that first")  # fmt: skip


def _angle(link: Link) -> float:
    return link.read(["Drive.Angle"])["Drive.Angle"]
