"""How warm a winding gets, against loss and cooling stepped by hand."""

import math
from dataclasses import replace

import pytest

from oarlock.machine import Axis, Parameter
from oarlock.machine.heat import resistance_at, winding_at
from oarlock.quantities import Estimate, Origin


def bearing(axis: Axis, celsius: float) -> Axis:
    most = Estimate(value=celsius, unit="°C", origin=Origin.DATASHEET)
    return axis.with_parameter("machine.max_temperature", Parameter(printed=most))


def stepped(axis: Axis, rms: float, most: float) -> float:
    """Heat a lump of copper in air of 40 °C until it warms no more."""
    m = axis.machine

    def loss(amperes: float, celsius: float) -> float:
        return amperes**2 * (1.0 + 0.00393 * (celsius - 20.0))

    cooling = loss(m.rated_current.value / math.sqrt(2.0), most) / (most - 40.0)  # of the rating
    warm = 25.0
    for _ in range(20000):
        warm += 2e-3 * (loss(rms, warm) - cooling * (warm - 40.0)) / cooling
    return warm


@pytest.mark.parametrize("share", [0.2, 0.7, 1.0, 1.2])
def test_the_winding_warms_to_where_loss_and_cooling_meet(axis: Axis, share: float) -> None:
    rms = share * axis.machine.rated_current.value / math.sqrt(2.0)
    hot = bearing(axis, 130.0)
    assert winding_at(hot, rms) == pytest.approx(stepped(axis, rms, 130.0), abs=0.1)


def test_rated_current_leads_to_what_the_winding_may_reach(axis: Axis) -> None:
    rated = axis.machine.rated_current.value / math.sqrt(2.0)
    assert winding_at(bearing(axis, 155.0), rated) == pytest.approx(155.0)
    assert winding_at(bearing(axis, 155.0), 0.0) == pytest.approx(40.0)
    assert math.isinf(winding_at(bearing(axis, 155.0), 3.0 * rated))
    assert math.isnan(winding_at(axis, rated))
    unknown = replace(axis, machine=replace(axis.machine, rated_current=Parameter(
        printed=Estimate(value=1.0, unit="A", origin=Origin.ASSUMED))))  # fmt: skip
    assert math.isnan(winding_at(bearing(unknown, 155.0), rated))


def test_copper_gains_four_tenths_of_a_per_cent_a_kelvin() -> None:
    assert resistance_at(1.0, 20.0, 120.0) == pytest.approx(1.393)
    assert resistance_at(1.393, 120.0, 20.0) == pytest.approx(1.0)
    assert resistance_at(resistance_at(0.82, 34.0, 90.0), 90.0, 34.0) == pytest.approx(0.82)
