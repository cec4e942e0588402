"""Multisines: every line at once, each with a scatter that knows what repeats but is no answer."""

import math
from dataclasses import replace

import numpy as np
import pytest

from oarlock.control.measured_loop import plant_response
from oarlock.control.speed_design import Turning, loop_in_use, usual_speed
from oarlock.drive.dry_run import problems
from oarlock.drive.steps import Target
from oarlock.errors import InputError
from oarlock.experiments.loops.multisine_points import _part
from oarlock.experiments.loops.speed_multisine import SpeedMultisine
from oarlock.experiments.loops.speed_sweep import SpeedSweep
from oarlock.experiments.loops.speed_test import usual_load
from oarlock.experiments.loops.sweep_response import SweepResult
from oarlock.experiments.reading import read
from oarlock.machine import Axis
from oarlock.practice.truth import draw
from oarlock.simulate.plant_parameters import PlantParameters
from tests.conftest import play_on_model
from tests.speed_axis import tuned_winch

PLANT = replace(draw("winch", 0), dead_voltage=0.0, Lq_saturated=draw("winch", 0).Lq)


@pytest.fixture(scope="module")
def axis() -> Axis:
    return tuned_winch(PLANT)


@pytest.fixture(scope="module")
def multisine(axis: Axis) -> SpeedMultisine:
    return SpeedMultisine(speed=usual_speed(axis), torque=usual_load(axis))


def swept(multisine: SpeedMultisine, axis: Axis, plant: PlantParameters, seed: int) -> SweepResult:
    found = read(play_on_model(multisine, axis, plant, seed=seed), axis)
    assert isinstance(found, SweepResult)
    return found


def test_it_is_planned_in_two_parts_of_whole_periods_within_limits(
    axis: Axis, multisine: SpeedMultisine
) -> None:
    plan = multisine.plan(axis)
    assert not problems(plan, axis)
    assert len(plan.lines) <= 64
    below, above = multisine.parts(axis)
    assert (below.target, above.target) == (Target.SPEED, Target.TORQUE)
    crossover = loop_in_use(axis, turning=Turning(speed=multisine.speed)).margins.crossover
    assert below.lines[-1][0] < crossover / math.tau < above.lines[0][0]
    for part in (below, above):
        assert all(k % 2 == 1 for k in part.bins)
    t = np.arange(8000) / 8000.0
    torque = sum(a * np.sin(math.tau * k * t + p)
                 for k, (_, a, p) in zip(above.bins, above.lines, strict=True))  # fmt: skip
    assert np.max(np.abs(torque)) <= 1.05 * multisine.torque
    sines = SpeedSweep(speed=multisine.speed, torque=multisine.torque, count=62)
    assert plan.duration < 0.4 * sines.plan(axis).duration


def test_it_tells_crossover_margin_and_its_own_scatter(
    axis: Axis, multisine: SpeedMultisine
) -> None:
    loop = loop_in_use(axis, turning=Turning(speed=multisine.speed))
    off, m = [], loop.margins
    for seed in range(3):
        found = swept(multisine, axis, PLANT, seed)
        assert found.holds, found.said
        assert found.found is not None
        assert found.found.crossover == pytest.approx(m.crossover, rel=0.015)
        assert found.found.phase_margin == pytest.approx(m.phase_margin, abs=math.radians(1.0))
        points, keep = found.points, found.points.trusted
        ratio = points.gain / plant_response(loop.plant, points.omega) - 1.0
        off += list(np.abs(ratio[keep].real) / np.hypot(points.std[keep], 3e-3))
        assert keep.mean() > 0.6
    assert np.mean(np.array(off) <= 2.0) > 0.9


@pytest.mark.parametrize(("repeats", "factor"), [(False, 1.0), (True, 8.0)])
def test_what_stands_between_the_lines_in_each_period_is_no_noise(
    axis: Axis, multisine: SpeedMultisine, repeats: bool, factor: float
) -> None:
    plant = loop_in_use(axis, turning=Turning(speed=multisine.speed)).plant
    bins, base, periods, noise = np.arange(21, 61, 4), 2.0, 8, 1e-3
    rng = np.random.default_rng(3)
    current = np.zeros((periods, 80), dtype=np.complex128)
    current[:, bins] = 1.0
    drawn = rng.normal(0.0, noise, (2, periods, 80))
    turned = drawn[0] + 1j * drawn[1]
    gain = plant_response(plant, 2.0 * math.pi * base * bins.astype(np.float64))
    turned[:, bins] += gain
    size = factor * noise  # of what comes back each period, or with another sign each time
    signs = np.ones(periods) if repeats else np.tile([1.0, -1.0], periods // 2)
    if factor > 1.0:
        turned[:, bins + 1] += size * signs[:, None]
        turned[:, bins - 1] += size * signs[:, None]
    _, found, std = _part(current, turned, bins, base, plant)
    assert np.abs(found / gain - 1.0) == pytest.approx(0.0, abs=5.0 * noise / np.abs(gain).min())
    expected = max(noise / math.sqrt(periods), size / math.sqrt(2.0) if repeats else 0.0)
    assert np.median(std * np.abs(gain)) == pytest.approx(expected, rel=0.35)


def test_what_repeats_but_is_no_answer_stands_in_the_scatter(
    axis: Axis, multisine: SpeedMultisine
) -> None:
    plain = swept(multisine, axis, PLANT, 0)
    playing = swept(multisine, axis, replace(PLANT, backlash=math.radians(1.5)), 0)
    assert np.median(playing.points.std) > 3.0 * np.median(plain.points.std)


def test_a_voltage_that_meets_its_limit_is_told_by_the_drives_sums(
    axis: Axis, multisine: SpeedMultisine
) -> None:
    found = swept(multisine, axis, replace(PLANT, bus=0.65 * PLANT.bus), 0)
    assert not found.holds
    assert not found.points.trusted.any()
    assert "because a limit was met" in found.said


def test_a_record_that_is_cut_short_is_refused(axis: Axis, multisine: SpeedMultisine) -> None:
    record = play_on_model(multisine, axis, PLANT)
    short = replace(record, columns={name: c[:-50] for name, c in record.columns.items()})
    with pytest.raises(InputError, match="do not fit the multisines"):
        read(short, axis)


def test_its_title_tells_from_where_to_where_it_goes(axis: Axis, multisine: SpeedMultisine) -> None:
    below, above = multisine.parts(axis)
    first, last = below.lines[0][0], above.lines[-1][0]
    assert multisine.title(axis).startswith(f"multisine {first:.2g} to {last:.0f} Hz, ")
    assert f"{first:.2g}" != f"{below.lines[1][0]:.2g}"
