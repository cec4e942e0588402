"""Machines that do more than the estimators assume: what is stated still covers what is there."""

from collections import Counter, defaultdict
from dataclasses import replace

import pytest
from benchmarks import coverage

from oarlock.experiments.identify.experiments import experiment_for
from oarlock.experiments.identify.inductance import estimate_inductance
from oarlock.experiments.identify.resistance import estimate_resistance
from oarlock.experiments.identify.standstill import InductanceSine
from oarlock.machine import Axis
from oarlock.quantities import Estimate
from oarlock.records import Finding
from oarlock.simulate.plant_parameters import PlantParameters
from tests.conftest import adopted, play_on_model


def inductances(axis: Axis, plant: PlantParameters, *, held: bool = True) -> dict[str, Finding]:
    """Ld and Lq as the program measures them, after R."""
    R = play_on_model(experiment_for("resistance", held=True), axis, plant)
    axis = adopted(axis, estimate_resistance(R, axis))
    found = {}
    for which in "dq":
        experiment = experiment_for(f"inductance_{which}", held=held)
        found[which] = estimate_inductance(play_on_model(experiment, axis, plant), axis)
        assert found[which].holds
        axis = adopted(axis, found[which])
    return found


def off(found: Estimate, true: float) -> tuple[float, float]:
    """Error over the truth, and in stated uncertainties."""
    assert found.std is not None
    return abs(found.value / true - 1.0), abs(found.value - true) / found.std


@pytest.mark.parametrize(
    "law", [{"output_late": 0.15}, {"iron": 1e-3}, {"across": 1.5e-5}, {"heating": 2e-3}]
)
def test_inductances_of_a_held_rotor(
    axis: Axis, truth: PlantParameters, law: dict[str, float]
) -> None:
    """Without what the sines at several frequencies and of both signs tell, 0.8 to 3 % are off."""
    plant = replace(truth, **law)  # type: ignore[arg-type]
    found = inductances(axis, plant)
    held = 0.3 * axis.machine.rated_current.value
    for which, true in (("d", plant.incremental_Ld(held)), ("q", plant.Lq)):
        ratio, in_u = off(found[which].estimates[f"machine.L{which}"], true)
        assert ratio < 0.01, (which, ratio)
        assert in_u < 2.0, (which, in_u)


def test_the_delay_covers_the_late_bridge_and_the_iron(axis: Axis, truth: PlantParameters) -> None:
    plant = replace(truth, output_late=0.1, iron=8e-4)
    delay = inductances(axis, plant)["d"].estimates["inverter.delay"]
    assert off(delay, 1.6 * plant.Ts)[1] < 2.0
    assert delay.std is not None
    assert delay.std < 0.15 * plant.Ts


def test_one_sine_alone_says_how_little_it_knows(axis: Axis, truth: PlantParameters) -> None:
    many = play_on_model(InductanceSine(axis_name="d"), axis, truth)
    few = play_on_model(InductanceSine(axis_name="d", fast=()), axis, truth)
    known, guessed = (estimate_inductance(r, axis).estimates["machine.Ld"] for r in (many, few))
    assert known.std is not None
    assert guessed.std is not None
    assert guessed.std > 2.0 * known.std


def test_machines_of_the_benchmark_lie_within_what_is_stated() -> None:
    kept: defaultdict[str, list[tuple[float, float]]] = defaultdict(list)
    refused: Counter[str] = Counter()
    for seed in (1, 5):
        coverage.identified(seed, kept, refused)
    assert not refused
    assert len(kept) == len(coverage.truth(coverage.machine(0)[1], 1.0, 0.0))
    assert all(abs(error) < 3.0 * u for rows in kept.values() for error, u in rows)
