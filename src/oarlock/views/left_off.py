"""How an axis was left, in one line: for the list of projects that were open before."""

from oarlock.views.rail import stages
from oarlock.views.snapshot import Snapshot
from oarlock.views.stage import State


def left_off(now: Snapshot) -> str:
    """Return how far the axis is: its outermost result, and what comes next."""
    made = stages(now)
    held = [stage for stage in made if stage.state is State.VALID and stage.measured]
    wrong = next((stage for stage in made if stage.state is State.ATTENTION), None)
    if wrong is not None:
        return f"{wrong.name}: {wrong.basis}"
    if not held:
        return f"{made[0].line}; {made[0].basis}"
    last = held[-1]
    coming = made[made.index(last) + 1 : made.index(last) + 2]
    following = f"; {coming[0].name} comes next" if coming else ""
    return f"{last.name}: {last.line}{following}"
