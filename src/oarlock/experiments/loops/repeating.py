"""A test signal that goes on and on while gains are changed by hand: its plan, and its cycles.

Each cycle begins with a rest: in its first half new gains are taken over, in its second half the
axis settles with them. So that every response belongs to one set of gains.
"""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol, runtime_checkable

from oarlock.drive.steps import MAX_STEPS, Plan
from oarlock.experiments.common.movement import Movement
from oarlock.machine import Axis
from oarlock.records import Plain

LEAST_REST = 0.25  # s
_LONGEST = 120.0  # s, of one start


@dataclass(frozen=True, slots=True, kw_only=True)
class Repeating:
    """How a test signal is repeated, and how its plan follows other gains."""

    plan: Plan
    settings: dict[str, Plain]  # of the record of one set of gains, but for its repeats
    movement: Movement
    cycles: int
    lead: float  # s before the first cycle
    rest: float  # s at the beginning of each
    seconds: float  # s, a whole cycle
    resting: int  # rows that are recorded of each rest; 0: nothing is
    rows: int  # of each answer
    limit: float  # A, that the controller may ask for; 0: nothing to watch
    with_gains_of: Callable[[Plan, Axis], Plan]  # refuses gains whose exact loop is unstable

    def first_row(self, cycle: int) -> int:
        """Return where a cycle's answer begins in the record."""
        return cycle * (self.resting + self.rows) + self.resting

    def answered(self, recorded: int) -> int:
        """Return how many cycles are whole among so many recorded rows."""
        return recorded // (self.resting + self.rows)

    def began(self, cycle: int) -> float:
        """Return when a cycle began, s since the start."""
        return self.lead + cycle * self.seconds


@runtime_checkable
class Repeatable(Protocol):
    """A test that can be repeated while gains are changed."""

    def repeating(self, axis: Axis) -> Repeating:
        """Return how it goes on and on.

        Raises
        ------
        InputError : no gains to begin with, or settings without sense

        """


def cycles_within(seconds: float, steps: int, beside: int) -> int:
    """Return how many cycles one start may have.

    Parameters
    ----------
    seconds : s, of a cycle
    steps : of the step table, of a cycle
    beside : steps of the table that are of no cycle

    """
    return max(min(int(_LONGEST / seconds), (MAX_STEPS - beside) // steps), 1)
