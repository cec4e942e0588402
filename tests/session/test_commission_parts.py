"""What commissioning designs before it plays: what the user set beside the gains stays."""

from dataclasses import replace

from oarlock.control.position_design import position_gains, position_target
from oarlock.control.speed_design import usual_speed
from oarlock.machine.position_loop import KEY, PositionTarget
from oarlock.session.commission_parts import (
    IDENTIFY,
    LOOPS,
    MOVE,
    SPEED_STEP,
    Part,
    _by_kind,
    prepared,
)
from oarlock.views.snapshot import Snapshot
from tests.speed_axis import tuned_winch


def test_what_cannot_be_planned_yet_says_whether_the_shaft_turns() -> None:
    axis = tuned_winch()
    still, turns = (_by_kind(Part(IDENTIFY, key, key), axis) for key in ("resistance", "flux"))
    assert (still.turns, still.speed, still.current) == (0.0, 0.0, axis.rated)
    assert (still.seconds, turns.seconds) == (15.0, 60.0)
    assert "turns" not in still.sentence
    assert turns.turns > 1.0
    assert turns.speed > usual_speed(axis)


def test_the_axiss_ramp_outlives_the_design_of_its_loops() -> None:
    ramp = PositionTarget(crossover=12.0, speed=30.0, acceleration=123.0, jerk_time=0.02)
    axis = tuned_winch()
    axis = replace(axis, loops=axis.loops.with_target(KEY, ramp))
    axis = prepared(Part(LOOPS, SPEED_STEP, SPEED_STEP), Snapshot(axis=axis))
    assert position_target(axis).ramp == ramp.ramp
    assert position_gains(axis) is None
    axis = prepared(Part(LOOPS, MOVE, MOVE), Snapshot(axis=axis))
    assert position_target(axis) == replace(ramp, crossover=None)  # without overshoot
    assert position_gains(axis) is not None
