"""The inertia that a few points show: against a plant worked out by hand, and points that lie."""

import math

import numpy as np
import pytest
from numpy.typing import NDArray

from oarlock.control.measured_loop import PlantPoints
from oarlock.control.seen_inertia import seen_inertia, with_load
from oarlock.control.shaft import shaft_of
from oarlock.control.speed_design import plant_of, usual_speed
from tests.speed_axis import tuned_winch

Array = NDArray[np.float64]
AXIS = tuned_winch()
PLANT = plant_of(AXIS)
OMEGA = math.tau * np.geomspace(20.0, 60.0, 7)


def _true_plant(omega: Array, factor: float) -> NDArray[np.complex128]:
    """Return speed over current, by the continuous laws of two masses."""
    m, shaft = AXIS.machine, shaft_of(AXIS)
    motor, load, K = (factor * v for v in (shaft.motor, shaft.load, shaft.stiffness))
    s, D = 1j * omega, factor * shaft.damping
    coupling = K / s + D
    torque_to_speed = 1.0 / (motor * s + shaft.viscous
                             + coupling * load * s / (load * s + coupling))  # fmt: skip
    # The angle turned in a sample is told at its end, half a sample late on average.
    late = np.exp(-0.5j * omega * 62.5e-6)
    return np.asarray(m.torque_constant * torque_to_speed * late, dtype=np.complex128)


def _points(factor: float, noise: float, seed: int) -> PlantPoints:
    rng = np.random.default_rng(seed)
    scatter = noise * (rng.normal(size=OMEGA.size) + 1j * rng.normal(size=OMEGA.size))
    gain = _true_plant(OMEGA, factor) * (1.0 + scatter)
    return PlantPoints(OMEGA, gain, np.full(OMEGA.size, noise), np.ones(OMEGA.size, dtype=bool))


@pytest.mark.parametrize("factor", [0.4, 1.0, 2.5])
def test_it_is_found_and_its_uncertainty_is_honest(factor: float) -> None:
    seen = [seen_inertia(_points(factor, 0.02, seed), PLANT) for seed in range(200)]
    ratios = np.array([one.ratio for one in seen])
    assert np.mean(ratios) == pytest.approx(factor, rel=0.02)
    pulls = [math.log(one.ratio / np.mean(ratios)) / one.std for one in seen]
    assert 0.75 < np.std(pulls) < 1.25
    assert max(abs(one.late) for one in seen) < math.radians(4.0)


def test_points_that_do_not_fit_show_it() -> None:
    points = _points(1.0, 0.01, 1)
    bent = PlantPoints(OMEGA, points.gain * np.linspace(0.7, 1.4, OMEGA.size), points.std,
                       points.trusted)  # fmt: skip
    assert seen_inertia(bent, PLANT).misfit > 0.1
    late = PlantPoints(OMEGA, points.gain * np.exp(-1j * 0.3), points.std, points.trusted)
    assert seen_inertia(late, PLANT).late == pytest.approx(0.3, abs=0.03)
    none = PlantPoints(OMEGA, points.gain, points.std, np.zeros(OMEGA.size, dtype=bool))
    assert seen_inertia(none, PLANT).points == 0


def test_another_load_moves_both_resonances() -> None:
    shaft = shaft_of(AXIS, speed=usual_speed(AXIS))
    heavy = with_load(shaft, shaft.inertia + shaft.load)
    assert heavy is not None
    assert heavy.anti_resonance == pytest.approx(shaft.anti_resonance / math.sqrt(2.0))
    assert heavy.motor == shaft.motor
    assert with_load(shaft, 0.9 * shaft.motor) is None
