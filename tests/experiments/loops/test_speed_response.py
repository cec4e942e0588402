"""Tests of the speed loop on a simulated drive, against the exact loop; and tests gone wrong."""

from dataclasses import replace

import numpy as np
import pytest
from benchmarks.loops import tuned
from benchmarks.machines import random_axis, sensed

from oarlock.control.speed import largest_step
from oarlock.control.speed_design import Turning, loop_in_use, usual_speed, volts_left
from oarlock.drive.dry_run import problems
from oarlock.errors import InputError
from oarlock.experiments.common.announce import announced
from oarlock.experiments.loops.speed_response import SpeedResult
from oarlock.experiments.loops.speed_test import LoadStep, SpeedStep, current_limit, usual_load
from oarlock.experiments.loops.speed_test import usual_step as step_of
from oarlock.experiments.reading import read
from oarlock.machine import Axis
from oarlock.machine.speed_loop import KEY, SpeedGains
from oarlock.practice.truth import draw
from oarlock.quantities import Origin
from oarlock.quantities.kinds import RPM
from oarlock.simulate.plant_parameters import PlantParameters
from oarlock.views.speed import designed
from oarlock.views.speed_asked import aimed
from tests.conftest import play_on_model
from tests.speed_axis import known_winch, tuned_winch


def _played(experiment: SpeedStep | LoadStep, axis: Axis, **changes: float) -> SpeedResult:
    plant = replace(draw("winch", 0), **changes)  # type: ignore[arg-type]
    found = read(play_on_model(experiment, axis, plant), axis)
    assert isinstance(found, SpeedResult)
    return found


def known(axis: Axis, plant: PlantParameters) -> Axis:
    """Return the axis with what its loops rest on as it truly is."""
    axis = sensed(axis, plant)
    true = {"machine.R": plant.R, "machine.Ld": plant.Ld, "machine.Lq": plant.Lq,
            "machine.psi": plant.psi, "machine.inertia": plant.inertia,
            "inverter.dead_voltage": plant.dead_voltage}  # fmt: skip
    for path, value in true.items():
        old = axis.parameter(path)
        found = replace(old.best, value=value, std=0.0, origin=Origin.MEASURED)
        axis = axis.with_parameter(path, replace(old, adopted=found))
    return axis


@pytest.fixture(scope="module")
def axis() -> Axis:
    return tuned_winch()


def test_a_step_and_a_load_are_as_predicted(axis: Axis) -> None:
    speed = usual_speed(axis)
    step = _played(SpeedStep(speed=speed, amplitude=step_of(axis, speed)), axis)
    assert step.holds, step.said
    assert step.step is not None
    assert step.step_predicted is not None
    assert step.step.rise == pytest.approx(step.step_predicted.rise, rel=0.10)
    load = _played(LoadStep(speed=speed, torque=usual_load(axis)), axis)
    assert load.holds, load.said
    assert load.load is not None
    assert load.load_predicted is not None
    assert load.load.dip == pytest.approx(load.load_predicted.dip, rel=0.08)
    assert np.max(np.abs(load.predicted)) == pytest.approx(load.load_predicted.dip)
    assert load.current[-20:].mean() == pytest.approx(
        usual_load(axis) / axis.machine.torque_constant, rel=0.05
    )


def test_the_steps_of_a_coarse_encoder_are_not_taken_for_overshoot() -> None:
    printed, plant = random_axis(np.random.default_rng(900))  # 4096 counts, a keen loop
    axis = tuned(known(printed, plant))
    speed = usual_speed(axis)
    step = SpeedStep(speed=speed, amplitude=step_of(axis, speed))
    found = read(play_on_model(step, axis, plant), axis)
    assert isinstance(found, SpeedResult)
    assert found.step is not None
    assert found.step_predicted is not None
    picked = float(np.max(found.speed) - np.max(found.predicted)) / step.amplitude
    assert picked > 0.03  # what the highest sample says
    assert found.step.overshoot == pytest.approx(found.step_predicted.overshoot, abs=0.025)
    assert found.holds, found.said


@pytest.mark.parametrize("lighter", [0.33, 0.5])
def test_a_response_sharper_than_its_plan_is_not_smoothed_away(lighter: float) -> None:
    printed, plant = random_axis(np.random.default_rng(903))
    axis = tuned(known(printed, plant))
    speed = usual_speed(axis)
    step = SpeedStep(speed=speed, amplitude=step_of(axis, speed))
    light = replace(plant, inertia=lighter * plant.inertia)
    found = read(play_on_model(step, axis, light), axis)
    assert isinstance(found, SpeedResult)
    assert found.step is not None
    assert not found.holds
    highest = float(np.max(found.speed)) / step.amplitude - 1.0
    assert highest > 0.3
    assert found.step.overshoot == pytest.approx(highest, abs=0.03)


