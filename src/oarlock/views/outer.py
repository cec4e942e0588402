"""The loops round the current loop, as the strip shows them on every stage."""

from oarlock.control.speed_design import speed_gains
from oarlock.errors import InputError
from oarlock.views import speed
from oarlock.views.snapshot import Snapshot
from oarlock.views.strip import LoopMark


def outer_marks(now: Snapshot) -> list[LoopMark]:
    """Return where the loops round the current loop cross over, of those that have gains."""
    if speed_gains(now.axis) is None:
        return []
    try:
        shown = speed.picture(now.axis, now.screen.speed)
    except InputError:
        return []
    proof = now.tested(speed.STEP) or now.tested(speed.LOAD)
    verified = proof is not None and proof[1].holds
    return [LoopMark(key="speed", crossover=shown.crossover, verified=verified,
                     limits=shown.reaches, end=shown.nyquist)]  # fmt: skip
