"""What will move, told before it does: every try that may follow by itself included."""

import math

from oarlock.drive.steps import Plan
from oarlock.drive.travel import excursion
from oarlock.experiments.common.experiment import Experiment, Moving
from oarlock.experiments.common.repeat import gentler_tries, largest_try
from oarlock.machine import Axis
from oarlock.quantities.display import digits
from oarlock.quantities.kinds import RPM


def announced(experiment: Experiment, axis: Axis, *, braked: bool = False) -> str:
    """Return what will move, how far, how fast, with what current and how long: every try of it."""
    said = _moves(experiment, axis, braked=braked)
    stronger = largest_try(experiment, axis)
    if stronger is not None:
        said += f" If the answer is too weak, once more: {_moves(stronger, axis, braked=braked)}"
    if gentler_tries(experiment, axis):
        far = digits(_farthest(experiment, axis), 2)
        said += f" If its current breaks it off, more gently from there: {far} turns in all."
    return said


def announced_together(experiments: list[Experiment], axis: Axis) -> str:
    """Return what will move when several are played in a row, every try included.

    Raises
    ------
    InputError : one of them cannot be planned

    """
    said = _together(experiments, axis)
    stronger = [largest_try(e, axis) or e for e in experiments]
    return f"{said} Where an answer is too weak, all of it once more: " + _together(stronger, axis)


def _together(experiments: list[Experiment], axis: Axis) -> str:
    plans = [e.plan(axis) for e in experiments]
    moved = [e.movement(axis) for e in experiments if isinstance(e, Moving)]
    turning = [p for p, e in zip(plans, experiments, strict=True) if isinstance(e, Moving)]
    turns = max((_farthest(e, axis) for e in experiments if isinstance(e, Moving)), default=0.0)
    amperes = max([p.largest_current for p in plans] + [m.current for m in moved])
    seconds = sum(m.seconds for m in moved)
    seconds += sum(plan.duration for plan in plans if plan not in turning)
    rpm = digits(max((m.speed for m in moved), default=0.0) / RPM, 2)
    far = f"It turns up to {digits(turns, 2)} turns either way"
    return f"{far}, {rpm} rpm, {digits(amperes, 2)} A, {seconds:.0f} s."


def _farthest(experiment: Experiment, axis: Axis) -> float:
    """Return how far (turns) the shaft goes, gentler tries from where each stopped included."""
    tries = [experiment, *gentler_tries(experiment, axis)]
    return sum(excursion(e.plan(axis), axis)[0].farthest for e in tries)


def _moves(experiment: Experiment, axis: Axis, *, braked: bool) -> str:
    if isinstance(experiment, Moving):
        return experiment.movement(axis).sentence
    return announcement(experiment.plan(axis), braked=braked)


def announcement(plan: Plan, *, braked: bool) -> str:
    """Return what will move, how far, how fast, with what current and for how long."""
    shaft = "Shaft stays still if its brake holds" if braked else "Shaft may turn"
    turn = f"stops if it turns {math.degrees(plan.limits.travel):.0f}°"
    return f"{shaft}; {turn}. At most {plan.largest_current:.1f} A for {plan.duration:.1f} s."