def test_an_inertia_that_is_wrong_is_seen(axis: Axis) -> None:
    speed = usual_speed(axis)
    found = _played(LoadStep(speed=speed, torque=usual_load(axis)), axis,
                    inertia=3.5 * draw("winch", 0).inertia, stiffness=0.0)  # fmt: skip
    assert not found.holds
    assert {c.code for c in found.checks if not c.passed} & {"dip", "area"}


def test_a_step_that_the_limit_shapes_is_not_taken_for_the_gains(axis: Axis) -> None:
    speed = usual_speed(axis)
    found = _played(SpeedStep(speed=speed, amplitude=3.0 * speed, repeats=4), axis)
    assert {"linear", "bus"} <= {c.code for c in found.checks if not c.passed}
    assert found.said.startswith("The current limit of")


@pytest.mark.parametrize(("times", "said"), [(4.0, True), (9.0, False)])
def test_a_step_far_beyond_what_no_limit_shapes_says_nothing(
    axis: Axis, times: float, said: bool
) -> None:
    speed = usual_speed(axis)
    turning = Turning(speed=speed)
    loop = loop_in_use(axis, turning=turning)
    linear = largest_step(loop, current_limit(axis), volts_left(axis, turning))
    found = _played(SpeedStep(speed=speed, amplitude=times * linear, repeats=2), axis)
    assert next(c for c in found.checks if c.code == "bus").passed is said


def test_a_load_that_comes_meanwhile_or_a_shaft_that_is_held_is_told(axis: Axis) -> None:
    speed = usual_speed(axis)
    stuck = play_on_model(SpeedStep(speed=speed, amplitude=1.0, repeats=2), axis,
                          replace(draw("winch", 0), brake_stuck=True))  # fmt: skip
    assert stuck.ended != "done" or not read(stuck, axis).holds


def test_gains_whose_loop_is_unstable_are_not_sent() -> None:
    wild = known_winch().with_loop_gains(KEY, SpeedGains(Kp=6.0, Ki=100.0))
    with pytest.raises(InputError, match="speed loop would swing up"):
        SpeedStep(speed=40.0, amplitude=1.0).plan(wild)


def test_gains_that_swing_up_are_stopped_by_the_drive() -> None:
    """The shaft twists, the axis takes it for a rigid one: its poles cannot tell."""
    true = draw("winch", 0)
    rigid = known_winch(replace(true, stiffness=0.0, load_inertia=0.0,
                                inertia=true.inertia + true.load_inertia))  # fmt: skip
    keen = rigid.with_loop_gains(KEY, designed(rigid, aimed("keen"), 40.0))
    record = play_on_model(SpeedStep(speed=40.0, amplitude=1.0, repeats=2), keen, true)
    assert record.trip in ("oscillation", "limit-current", "limit-speed", "over-current")


def test_what_it_will_do_is_said_and_planned_within_limits(axis: Axis) -> None:
    speed = 400.0 * RPM
    step = SpeedStep(speed=speed, amplitude=20.0 * RPM)
    assert "turns" in announced(step, axis)
    assert not problems(step.plan(axis), axis)
    plan = step.plan(axis)
    assert plan.speed.divider == axis.inverter.divider
    assert plan.watch
    assert len(plan.torque_filters) == 1
    assert all(step.release for step in plan.steps)
    with pytest.raises(InputError, match="no gains"):
        step.plan(axis.with_loop_gains(KEY, None))
    with pytest.raises(InputError, match=r"no gains (of the current loop|yet)"):
        step.plan(axis.with_gains(None))


def test_an_incomplete_record_is_refused_with_its_size(axis: Axis) -> None:
    speed = usual_speed(axis)
    record = play_on_model(SpeedStep(speed=speed, amplitude=1.0, repeats=2), axis, draw("winch", 0))
    cut = replace(record, columns={k: v[:100] for k, v in record.columns.items()})
    with pytest.raises(InputError, match="100 rows, one step needs"):
        read(cut, axis)


def test_a_step_is_laid_at_the_sample_that_first_sees_it(axis: Axis) -> None:
    speed = usual_speed(axis)
    step = SpeedStep(speed=speed, amplitude=step_of(axis, speed))
    found = _played(step, axis, encoder_counts=2**20)
    off = [float(np.sum((found.speed[20 + n : 80 + n] - found.predicted[20:80]) ** 2))
           for n in (-1, 0, 1)]  # fmt: skip
    rising = [float(np.sum((found.speed[1 + n : 9 + n] - found.predicted[1:9]) ** 2))
              for n in (-1, 0, 1)]  # fmt: skip
    assert rising[1] == min(rising)
    assert off[1] == min(off)
    T = axis.inverter.divider * axis.inverter.Ts
    for one in step.plan(axis).steps:
        assert one.duration / T == pytest.approx(round(one.duration / T), abs=1e-6)
