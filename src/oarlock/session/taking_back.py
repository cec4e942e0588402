"""The gains of an earlier run, in use again: pure."""

from dataclasses import replace

from oarlock.errors import InputError
from oarlock.experiments.reading import gains_of
from oarlock.experiments.registry import tested_by
from oarlock.machine import Axis, CurrentTarget, TargetKind
from oarlock.machine.axis_file import parse_axis
from oarlock.machine.current_loop import KEY as CURRENT
from oarlock.records import Run


def with_gains_of(run: Run, axis: Axis) -> Axis:
    """Return the axis with the gains that a run was played with, and what had been asked for.

    Raises
    ------
    InputError : the run has none

    """
    key, gains = tested_by(run.kind), gains_of(run.gains)
    made_on = run.settings.get("made_on")
    if key and key != CURRENT and isinstance(made_on, str):
        then = parse_axis(made_on, place=f"run {run.id}").loops[key]
        return replace(axis, loops=axis.loops.having(key, then))
    if gains is None or key != CURRENT:
        raise InputError("this run has no gains of a loop", place=run.title)
    axis = axis.with_gains(gains)
    target = run.settings.get("target")
    if isinstance(target, dict):
        kind = TargetKind(target["kind"])
        axis = axis.with_target(CurrentTarget(**{**target, "kind": kind}))
    return axis
