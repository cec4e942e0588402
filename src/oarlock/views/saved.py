"""Where a restart of the drive would put the loops: by what its own memory holds."""

from collections.abc import Iterator, Mapping
from dataclasses import replace
from functools import lru_cache

from oarlock.errors import InputError
from oarlock.machine import Axis, CurrentGains
from oarlock.machine.current_loop import KEY as CURRENT
from oarlock.machine.position_loop import KEY as POSITION
from oarlock.machine.position_loop import PositionGains
from oarlock.machine.speed_loop import KEY as SPEED
from oarlock.machine.speed_loop import SpeedGains

_CURRENT = {"Kp_d": "Kp d", "Ki_d": "Ki d", "Kp_q": "Kp q", "Ki_q": "Ki q",
            "weight": "Set-point weight"}  # fmt: skip


def saved_crossovers(axis: Axis, holds: Mapping[str, float], which: str) -> dict[str, float]:
    """Return rad/s at which each loop would cross over with the gains that a drive holds.

    Filters are those in use: a loop whose filters the drive holds otherwise is left out.

    Parameters
    ----------
    holds : by the drive's names; empty: not known
    which : "d" or "q", of the current loop

    """
    if not holds or axis.gains is None:
        return {}
    return _crossovers(_bare(axis), tuple(sorted(holds.items())), which)


def _bare(axis: Axis) -> Axis:
    """Return the axis without the gains of its loops: dragging them asks for nothing new."""
    loops = axis.loops
    for key in (CURRENT, SPEED, POSITION):
        loops = loops.with_target(key, None).with_gains(key, None)
    return replace(axis, loops=loops)


@lru_cache(maxsize=4)
def _crossovers(axis: Axis, listed: tuple[tuple[str, float], ...], which: str) -> dict[str, float]:
    found: dict[str, float] = {}
    try:
        for key, crossover in _inside_out(axis, dict(listed), which):
            found[key] = crossover
    except (InputError, KeyError, ValueError):
        return found  # no such loop, or one that the machine as it is known does not close
    return found


def _inside_out(axis: Axis, holds: Mapping[str, float], which: str) -> Iterator[tuple[str, float]]:
    from oarlock.control.current import loops_with
    from oarlock.control.margins import margins
    from oarlock.control.position import PositionLoop
    from oarlock.control.speed_design import loop_in_use
    from oarlock.experiments.loops.cascade import differing

    gains = CurrentGains(**{key: holds[f"Current controller.{name}"]
                            for key, name in _CURRENT.items()})  # fmt: skip
    if not min(gains.Kp_d, gains.Kp_q) > 0.0:
        return
    axis = axis.with_gains(gains)
    yield CURRENT, margins(loops_with(axis, gains)["dq".index(which)].opened).crossover
    speed = SpeedGains(Kp=holds["Speed controller.Kp"], Ki=holds["Speed controller.Ki"])
    axis = axis.with_loop_gains(SPEED, speed)
    if not speed.Kp > 0.0 or any(" filter " in name for name in differing(axis, holds) or ()):
        return
    loop = loop_in_use(axis)
    if not loop.is_stable:
        return
    yield SPEED, loop.margins.crossover
    if holds["Position controller.Kp"] > 0.0:
        outer = PositionLoop(loop, PositionGains(Kp=holds["Position controller.Kp"]))
        yield POSITION, outer.margins.crossover
