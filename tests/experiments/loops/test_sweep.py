"""Sweeps of the speed loop on a simulated drive; figures against the exact loop; wrong ones."""

import math
from dataclasses import replace

import numpy as np
import pytest

from oarlock.control.measured_loop import (
    PlantPoints,
    figures,
    opened_points,
    plant_response,
    volts_response,
)
from oarlock.control.speed import SpeedLoop
from oarlock.control.speed_design import Turning, loop_in_use, usual_speed
from oarlock.drive.dry_run import problems
from oarlock.drive.steps import Target
from oarlock.errors import InputError
from oarlock.experiments.loops.speed_sweep import SpeedSweep
from oarlock.experiments.loops.speed_test import usual_load
from oarlock.experiments.loops.sweep_response import SweepResult
from oarlock.experiments.reading import read
from oarlock.machine import Axis
from oarlock.practice.truth import draw
from oarlock.records import Record
from tests.conftest import play_on_model
from tests.speed_axis import tuned_winch


@pytest.fixture(scope="module")
def axis() -> Axis:
    return tuned_winch()


@pytest.fixture(scope="module")
def short(axis: Axis) -> SpeedSweep:
    return SpeedSweep(speed=usual_speed(axis), torque=0.7 * usual_load(axis), count=14, low=8.0)


@pytest.fixture(scope="module")
def record(axis: Axis, short: SpeedSweep) -> Record:
    return play_on_model(short, axis, draw("winch", 0))


def test_a_shaft_that_is_another_one_gives_the_loop_that_is_exact_for_it(axis: Axis) -> None:
    loop = loop_in_use(axis)
    shaft = loop.plant.shaft
    other = SpeedLoop(replace(loop.plant, shaft=replace(shaft, load=1.3 * shaft.load)), loop.gains)
    omega = np.geomspace(5.0, math.tau * 300.0, 80)
    points = PlantPoints(omega, plant_response(other.plant, omega), np.full(80, 1e-3),
                         np.ones(80, dtype=np.bool_))  # fmt: skip
    exact = other.opened.response(omega)[0]
    made = opened_points(points, loop)
    low = omega < math.tau * 64.0
    assert np.max(np.abs(made[low] / exact[low] - 1.0)) < 2e-3
    assert np.max(np.abs(made - exact) / np.maximum(np.abs(exact), 0.1)) < 0.05


def test_a_peak_that_no_trusted_point_sees_is_not_told(axis: Axis) -> None:
    loop = loop_in_use(axis)
    for low, high, told in ((10.0, 650.0, True), (10.0, 90.0, False)):
        omega = math.tau * np.geomspace(low, high, 70)
        points = PlantPoints(omega, plant_response(loop.plant, omega), np.full(70, 1e-3),
                             np.ones(70, dtype=np.bool_))  # fmt: skip
        found = figures(points, loop)
        assert found is not None
        assert math.isfinite(found.Ms) == told


def test_a_sweep_measures_crossover_and_margin(axis: Axis, record: Record) -> None:
    found = read(record, axis)
    assert isinstance(found, SweepResult)
    assert found.holds, found.said
    assert found.found is not None
    m = loop_in_use(axis).margins
    assert found.found.crossover == pytest.approx(m.crossover, rel=0.06)
    assert found.found.phase_margin == pytest.approx(m.phase_margin, abs=math.radians(4.0))
    low = found.points.omega < math.tau * 40.0
    model = plant_response(found.loop.plant, found.points.omega)
    assert np.max(np.abs(found.points.gain[low] / model[low] - 1.0)) < 0.08


def test_points_without_noise_give_the_figures_of_the_exact_loop(axis: Axis) -> None:
    loop = loop_in_use(axis)
    omega = np.geomspace(10.0, math.tau * 650.0, 70)
    points = PlantPoints(omega, plant_response(loop.plant, omega), np.full(70, 1e-3),
                         np.ones(70, dtype=np.bool_))  # fmt: skip
    found, m = figures(points, loop), loop.margins
    assert found is not None
    assert found.crossover == pytest.approx(m.crossover, rel=1e-3)
    assert found.phase_margin == pytest.approx(m.phase_margin, abs=2e-3)
    assert found.gain_margin == pytest.approx(m.gain_margin, rel=0.03)
    assert found.Ms == pytest.approx(m.Ms, rel=0.03)


def test_other_gains_are_previewed_on_the_measured_plant(axis: Axis, record: Record) -> None:
    found = read(record, axis)
    assert isinstance(found, SweepResult)
    gains = replace(found.loop.gains, Kp=0.5 * found.loop.gains.Kp, Ki=0.2 * found.loop.gains.Ki)
    other = SpeedLoop(found.loop.plant, gains)
    seen = figures(found.points, other)
    assert seen is not None
    assert seen.crossover == pytest.approx(other.margins.crossover, rel=0.06)
    assert opened_points(found.points, other).shape == found.points.omega.shape


