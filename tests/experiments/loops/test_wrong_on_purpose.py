"""Tests of the outer loops with something wrong: the right sentence, and a drive that stops."""

import math
from dataclasses import replace

import pytest

from oarlock.control.speed_design import usual_speed
from oarlock.drive.dry_run import problems
from oarlock.drive.runner import play
from oarlock.errors import InputError
from oarlock.experiments.loops.speed_response import SpeedResult
from oarlock.experiments.loops.speed_sweep import SpeedSweep
from oarlock.experiments.loops.speed_test import LoadStep, SpeedStep, usual_load
from oarlock.experiments.loops.speed_test import usual_step as step_of
from oarlock.experiments.reading import read
from oarlock.machine import Axis
from oarlock.machine.parameter import Parameter
from oarlock.machine.speed_loop import KEY
from oarlock.practice.truth import draw
from oarlock.quantities import Estimate, Origin
from oarlock.views.speed_asked import aimed
from tests.conftest import play_on_model
from tests.model_link import Hasty, ModelLink
from tests.speed_axis import known_winch, tuned_winch


@pytest.fixture(scope="module")
def axis() -> Axis:
    return tuned_winch()


def _step(axis: Axis) -> SpeedStep:
    speed = usual_speed(axis)
    return SpeedStep(speed=speed, amplitude=step_of(axis, speed), repeats=4)


def test_too_little_travel_is_refused_with_what_it_needs(axis: Axis) -> None:
    turns = Estimate(value=2.0, unit="1", origin=Origin.DATASHEET, source="2")
    near = axis.with_parameter("mechanics.max_turns", Parameter(printed=turns))
    for experiment in (_step(near), SpeedSweep(speed=usual_speed(near), torque=1.0)):
        told = [p.sentence for p in problems(experiment.plan(near), near)]
        assert any("turn" in sentence for sentence in told), told
    with pytest.raises(InputError, match="turn"):
        play_on_model(_step(near), near, draw("winch", 0))


def test_a_sensor_the_other_way_round_is_not_taken_for_a_loop(axis: Axis) -> None:
    side = axis.sensor.side
    turned = axis.with_parameter(
        "sensor.side", replace(side, adopted=replace(side.best, value=-1.0))
    )
    experiment = _step(axis)
    record = play(experiment.plan(turned), turned, ModelLink(draw("winch", 0)),
                  settings=experiment.settings(turned), cancel=Hasty())  # fmt: skip
    if record.ended == "done":
        found = read(record, turned)
        assert isinstance(found, SpeedResult)
        assert "followed" in {c.code for c in found.checks if not c.passed}
    else:
        assert record.trip


def test_an_angle_that_is_half_a_turn_off_runs_away_and_is_stopped(axis: Axis) -> None:
    plant, zero = draw("winch", 0), axis.sensor.zero
    off = replace(zero, adopted=replace(zero.best, value=zero.value + math.pi))
    turned, experiment = axis.with_parameter("sensor.zero", off), _step(axis)
    link = ModelLink(plant)
    record = play(experiment.plan(turned), turned, link, settings=experiment.settings(turned),
                  cancel=Hasty())  # fmt: skip
    assert record.trip in ("limit-speed", "limit-current", "over-current", "oscillation")
    assert link.model.played * plant.Ts < 0.3


@pytest.mark.parametrize("times", [0.1, 10.0])
def test_an_inertia_that_is_wrong_ten_times_never_passes(times: float) -> None:
    truth = known_winch()
    J = truth.machine.inertia
    assert J is not None
    assert J.adopted is not None
    off = replace(J, adopted=replace(J.adopted, value=times * J.value))
    wrong = truth.with_parameter("machine.inertia", off)
    from oarlock.views.speed import designed

    gains = designed(wrong, aimed("even"), usual_speed(wrong))
    wrong = wrong.with_loop_gains(KEY, gains)
    for experiment in (_step(wrong), LoadStep(speed=usual_speed(wrong), torque=2.0, repeats=4)):
        record = play_on_model(experiment, wrong, draw("winch", 0))
        if record.ended != "done":
            assert record.trip
            continue
        found = read(record, wrong)
        assert isinstance(found, SpeedResult)
        assert not found.holds, found.numbers


def test_a_load_that_is_there_all_the_time_changes_nothing_that_is_read(axis: Axis) -> None:
    hung = replace(draw("winch", 0), load=2.0)
    found = read(play_on_model(_step(axis), axis, hung), axis)
    assert isinstance(found, SpeedResult)
    assert found.holds, found.said
    heavy = LoadStep(speed=usual_speed(axis), torque=usual_load(axis))
    found = read(play_on_model(heavy, axis, hung), axis)
    assert isinstance(found, SpeedResult)
    assert found.holds, found.said


def test_a_slow_drive_of_another_rate_is_refused(axis: Axis) -> None:
    other = replace(draw("winch", 0), Ts=100e-6)
    with pytest.raises(InputError, match="the drive samples at"):
        play_on_model(_step(axis), axis, other)


def test_a_loop_that_swings_in_its_play_is_told_as_such(axis: Axis) -> None:
    """Tuned for a shaft without play: the loop never rests, and its step says nothing of gains.

    In a third of that play it may rest: whether the swing begins hangs on noise.
    """
    plant = replace(draw("winch", 0), backlash=math.radians(0.3))
    speed = usual_speed(axis)
    for test in (_step(axis), LoadStep(speed=speed, torque=usual_load(axis))):
        found = read(play_on_model(test, axis, plant), axis)
        assert isinstance(found, SpeedResult)
        assert not found.holds
        assert "though nothing is asked: play in coupling or gear" in found.said
    calm = read(play_on_model(_step(axis), axis, draw("winch", 0)), axis)
    assert isinstance(calm, SpeedResult)
    assert calm.holds, calm.said
