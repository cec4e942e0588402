"""Where the drive breaks an experiment off by itself lies near what was announced of it."""

import math

import pytest

from oarlock.control.position_design import design_position
from oarlock.control.speed_design import usual_speed
from oarlock.drive.travel import excursion
from oarlock.experiments.common.experiment import Experiment, Moving
from oarlock.experiments.identify.experiments import experiment_for
from oarlock.experiments.loops.current_step import usual_current_step
from oarlock.experiments.loops.position_move import PositionMove, usual_move
from oarlock.experiments.loops.speed_chirp import SpeedChirp
from oarlock.experiments.loops.speed_sweep import SpeedSweep
from oarlock.experiments.loops.speed_test import LoadStep, SpeedStep, usual_load, usual_step
from oarlock.experiments.sensing.pulses import StandingPulses
from oarlock.experiments.sensing.push import FourPushes
from oarlock.experiments.sensing.rest import CurrentsAtRest
from oarlock.experiments.sensing.search import BoundedSearch
from oarlock.experiments.sensing.spin import ForcedSpin
from oarlock.experiments.sensing.startup import StartWithoutSensor, propose
from oarlock.experiments.sensing.turn import ForcedTurn
from oarlock.machine import Axis
from oarlock.records.quantity import KEYS
from tests.speed_axis import tuned_winch


def winch() -> Axis:
    axis = tuned_winch()
    return axis.with_loop_gains("position", design_position(axis).gains)


def experiments() -> list[Experiment]:
    axis = winch()
    speed, load, move = usual_speed(axis), usual_load(axis), usual_move(axis)
    return [
        *(experiment_for(key, held=False) for key in KEYS),
        CurrentsAtRest(), StandingPulses(), ForcedTurn(), BoundedSearch(), FourPushes(),
        ForcedSpin(), StartWithoutSensor(start=propose(axis)),
        usual_current_step(axis, "d"), usual_current_step(axis, "q"),
        SpeedStep(speed=speed, amplitude=usual_step(axis, speed)),
        LoadStep(speed=speed, torque=load),
        SpeedSweep(speed=speed, torque=load), SpeedChirp(speed=speed, torque=load),
        PositionMove(distance=move.distance, speed=move.speed, jerk_time=move.jerk_time,
                     acceleration=move.acceleration),
    ]  # fmt: skip


@pytest.mark.parametrize("experiment", experiments(), ids=lambda one: one.name)
def test_it_breaks_off_near_what_it_announces(experiment: Experiment) -> None:
    axis = winch()
    plan = experiment.plan(axis)
    limits, top = plan.limits, axis.top_speed
    moved = experiment.movement(axis) if isinstance(experiment, Moving) else None
    speed, current = (abs(moved.speed), moved.current) if moved else (0.0, 0.0)
    assert limits.current <= min(max(3.0 * current, 0.85 * axis.peak), 1.25 * axis.peak)
    assert speed <= limits.speed <= 1.6 * speed + 0.26 * top
    assert plan.duration <= limits.time <= plan.duration + 1.001
    way, _ = excursion(plan, axis)
    assert limits.travel / math.tau <= 1.6 * way.farthest + 2.1


def test_the_way_to_a_test_and_its_rest_are_short() -> None:
    """A tenth of a second ahead of a step at most, and a settling rest between two."""
    axis = winch()
    speed = usual_speed(axis)
    plan = SpeedStep(speed=speed, amplitude=usual_step(axis, speed)).plan(axis)
    ahead = [s for s in plan.steps if s.record and s.wave is None]
    assert all(0.011 < s.duration < 0.014 for s in ahead)
    assert plan.steps[0].duration < 1.0
    assert plan.duration < 8.0
