"""What moves a shaft on speed, by hand: gains, ramps, how far they go; interlocks."""

import math
from dataclasses import replace

import pytest

from oarlock.drive.dry_run import problems, refuse
from oarlock.drive.steps import MAX_STEPS, Frame, Limits, Plan, Step
from oarlock.errors import InputError
from oarlock.experiments.common.gentle import gentle_gains
from oarlock.experiments.common.speed import (
    excursion,
    most_by_edges,
    no_load_speed,
    pace_by_edges,
    ramp,
    ramp_time,
    settling_by_edges,
    speed_loop,
)
from oarlock.machine import Axis, SensorKind

# The winch as printed: 69 kg cm2, 1.5 times 4 pole pairs times 160 mWb, 7.1 A rms.
J, KT, RATED = 6.9e-3, 6.0 * 0.15997, 7.1 * math.sqrt(2.0)


def test_gains_put_the_crossover_where_it_is_asked_for(axis: Axis) -> None:
    w = 30.0
    made = speed_loop(axis, w)
    Kp, Ki = made.Kp, made.Ki
    loop = (Kp + Ki / (1j * w)) * KT / (J * 1j * w)
    assert abs(loop) == pytest.approx(math.hypot(1.0, 0.25), rel=1e-3)
    assert math.degrees(math.atan2(Ki / w, Kp)) == pytest.approx(14.04, abs=0.01)


def test_a_ramp_takes_its_torque_and_its_time(axis: Axis) -> None:
    assert ramp_time(axis, -100.0, 0.2) == pytest.approx(J * 100.0 / (0.2 * KT * RATED), rel=1e-3)
    assert no_load_speed(axis) == pytest.approx(320.0 / math.sqrt(3.0) / (4 * 0.15997), rel=1e-3)
    steps = ramp(Step(duration=1.0, frame=Frame.SPEED), 10.0, 50.0, 0.21)
    assert len(steps) == 11  # of 20 ms at most
    assert sum(step.duration for step in steps) == pytest.approx(0.21)
    assert steps[0].speed == pytest.approx(10.0 + 0.5 * 40.0 / 11)
    assert steps[-1].speed == pytest.approx(50.0 - 0.5 * 40.0 / 11)
    assert excursion(steps) == pytest.approx(30.0 * 0.21 / math.tau)
    back = [replace(step, speed=-step.speed) for step in steps]
    assert excursion([*steps, *back, *back]) == pytest.approx(30.0 * 0.21 / math.tau)


def test_a_long_ramp_takes_longer_steps_not_more() -> None:
    steps = ramp(Step(duration=1.0, frame=Frame.SPEED), 0.0, 50.0, 3.0)
    assert len(steps) == 24
    assert sum(step.duration for step in steps) == pytest.approx(3.0)
    assert steps[-1].speed == pytest.approx(50.0 - 0.5 * 50.0 / 24)


@pytest.mark.parametrize(("pairs", "slowest", "pace"), [(10, 50.0, 30.0), (5, 20.0, 22.9),
                                                        (1, 40.0, 12.0)])  # fmt: skip
def test_by_halls_a_controller_is_no_faster_than_edges_come(
    axis: Axis, pairs: int, slowest: float, pace: float
) -> None:
    """0.24 rad/s for each of 6 p n edges a second, between 12 rad/s and what is wanted."""
    assert pace_by_edges(axis, 30.0, slowest) == 30.0
    old = axis.machine.pole_pairs
    axis = axis.with_parameter(
        "machine.pole_pairs", replace(old, printed=replace(old.printed, value=float(pairs)))
    )
    halls = replace(axis, sensor=replace(axis.sensor, kind=SensorKind.HALL))
    assert pace_by_edges(halls, 30.0, slowest) == pytest.approx(pace, abs=0.1)
    assert settling_by_edges(30.0, 30.0) == 0.0
    assert settling_by_edges(12.0, 30.0) == pytest.approx(1.0)
    assert most_by_edges(halls) == pytest.approx(0.9 * RATED, rel=1e-3)
    assert most_by_edges(axis) == 0.0


def _plan(axis: Axis, *steps: Step) -> Plan:
    return Plan(
        name="held",
        steps=steps,
        channels=("t", "id"),
        limits=Limits(current=8.0, speed=100.0, travel=math.tau, time=60.0),
        gains=gentle_gains(axis, 300.0),
    )


def test_as_many_steps_as_a_drive_takes(axis: Axis) -> None:
    one = Step(duration=0.001, i_d=0.1, frame=Frame.FIXED)
    assert not any(
        "steps; a drive takes" in t.sentence for t in problems(_plan(axis, *[one] * 512), axis)
    )
    assert any("513 steps; a drive takes 1 to 512" in t.sentence
               for t in problems(_plan(axis, *[one] * (MAX_STEPS + 1)), axis))  # fmt: skip


def _known(axis: Axis, phases: str) -> Axis:
    for phase in phases:
        path = f"inverter.offset_{phase}"
        old = axis.parameter(path)
        axis = axis.with_parameter(path, replace(old, adopted=old.printed))
    return axis


def test_only_sensors_that_are_there_must_be_sound(axis: Axis) -> None:
    bare = replace(axis, inverter=replace(axis.inverter, unsensed="c"))
    for phase in "abc":
        path = f"inverter.offset_{phase}"
        bare = bare.with_parameter(path, replace(bare.parameter(path), adopted=None))
    held = _plan(bare, Step(duration=0.1, i_d=1.0, frame=Frame.FIXED))
    words = "before the sensors' offsets are known"
    assert any(words in t.sentence for t in problems(held, bare))
    assert any(words in t.sentence for t in problems(held, _known(bare, "ac")))
    assert not any(words in t.sentence for t in problems(held, _known(bare, "ab")))
    with pytest.raises(InputError) as refused:
        refuse(held, bare)
    assert refused.value.remedy.startswith("The order is: currents")
    strong = _plan(_known(bare, "ab"), Step(duration=0.1, i_d=90.0, frame=Frame.FIXED))
    with pytest.raises(InputError) as refused:
        refuse(strong, _known(bare, "ab"))
    assert refused.value.remedy.startswith("Lower the amplitude")
