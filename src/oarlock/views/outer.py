"""The loops round the current loop, as the strip shows them on every stage."""

from oarlock.control.position_design import position_gains
from oarlock.control.speed_design import speed_gains
from oarlock.errors import InputError
from oarlock.views import position, speed
from oarlock.views.snapshot import Snapshot
from oarlock.views.strip import LoopMark


def outer_marks(now: Snapshot) -> list[LoopMark]:
    """Return where the outer loops cross over: those with gains, and the one on screen."""
    return [mark for mark in (_speed(now), _position(now)) if mark is not None]


def _speed(now: Snapshot) -> LoopMark | None:
    if speed_gains(now.axis) is None and now.screen.stage != "speed":
        return None
    try:
        shown = speed.picture(now.axis, now.screen.speed)
    except InputError:
        return None
    proof = now.tested(speed.STEP) or now.tested(speed.LOAD)
    verified = proof is not None and proof[1].holds
    return LoopMark(key="speed", crossover=shown.crossover, verified=verified,
                    limits=shown.reaches, end=shown.nyquist)  # fmt: skip


def _position(now: Snapshot) -> LoopMark | None:
    if position_gains(now.axis) is None and now.screen.stage != "position":
        return None
    try:
        shown = position.picture(now.axis, now.screen.move)
    except InputError:
        return None
    proof = now.tested(position.MOVE)
    verified = proof is not None and proof[1].holds
    end = shown.speed_crossover
    limits = (shown.quiet_crossover, min(2.0 * shown.quiet_crossover, end), end)
    return LoopMark(key="position", crossover=shown.crossover, verified=verified, limits=limits,
                    end=end)  # fmt: skip
