"""The dead time's describing function against a relay that is written down, and a real sweep."""

import math
from dataclasses import replace

import numpy as np
import pytest

from oarlock.control.dead_time import dead_resistance, stirred
from oarlock.control.speed_design import Turning, loop_in_use, usual_speed
from oarlock.experiments.loops.speed_sweep import SpeedSweep
from oarlock.experiments.loops.speed_test import usual_load
from oarlock.experiments.loops.sweep_response import SweepResult
from oarlock.experiments.loops.sweep_table import as_table
from oarlock.experiments.reading import read
from oarlock.practice.truth import draw
from oarlock.records import Run
from tests.conftest import play_on_model
from tests.speed_axis import tuned_winch


@pytest.mark.parametrize("bias", [0.0, 0.5, -1.5, 1.99])
def test_the_fundamental_of_a_relay_with_bias(bias: float) -> None:
    phase = np.linspace(0.0, math.tau, 20001)[:-1]
    current = bias + 2.0 * np.sin(phase)
    lost = 4.0 / math.pi * 3.0 * np.sign(current)
    fundamental = 2.0 * float(np.mean(lost * np.sin(phase)))
    assert dead_resistance(3.0, 2.0, bias) == pytest.approx(fundamental / 2.0, rel=1e-3)


def test_a_current_whose_sign_never_turns_meets_none() -> None:
    assert dead_resistance(3.0, 2.0, 2.5) == 0.0
    loop = loop_in_use(tuned_winch())
    assert stirred(loop, 3.0, 2.0, 2.5).margins.crossover == loop.margins.crossover
    assert stirred(loop, 3.0, 0.5, 0.0).margins.crossover < loop.margins.crossover


def test_a_sweep_is_held_against_the_loop_as_its_sines_met_it() -> None:
    """A winch with its dead time: a third of the amplitude loses three times as much."""
    plant = draw("winch", 0)
    axis = tuned_winch(plant)
    old = axis.parameter("inverter.dead_voltage")
    axis = axis.with_parameter(
        "inverter.dead_voltage",
        replace(old, adopted=replace(old.best, value=plant.dead_voltage)),
    )
    speed = usual_speed(axis)
    plain = loop_in_use(axis, turning=Turning(speed=speed)).margins.crossover
    took = []
    for share in (1.0, 0.33):
        sweep = SpeedSweep(speed=speed, torque=share * usual_load(axis), count=16, low=10.0)
        found = read(play_on_model(sweep, axis, plant), axis)
        assert isinstance(found, SweepResult)
        assert found.found is not None
        assert found.found.crossover == pytest.approx(found.expected.omega, rel=0.01)
        took.append(1.0 - found.expected.omega / plain)
    assert took[1] > 2.0 * took[0] > 0.01
    assert any("dead time takes" in check.sentence for check in found.checks)
    # Read back from a file there are no sines to be met: the loop alone is what it is held against.
    run = Run(id=3, axis="", kind="speed sweep", title="", started="", ended="done",
              settings=sweep.settings(axis), gains={})  # fmt: skip
    assert isinstance(found, SweepResult)
    again = read(as_table(run, found), axis)
    assert isinstance(again, SweepResult)
    assert again.expected.omega == pytest.approx(plain, rel=0.02)
    assert again.expected.omega > 1.02 * found.expected.omega
