"""The shaft fitted to a response, against one written down apart from the model, with noise."""

import math
from dataclasses import replace

import numpy as np
import pytest
from numpy.typing import NDArray

from oarlock.control.fitted_shaft import fitted_shaft, quality
from oarlock.control.measured_loop import PlantPoints, plant_response
from oarlock.control.shaft import Shaft
from oarlock.control.speed_design import loop_in_use
from oarlock.control.speed_plant import SpeedPlant
from tests.speed_axis import tuned_winch


@pytest.fixture(scope="module")
def plant() -> SpeedPlant:
    return loop_in_use(tuned_winch()).plant


def mechanics(shaft: Shaft, omega: NDArray[np.float64]) -> NDArray[np.complex128]:
    """Two masses as a textbook writes them, speed for each N·m, without any of the model's code."""
    s = 1j * omega
    through = shaft.damping + shaft.stiffness / s
    load = shaft.load * s
    gain = 1.0 / (shaft.motor * s + shaft.viscous + through * load / (through + load))
    return np.asarray(gain, dtype=np.complex128)


def measured(
    plant: SpeedPlant, shaft: Shaft, noise: float | NDArray[np.float64], seed: int = 1
) -> PlantPoints:
    """Points of a drive with another shaft: the electrical side as modelled, dead time on top."""
    omega = math.tau * np.geomspace(2.0, 650.0, 110)
    rigid = replace(plant.shaft, stiffness=0.0, motor=plant.shaft.inertia, load=0.0)
    stiff = replace(plant, shaft=rigid, back_emf=0.0)
    s = 1j * omega
    alone = plant_response(stiff, omega) * (rigid.inertia * s + rigid.viscous)
    gain = alone * mechanics(shaft, omega) * np.exp(-1j * omega * 20e-6)
    rng = np.random.default_rng(seed)
    off = noise * (rng.normal(size=110) + 1j * rng.normal(size=110))
    return PlantPoints(omega, gain * (1.0 + off), np.full(110, noise), np.ones(110, np.bool_))


@pytest.mark.parametrize("ratio", [0.75, 1.0, 1.3])
def test_another_shaft_than_the_modelled_one_is_found(plant: SpeedPlant, ratio: float) -> None:
    true = replace(plant.shaft.moved(ratio), load=1.2 * plant.shaft.load)
    free = replace(plant, back_emf=0.0)
    inside = []
    for seed in range(5):
        found = fitted_shaft(measured(free, true, 0.01, seed), free)
        assert found is not None
        assert found.resonance.value == pytest.approx(true.resonance, rel=1e-3)
        assert found.anti_resonance.value == pytest.approx(true.anti_resonance, rel=3e-3)
        assert found.quality.value == pytest.approx(quality(true), rel=0.05)
        assert found.late == pytest.approx(20e-6, abs=8e-6)
        inside.append(abs(found.resonance.value - true.resonance) <= 2.0 * found.resonance.std)
    assert sum(inside) >= 4


def test_points_whose_stretches_agree_by_chance_do_not_decide(plant: SpeedPlant) -> None:
    free, rng = replace(plant, back_emf=0.0), np.random.default_rng(5)
    noise = np.where(np.geomspace(2.0, 650.0, 110) > 80.0, 0.03, 0.002)  # little moves up there
    z = []
    for seed in range(30):
        points = measured(free, free.shaft, noise, seed)
        # Three stretches of complex points tell a scatter with four degrees of freedom.
        std = points.std * np.sqrt(rng.chisquare(4, size=points.std.size) / 4.0)
        found = fitted_shaft(replace(points, std=std), free)
        assert found is not None
        pairs = ((found.quality, quality(free.shaft)),
                 (found.anti_resonance, free.shaft.anti_resonance))  # fmt: skip
        z.append([(told.value - true) / told.std for told, true in pairs])
    spread = np.sqrt(np.mean(np.square(z), axis=0))
    assert np.all((spread > 0.6) & (spread < 1.25))


def test_a_shaft_that_is_modelled_as_one_mass_is_found_by_its_peak(plant: SpeedPlant) -> None:
    rigid = Shaft(motor=plant.shaft.inertia, viscous=plant.shaft.viscous)
    free = replace(plant, back_emf=0.0)
    found = fitted_shaft(measured(free, free.shaft, 0.01), replace(free, shaft=rigid))
    assert found is not None
    assert found.resonance.value == pytest.approx(free.shaft.resonance, rel=1e-3)
    still = fitted_shaft(measured(free, replace(rigid, load=1e-9, stiffness=1e9), 0.01),
                         replace(free, shaft=rigid))  # fmt: skip
    assert still is None


@pytest.mark.parametrize("times", [5.0, 10.0, 20.0])
def test_a_damped_shaft_is_found_too(plant: SpeedPlant, times: float) -> None:
    """Its peak stands out by 96, 29 and 9 times, that of the light one by 870."""
    free = replace(plant, back_emf=0.0)
    true = replace(free.shaft, damping=times * free.shaft.damping)
    rigid = Shaft(motor=true.inertia, viscous=true.viscous)
    for modelled in (free.shaft, rigid):
        found = fitted_shaft(measured(free, true, 0.005), replace(free, shaft=modelled))
        assert found is not None
        assert found.resonance.value == pytest.approx(true.resonance, rel=0.01)
        assert found.quality.value == pytest.approx(quality(true), rel=0.05)


def test_points_that_two_masses_do_not_carry_tell_no_resonance(plant: SpeedPlant) -> None:
    free = replace(plant, back_emf=0.0)
    points = measured(free, free.shaft, 0.01)
    third = 1.0 + 3.0 / (1.0 + 0.02j * (points.omega / 2600.0 - 2600.0 / points.omega) * 50.0)
    assert fitted_shaft(replace(points, gain=points.gain * third), free) is None
    few = points.trusted & (points.omega < 300.0)
    assert fitted_shaft(replace(points, trusted=few), free) is None