def test_a_crossover_is_told_with_an_uncertainty_that_covers_it(axis: Axis) -> None:
    loop = loop_in_use(axis)
    omega = np.geomspace(10.0, math.tau * 400.0, 60)
    true, inside, within = plant_response(loop.plant, omega), 0, 0
    for seed in range(60):
        rng = np.random.default_rng(seed)
        noise = 0.02 * (rng.normal(size=60) + 1j * rng.normal(size=60))
        points = PlantPoints(omega, true * (1.0 + noise), np.full(60, 0.02),
                             np.ones(60, dtype=np.bool_))  # fmt: skip
        found = figures(points, loop)
        assert found is not None
        off = abs(found.crossover - loop.margins.crossover)
        inside += off <= 2.0 * found.crossover_std
        angle = abs(found.phase_margin - loop.margins.phase_margin)
        within += angle <= 2.0 * found.phase_margin_std
    assert inside >= 53  # of 60
    assert within >= 53


def test_what_it_will_do_is_planned_within_limits_and_table(axis: Axis) -> None:
    whole = SpeedSweep(speed=usual_speed(axis), torque=0.6 * usual_load(axis))
    plan = whole.plan(axis)
    assert not problems(plan, axis)
    assert len(plan.steps) < 512
    assert plan.recorded_rows(axis.inverter.Ts) == 0
    for line in whole.lines(axis):
        cycles = line.hertz * line.samples * axis.inverter.Ts
        assert cycles == pytest.approx(round(cycles), abs=1e-9)


def test_too_large_an_amplitude_is_refused_before_anything_moves(axis: Axis) -> None:
    wild = SpeedSweep(speed=usual_speed(axis), torque=1.0, count=8, low=60.0)
    plan = wild.plan(axis)
    assert not problems(plan, axis)
    *way, wave, last = plan.steps
    assert wave.wave is not None
    wave = replace(wave, wave=replace(wave.wave, amplitude=40.0 * wave.wave.amplitude))
    wrong = problems(replace(plan, steps=(*way, wave, last)), axis)
    assert any("beyond the limit" in p.sentence for p in wrong)


def test_below_the_crossover_no_line_takes_the_speed_near_standstill(axis: Axis) -> None:
    """Three tenths of the speed at the most, what the loop makes of it included."""
    speed = usual_speed(axis)
    large = SpeedSweep(speed=speed, torque=50.0 * usual_load(axis))
    loop = loop_in_use(axis, turning=Turning(speed=speed))
    for share in (0.1, 0.5, 0.9):
        hertz = share * loop.margins.crossover / math.tau
        target, swing = large.size(axis, loop, hertz)
        assert target is Target.SPEED
        made = swing * max(abs(loop.closed.at(math.tau * hertz)), 0.3)
        assert made == pytest.approx(0.3 * speed)


def test_no_line_asks_for_more_than_the_bus_leaves(axis: Axis) -> None:
    """Eight times the torque where the loop answers fast: the sines stay what the bus can make."""
    usual = SpeedSweep(speed=usual_speed(axis), torque=usual_load(axis), count=20)
    plant = loop_in_use(axis).plant
    for one, wild in zip(usual.lines(axis), usual.scaled(8.0).lines(axis), strict=True):
        if wild.target is Target.TORQUE:
            amps = wild.amplitude / axis.machine.torque_constant
            volts = abs(volts_response(plant, np.array([math.tau * wild.hertz]))[0])
            assert amps * volts <= 1.7 * axis.inverter.v_max  # the loop leaves 1 / |1 + L| of it
            assert wild.amplitude < 8.0 * one.amplitude or one.hertz < 60.0


def test_points_at_a_limit_are_left_out_and_it_is_said(axis: Axis, record: Record) -> None:
    assert record.sums is not None
    table = record.sums.table.copy()
    table[: table.shape[0] // 2, 2] = table[: table.shape[0] // 2, 1]  # all samples limited
    found = read(replace(record, sums=replace(record.sums, table=table)), axis)
    assert isinstance(found, SweepResult)
    assert not found.holds
    assert "because a limit was met" in found.said


def test_sums_that_are_not_complete_are_refused(axis: Axis, record: Record) -> None:
    assert record.sums is not None
    cut = replace(record, sums=replace(record.sums, table=record.sums.table[:-1]))
    with pytest.raises(InputError, match="sums of the sweep are not complete"):
        read(cut, axis)


def test_above_the_crossover_the_machine_gets_no_more_than_the_torque_that_was_given(
    axis: Axis,
) -> None:
    """What is injected comes to the machine times the sensitivity, which is above 1 there."""
    loop = loop_in_use(axis, turning=Turning(speed=usual_speed(axis)))
    sweep = SpeedSweep(speed=usual_speed(axis), torque=0.1 * usual_load(axis))
    above = 1.2 * loop.margins.crossover
    sensitivity = abs(1.0 / (1.0 + loop.opened.at(above)))
    assert sensitivity > 1.1
    target, size = sweep.size(axis, loop, above / math.tau)
    assert target is Target.TORQUE
    assert size == pytest.approx(sweep.torque / sensitivity)
