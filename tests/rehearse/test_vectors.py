"""Vectors at a moment, against the machine's equations in the steady state."""

import math

import pytest

from oarlock.quantities import Estimate, Origin
from oarlock.rehearse.events import Load
from oarlock.rehearse.plant import believed_plant
from oarlock.rehearse.scenario import Control, Point, Scenario
from oarlock.views.rehearsal import simulated
from oarlock.views.vectors import vectors_at
from tests.speed_axis import tuned_winch


def test_they_keep_to_the_phasor_equations_and_turn_with_the_shaft() -> None:
    none = Estimate(value=0.0, std=0.0, unit="V", origin=Origin.MEASURED)
    axis = tuned_winch().adopting("inverter.dead_voltage", none)
    speed = 120.0
    shown = simulated(
        Scenario(name="s", control=Control.SPEED, duration=1.0,
                 points=(Point(at=0.0, value=speed, acceleration=800.0),),
                 loads=(Load(at=0.0, torque=4.0),)), axis)  # fmt: skip
    plant, w = believed_plant(axis), speed * axis.machine.pole_pairs.value
    made = vectors_at(shown, 0.9)
    flux = complex(plant.psi + plant.Ld * made.amperes.real, plant.Lq * made.amperes.imag)
    assert made.flux == pytest.approx(flux)
    assert made.volts == pytest.approx(plant.R * made.amperes + 1j * w * flux, rel=0.03)
    assert made.amperes.imag * axis.machine.torque_constant == pytest.approx(4.0, rel=0.2)
    step = shown.run.t[1] - shown.run.t[0]
    later = vectors_at(shown, 0.9 + 3.0 * step)
    assert math.remainder(later.theta - made.theta - w * 3.0 * step, math.tau) == pytest.approx(
        0.0, abs=0.02)  # fmt: skip
    assert made.bus / made.v_max == pytest.approx(math.sqrt(3.0))
