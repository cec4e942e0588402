"""The loops round the current loop on the rail and, on every stage, on the strip.

What works them out is imported where there is something to work out: a window stands without.
"""

from oarlock.errors import InputError
from oarlock.machine.position_loop import KEY as POSITION
from oarlock.machine.speed_loop import KEY as SPEED
from oarlock.views.snapshot import Snapshot
from oarlock.views.stage import Stage, State
from oarlock.views.strip import LoopMark


def speed_summary(now: Snapshot) -> Stage:
    """Return what the rail says of the speed loop."""
    axis = now.axis
    if axis.loops[SPEED].gains is not None:
        from oarlock.views import speed

        return speed.summary(now)
    basis = "not designed" if axis.machine.inertia is not None else "waits for inertia"
    return _empty(SPEED, "Speed loop", "after current loop" if axis.gains is None else basis)


def position_summary(now: Snapshot) -> Stage:
    """Return what the rail says of the position loop."""
    if now.axis.loops[POSITION].gains is not None:
        from oarlock.views import position

        return position.summary(now)
    waits = now.axis.loops[SPEED].gains is None
    return _empty(POSITION, "Position loop", "after speed loop" if waits else "not designed")


def _empty(key: str, name: str, basis: str) -> Stage:
    return Stage(key=key, name=name, line="no gains yet", basis=basis, measured=False,
                 state=State.EMPTY)  # fmt: skip


def outer_mark(now: Snapshot, key: str) -> LoopMark | None:
    """Return where an outer loop crosses over, where it has gains or is on screen."""
    return _MARKS[key](now)


def _speed(now: Snapshot) -> LoopMark | None:
    if now.axis.loops[SPEED].gains is None and now.screen.stage != SPEED:
        return None
    from oarlock.views import speed

    try:
        shown = speed.picture(now.axis, now.screen.speed)
    except InputError:
        return None
    proof = now.tested(speed.STEP) or now.tested(speed.LOAD)
    verified = proof is not None and proof[1].holds
    return LoopMark(key="speed", crossover=shown.crossover, verified=verified,
                    limits=shown.reaches, end=shown.nyquist)  # fmt: skip


def _position(now: Snapshot) -> LoopMark | None:
    if now.axis.loops[POSITION].gains is None and now.screen.stage != POSITION:
        return None
    from oarlock.views import position

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


_MARKS = {SPEED: _speed, POSITION: _position}
OUTER = tuple(_MARKS)
