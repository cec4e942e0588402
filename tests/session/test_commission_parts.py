"""What commissioning designs before it plays: what the user set beside the gains stays."""

from dataclasses import replace

from oarlock.control.position_design import position_gains, position_target
from oarlock.machine.position_loop import KEY, PositionTarget
from oarlock.session.commission_parts import LOOPS, MOVE, SPEED_STEP, Part, prepared
from oarlock.views.snapshot import Snapshot
from tests.speed_axis import tuned_winch


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
