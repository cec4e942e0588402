"""A loop that is dragged: where it began, and what follows when it is let go."""

from dataclasses import dataclass, replace
from functools import lru_cache

from oarlock.control.current import design_current
from oarlock.control.designs import retuned
from oarlock.machine import Axis, CurrentTarget
from oarlock.views.snapshot import Snapshot


@dataclass(frozen=True, slots=True)
class Drag:
    """One drag under way; the loops outside the dragged one follow when it ends."""

    start: Axis
    loop: str

    def ended(self, axis: Axis) -> Axis:
        """Return the axis that a drag leads to, the loops outside following where they did."""
        return _retuned(self.start, axis, self.loop) if axis != self.start else axis


@lru_cache(maxsize=2)  # worked out when a drag rests, and wanted again when it is let go there
def _retuned(start: Axis, axis: Axis, loop: str) -> Axis:
    return retuned(start, axis, outside=loop)


def at_rest(now: Snapshot, drag: Drag | None) -> Snapshot:
    """Return what would stand if what is dragged were let go; work for a job."""
    return replace(now, axis=drag.ended(now.axis)) if drag else now


def with_current(axis: Axis, target: CurrentTarget) -> Axis:
    """Return the axis with the current loop alone designed for a target.

    Raises
    ------
    InputError : the delay forbids it

    """
    axis = axis.with_target(target)
    return axis.with_gains(design_current(axis).gains)
