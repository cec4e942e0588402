"""Play in a coupling: told by its cause and refused, a little of it in the uncertainty."""

import math
from dataclasses import replace

import pytest

from oarlock.experiments.identify.resonance import TorqueSines, estimate_resonance
from oarlock.practice.truth import draw
from oarlock.records import Finding
from tests.conftest import play_on_model
from tests.speed_axis import known_winch


def found(degrees: float) -> Finding:
    plant = replace(draw("winch", 0), backlash=math.radians(degrees))
    axis = known_winch(plant)
    return estimate_resonance(play_on_model(TorqueSines(), axis, plant), axis)


def test_a_shaft_without_play_is_not_accused_of_it() -> None:
    finding = found(0.0)
    assert finding.holds, finding.said
    assert any(check.code == "play" for check in finding.checks)


@pytest.mark.parametrize("degrees", [0.01, 0.05, 0.2, 0.3, 1.0])
def test_play_is_named_and_no_resonance_is_shown_as_right(degrees: float) -> None:
    finding = found(degrees)
    assert not finding.holds
    said = " ".join(check.sentence for check in finding.checks if not check.passed)
    assert "play in coupling or gear" in said or (degrees == 0.2 and "play, or more" in said)


def test_what_little_play_moves_stands_in_the_uncertainty() -> None:
    finding, plant = found(0.003), draw("winch", 0)
    resonance = finding.estimates["mechanics.resonance"]
    assert finding.holds, finding.said
    assert resonance.std is not None
    assert abs(resonance.value - plant.resonance) <= 2.0 * resonance.std
    assert abs(resonance.value / plant.resonance - 1.0) > 3e-3  # play did move it


def test_within_its_play_the_shaft_carries_nothing() -> None:
    """The plant itself: the load stands until the play is used up; no momentum is lost."""
    from oarlock.simulate import layout as k
    from oarlock.simulate.drive_model import DriveModel

    plant = replace(draw("winch", 0), backlash=0.2, brake=0.0, coulomb=0.0, cogging=0.0,
                    viscous=0.0)  # fmt: skip
    model = DriveModel(plant)
    model._state[k.OMEGA] = 5.0
    for _ in range(round(0.015 / plant.Ts)):
        model.advance(1)
    assert model._state[k.OMEGA_LOAD] == 0.0  # 0.075 rad: still within half of it
    momentum = plant.inertia * model._state[k.OMEGA]
    for _ in range(round(0.2 / plant.Ts)):
        model.advance(1)
    assert model._state[k.OMEGA_LOAD] > 0.1
    after = plant.inertia * model._state[k.OMEGA] + plant.load_inertia * model._state[k.OMEGA_LOAD]
    assert after == pytest.approx(momentum, rel=1e-3)
