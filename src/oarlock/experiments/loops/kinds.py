"""The test signals of the loops, and how their records are read."""

from oarlock.control.current import loops_with
from oarlock.errors import InputError
from oarlock.experiments.common.kind import Kind, later
from oarlock.experiments.loops.current_step import CurrentStep
from oarlock.experiments.loops.step_response import StepResult, axis_of, read_step
from oarlock.machine import Axis
from oarlock.machine.loops import LOOPS as LOOP_SPECS
from oarlock.records import Record

_POSITION = "oarlock.experiments.loops.position_response"
_CASCADE = tuple(spec.key for spec in LOOP_SPECS)
_SPEED = "oarlock.experiments.loops.speed_response"


def read_current_step(record: Record, axis: Axis) -> StepResult:
    """Hold a recorded step against the loop with the gains that `axis` had then.

    Raises
    ------
    InputError : the axis had no gains, or the rows do not fit the settings

    """
    if axis.gains is None:
        raise InputError("the axis has no gains of the current loop", place=record.experiment,
                         remedy="Take the designed gains first")  # fmt: skip
    d, q = loops_with(axis, axis.gains)
    return read_step(record, axis, d if axis_of(record) == "d" else q)


LOOPS = (
    Kind(key=CurrentStep.name, read=read_current_step, tests_loop=True),
    Kind(
        key="current sweep",
        read=later("oarlock.experiments.loops.current_response:read_current_sweep"),
        tests_loop=True,
    ),
    Kind(
        key="speed step",
        read=later(f"{_SPEED}:read_speed_step"),
        turns=True,
        loops=_CASCADE[:2],
        tests_loop=True,
    ),
    Kind(
        key="load step",
        read=later(f"{_SPEED}:read_load_step"),
        turns=True,
        loops=_CASCADE[:2],
        tests_loop=True,
    ),
    Kind(
        key="speed ramp",
        read=later("oarlock.experiments.loops.ramp_response:read_speed_ramp"),
        turns=True,
        loops=_CASCADE[:2],
        tests_loop=True,
    ),
    Kind(
        key="speed sweep",
        read=later("oarlock.experiments.loops.sweep_response:read_sweep"),
        turns=True,
        loops=_CASCADE[:2],
        tests_loop=True,
    ),
    Kind(
        key="position move",
        read=later(f"{_POSITION}:read_position_move"),
        turns=True,
        loops=_CASCADE[:3],
        tests_loop=True,
    ),
)
