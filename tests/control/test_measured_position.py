"""The open position loop by measured points: against a loop that is built on what was measured."""

import math
from dataclasses import replace

import numpy as np
import pytest

from oarlock.control.measured_loop import PlantPoints, figures_of, plant_response
from oarlock.control.measured_position import position_points
from oarlock.control.position import PositionLoop
from oarlock.control.speed import SpeedLoop
from oarlock.control.speed_design import loop_in_use, plant_of
from oarlock.machine.position_loop import PositionGains
from tests.speed_axis import tuned_winch

AXIS = tuned_winch()
OMEGA = math.tau * np.geomspace(3.0, 60.0, 60)


@pytest.mark.parametrize("factor", [0.7, 1.0, 1.5])
def test_other_shafts_give_the_loop_that_is_exact_for_them(factor: float) -> None:
    shaft = plant_of(AXIS).shaft
    other = replace(shaft, motor=factor * shaft.motor, load=factor * shaft.load,
                    stiffness=factor * shaft.stiffness)  # fmt: skip
    true_plant = plant_of(AXIS, shaft=other)
    measured = PlantPoints(OMEGA, plant_response(true_plant, OMEGA), np.full(OMEGA.size, 1e-3),
                           np.ones(OMEGA.size, dtype=bool))  # fmt: skip
    speed, gains = loop_in_use(AXIS), PositionGains(Kp=60.0)
    points = position_points(measured, PositionLoop(speed, gains))
    exact = PositionLoop(SpeedLoop(true_plant, speed.gains), gains)
    expected = exact.opened.response(OMEGA)[0]
    assert np.abs(points.opened / expected - 1.0).max() < 0.01
    found = figures_of(points, exact.margins.crossover)
    assert found is not None
    assert found.crossover == pytest.approx(exact.margins.crossover, rel=0.005)
    assert found.phase_margin == pytest.approx(exact.margins.phase_margin, abs=math.radians(0.5))


def test_scatter_matters_less_where_the_speed_loop_holds() -> None:
    loop = PositionLoop(loop_in_use(AXIS), PositionGains(Kp=60.0))
    plant = plant_response(loop.speed.plant, OMEGA)
    scatter = np.full(OMEGA.size, 0.05)
    points = position_points(PlantPoints(OMEGA, plant, scatter, scatter > 0.0), loop)
    assert points.std[0] < 0.005
    rng = np.random.default_rng(3)
    noise = 0.01 * (rng.normal(size=(400, OMEGA.size)) + 1j * rng.normal(size=(400, OMEGA.size)))
    drawn = [position_points(PlantPoints(OMEGA, plant * (1.0 + one), scatter, scatter > 0.0),
                             loop).opened for one in noise]  # fmt: skip
    spread = np.std(np.array(drawn) / points.opened, axis=0) / math.sqrt(2.0)
    assert spread == pytest.approx(0.2 * points.std, rel=0.25)
