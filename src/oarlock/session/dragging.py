"""A loop that is dragged: where it began, and what follows when it is let go."""

from dataclasses import dataclass

from oarlock.control.current import design_current
from oarlock.control.designs import retuned
from oarlock.machine import Axis, CurrentTarget


@dataclass(frozen=True, slots=True)
class Drag:
    """One drag under way; the loops outside the dragged one follow when it ends."""

    start: Axis
    loop: str

    def ended(self, axis: Axis) -> Axis:
        """Return the axis that a drag leads to, the loops outside following where they did."""
        return retuned(self.start, axis, outside=self.loop) if axis != self.start else axis


def with_current(axis: Axis, target: CurrentTarget) -> Axis:
    """Return the axis with the current loop alone designed for a target.

    Raises
    ------
    InputError : the delay forbids it

    """
    axis = axis.with_target(target)
    return axis.with_gains(design_current(axis).gains)
