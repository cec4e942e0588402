"""Chirps: the same figures as the sines in a sixth of the time, each with an honest scatter."""

import math
from dataclasses import replace

import numpy as np
import pytest

from oarlock.control.measured_loop import plant_response
from oarlock.control.speed_design import Turning, loop_in_use, usual_speed
from oarlock.drive.dry_run import problems
from oarlock.drive.steps import Target
from oarlock.errors import InputError
from oarlock.experiments.loops.speed_chirp import SpeedChirp
from oarlock.experiments.loops.speed_sweep import SpeedSweep
from oarlock.experiments.loops.speed_test import usual_load
from oarlock.experiments.loops.sweep_response import SweepResult
from oarlock.experiments.reading import read
from oarlock.machine import Axis
from oarlock.practice.truth import draw
from tests.conftest import play_on_model
from tests.speed_axis import tuned_winch

PLANT = replace(draw("winch", 0), dead_voltage=0.0, Lq_saturated=draw("winch", 0).Lq)


@pytest.fixture(scope="module")
def axis() -> Axis:
    return tuned_winch(PLANT)


@pytest.fixture(scope="module")
def chirp(axis: Axis) -> SpeedChirp:
    return SpeedChirp(speed=usual_speed(axis), torque=usual_load(axis))


def test_it_is_planned_within_limits_and_recorder_and_far_shorter(
    axis: Axis, chirp: SpeedChirp
) -> None:
    plan = chirp.plan(axis)
    assert not problems(plan, axis)
    assert not problems(replace(chirp, seconds=(8.0, 8.0, 8.0)).plan(axis), axis)
    sines = SpeedSweep(speed=chirp.speed, torque=chirp.torque, count=100)
    assert plan.duration < 0.2 * sines.plan(axis).duration
    low, middle, high = chirp.glides(axis)
    assert (low.target, middle.target, high.target) == (Target.SPEED, Target.TORQUE, Target.TORQUE)
    assert middle.high == high.low


def test_it_tells_crossover_margin_and_its_own_scatter(axis: Axis, chirp: SpeedChirp) -> None:
    loop = loop_in_use(axis, turning=Turning(speed=chirp.speed))
    off = []
    for seed in range(3):
        found = read(play_on_model(chirp, axis, PLANT, seed=seed), axis)
        assert isinstance(found, SweepResult)
        assert found.holds, found.said
        assert found.found is not None
        m = loop.margins
        assert found.found.crossover == pytest.approx(m.crossover, rel=0.015)
        assert found.found.phase_margin == pytest.approx(m.phase_margin, abs=math.radians(1.0))
        points = found.points
        ratio = points.gain / plant_response(loop.plant, points.omega) - 1.0
        keep = points.trusted
        off += list(np.abs(ratio[keep].real) / np.hypot(points.std[keep], 3e-3))
        assert np.count_nonzero(~keep) > 3  # where it is too weak it says so
    assert np.mean(np.array(off) <= 2.0) > 0.9


def test_a_record_that_is_cut_short_is_refused(axis: Axis, chirp: SpeedChirp) -> None:
    record = play_on_model(chirp, axis, PLANT)
    short = replace(record, columns={name: c[:-50] for name, c in record.columns.items()})
    with pytest.raises(InputError, match="do not fit the chirps"):
        read(short, axis)
