"""Sweeps of the current loop on a simulated drive, against the exact loop."""

import math
from dataclasses import replace

import numpy as np
import pytest

from oarlock.control.current import loops_with
from oarlock.control.margins import margins
from oarlock.drive.dry_run import problems
from oarlock.errors import InputError
from oarlock.experiments.loops.current_response import CurrentSwept
from oarlock.experiments.loops.current_sweep import CurrentSweep
from oarlock.experiments.reading import read
from oarlock.machine import Axis
from oarlock.practice.truth import draw
from tests.conftest import play_on_model
from tests.speed_axis import known_winch


@pytest.fixture(scope="module")
def axis() -> Axis:
    return known_winch()


@pytest.mark.parametrize("which", ["d", "q"])
def test_the_open_loop_is_measured_up_to_nearly_half_the_sampling(axis: Axis, which: str) -> None:
    sweep = CurrentSweep(axis_name=which, bias=4.0, amplitude=0.8)
    assert not problems(sweep.plan(axis), axis)
    found = read(play_on_model(sweep, axis, draw("winch", 0)), axis)
    assert isinstance(found, CurrentSwept)
    assert found.holds, found.said
    assert found.points.omega[-1] > 0.8 * math.pi / axis.inverter.Ts
    assert axis.gains is not None
    exact = margins(loops_with(axis, axis.gains)["dq".index(which)].opened)
    assert found.found is not None
    assert found.found.crossover == pytest.approx(exact.crossover, rel=0.05)
    assert found.found.phase_margin == pytest.approx(exact.phase_margin, abs=math.radians(2.0))
    assert found.found.gain_margin == pytest.approx(exact.gain_margin, rel=0.06)
    ratio = found.points.opened / found.points.model(found.points.omega)
    assert np.max(np.abs(ratio - ratio.mean())) < 0.04  # nothing but a gain lies between them


def test_an_inductance_that_is_wrong_is_seen(axis: Axis) -> None:
    plant = replace(draw("winch", 0), Lq=0.75 * draw("winch", 0).Lq,
                    Lq_saturated=0.75 * draw("winch", 0).Lq_saturated)  # fmt: skip
    sweep = CurrentSweep(axis_name="q", bias=4.0, amplitude=0.8)
    found = read(play_on_model(sweep, axis, plant), axis)
    assert isinstance(found, CurrentSwept)
    assert "crossover" in {c.code for c in found.checks if not c.passed}


def test_what_is_no_sweep_is_refused(axis: Axis) -> None:
    with pytest.raises(InputError, match="cannot sweep z"):
        CurrentSweep(axis_name="z", bias=4.0, amplitude=0.8).plan(axis)
    sweep = CurrentSweep(axis_name="q", bias=4.0, amplitude=0.8)
    with pytest.raises(InputError, match="no gains"):
        sweep.plan(axis.with_gains(None))
    record = play_on_model(sweep, axis, draw("winch", 0))
    with pytest.raises(InputError, match="sums of the sweep are not complete"):
        read(replace(record, sums=None), axis)
