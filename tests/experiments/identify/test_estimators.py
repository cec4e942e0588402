"""Estimators on drives of known truth, whose dead-time law differs from what is assumed."""

from dataclasses import replace

import numpy as np
import pytest
from benchmarks.machines import printed_axis

from oarlock.errors import InputError
from oarlock.experiments.identify.inductance import _solve, estimate_inductance
from oarlock.experiments.identify.phase_gains import rotation, sense_matrix
from oarlock.experiments.identify.resistance import estimate_resistance
from oarlock.experiments.identify.standstill import InductanceSine, ResistanceHolds
from oarlock.machine import Axis
from oarlock.practice.truth import draw
from oarlock.records import Finding, Record
from oarlock.simulate.plant_parameters import PlantParameters
from tests.conftest import adopted, play_on_model

SEEDS = 12
Q = InductanceSine(axis_name="q", q_biases=(0.3, 0.6, 0.9))


def identify(axis: Axis, seed: int) -> dict[str, tuple[float, float]]:
    """Return (error, stated uncertainty) by quantity, ratios, for one drive."""
    plant = draw("winch", seed)
    R = estimate_resistance(play_on_model(ResistanceHolds(), axis, plant, seed=seed), axis)
    axis = adopted(axis, R)
    sine_d = play_on_model(InductanceSine(axis_name="d"), axis, plant, seed=seed + 100)
    d = estimate_inductance(sine_d, axis)
    q = estimate_inductance(play_on_model(Q, axis, plant, seed=seed + 200), axis)
    assert all(finding.holds for finding in (R, d, q))
    found = {
        "R": (R.estimates["machine.R"], plant.R),
        "Ld": (d.estimates["machine.Ld"], plant.incremental_Ld(0.3 * 10.04)),
        "Lq": (q.estimates["machine.Lq"], plant.Lq),
        "gain a": (R.estimates["inverter.gain_a"], plant.gains[0]),
        "Lq far": (list(q.extra.values())[-1], plant.incremental_Lq(0.9 * 19.94)),
    }
    return {
        name: (e.value / true - 1.0, (e.std or 0.0) / true) for name, (e, true) in found.items()
    }


@pytest.fixture(scope="module")
def twelve() -> list[dict[str, tuple[float, float]]]:
    return [identify(printed_axis("winch"), seed) for seed in range(SEEDS)]


@pytest.mark.parametrize(
    ("name", "bar"),
    [("R", 0.015), ("Ld", 0.005), ("Lq", 0.01), ("Lq far", 0.02), ("gain a", 0.002)],
)
def test_twelve_drives_are_identified_within_the_bar(
    twelve: list[dict[str, tuple[float, float]]], name: str, bar: float
) -> None:
    assert max(abs(one[name][0]) for one in twelve) < bar


@pytest.mark.parametrize("name", ["R", "Ld", "Lq"])
def test_the_stated_uncertainty_covers_the_truth(
    twelve: list[dict[str, tuple[float, float]]], name: str
) -> None:
    covered = [abs(error) <= 2.0 * std for error, std in (one[name] for one in twelve)]
    assert np.mean(covered) >= 0.9
    # And it is not so wide that it says nothing.
    assert np.median([one[name][1] for one in twelve]) < 0.01


class HardKnee:
    """An independent generator: closed form, a dead-time law with a hard corner and a slope."""

    def __init__(self, R: float, volts: float, knee: float, seed: int) -> None:
        self.R, self.volts, self.knee = R, volts, knee
        self.rng = np.random.default_rng(seed)

    def record(self, axis: Axis) -> Record:
        experiment = ResistanceHolds()
        rated = axis.machine.rated_current.value
        rows = []
        for n in range(6):
            angle = n * np.pi / 3
            for level in experiment.levels:
                for _ in range(5):
                    i = level * rated
                    phases = i * np.cos(angle - np.array([0, 2, -2]) * np.pi / 3)
                    lost = self.volts * np.clip(phases / self.knee, -1, 1) + 0.002 * phases
                    alpha = (2 * lost[0] - lost[1] - lost[2]) / 3
                    beta = (lost[1] - lost[2]) / np.sqrt(3)
                    v = np.array(
                        [self.R * i * np.cos(angle) + alpha, self.R * i * np.sin(angle) + beta]
                    )
                    vd, vq = rotation(-angle) @ v + self.rng.normal(0, 0.02, 2)
                    seen = self.rng.normal(0, 0.004, 2)
                    rows.append([i + seen[0], seen[1], vd, vq, i, angle])
        table = np.array(rows)
        names = ("id", "iq", "vd", "vq", "id_ref", "theta_e")
        return Record(
            experiment="resistance",
            sample_time=62.5e-6,
            columns={name: table[:, i].copy() for i, name in enumerate(names)},
            units=dict.fromkeys(names, ""),
        )


def test_another_dead_time_law_stays_within_the_stated_uncertainty(axis: Axis) -> None:
    errors = []
    for seed in range(8):
        finding = estimate_resistance(HardKnee(0.9, 5.0, 0.5, seed).record(axis), axis)
        found = finding.estimates["machine.R"]
        assert found.std is not None
        errors.append((found.value / 0.9 - 1.0, 2.0 * found.std / 0.9))
    assert max(abs(error) for error, _ in errors) < 0.015
    assert np.mean([abs(error) <= plus for error, plus in errors]) >= 0.75


def test_the_sampled_plant_is_solved_exactly() -> None:
    for R, L, f in ((0.86, 0.0155, 1000.0), (0.025, 20e-6, 500.0), (3.0, 4e-3, 2500.0)):
        Ts = 62.5e-6
        a = np.exp(-R * Ts / L)
        z = np.exp(2j * np.pi * f * Ts)
        found = _solve((1 - a) / R / (z * (z - a)), 2 * np.pi * f * Ts, Ts)
        assert found == pytest.approx((R, L), rel=1e-6)


def test_the_sense_matrix_is_what_three_sensors_do() -> None:
    a, b = 1.01, 0.985
    gains = np.array([a, b, 3 - a - b])
    phases = np.array([2.0, 0.7, -2.7])
    clarke = np.array([[2, -1, -1], [0, np.sqrt(3), -np.sqrt(3)]]) / 3
    assert sense_matrix(a, b) @ (clarke @ phases) == pytest.approx(clarke @ (gains * phases))


def wrong(axis: Axis, truth: PlantParameters, **changes: object) -> tuple[Finding, Finding]:
    plant = replace(truth, **changes)  # type: ignore[arg-type]
    R = estimate_resistance(play_on_model(ResistanceHolds(), axis, plant), axis)
    q = estimate_inductance(play_on_model(Q, axis, plant), axis)
    return R, q


def failed(finding: Finding) -> set[str]:
    return {check.code for check in finding.failed}


def test_a_line_to_line_value_is_suspected(axis: Axis, truth: PlantParameters) -> None:
    R, q = wrong(axis, truth, R=1.64, Lq=0.034, Lq_saturated=0.03)
    assert "against datasheet" in failed(R)
    assert "line to line?" in R.failed[0].sentence
    assert "against datasheet" in failed(q)


def test_a_turning_rotor_fails_the_inductance(axis: Axis, truth: PlantParameters) -> None:
    small = InductanceSine(axis_name="q")
    loose = replace(truth, brake=0.0, coulomb=0.0)
    finding = estimate_inductance(play_on_model(small, axis, loose), axis)
    assert "rotor at rest" in failed(finding)
    assert any("set the brake" in check.sentence for check in finding.failed)


def test_an_open_phase_is_named(axis: Axis) -> None:
    record = HardKnee(0.9, 5.0, 0.5, 1).record(axis)
    along = record["theta_e"] - 2 * np.pi / 3  # of the frame against phase b
    through_b = record["id"] * np.cos(along) - record["iq"] * np.sin(along)
    columns = dict(record.columns)
    columns["id"] = record["id"] - through_b * np.cos(along)
    columns["iq"] = record["iq"] + through_b * np.sin(along)
    finding = estimate_resistance(replace(record, columns=columns), axis)
    assert {"open phase", "current reached"} <= failed(finding)
    assert any("is it open?" in check.sentence for check in finding.failed)
    assert not finding.holds


def test_too_few_levels_are_an_input_error(axis: Axis, truth: PlantParameters) -> None:
    short = ResistanceHolds(levels=(1.0, 0.5))
    with pytest.raises(InputError, match="2 levels"):
        estimate_resistance(play_on_model(short, axis, truth), axis)


def test_a_truncated_sine_is_an_input_error(axis: Axis, truth: PlantParameters) -> None:
    record = play_on_model(InductanceSine(axis_name="d"), axis, truth)
    cut = {name: column[:-5].copy() for name, column in record.columns.items()}
    with pytest.raises(InputError, match="segments need"):
        estimate_inductance(replace(record, columns=cut), axis)
    with pytest.raises(InputError, match="no segments"):
        estimate_inductance(replace(record, settings={}), axis)
    silent = {
        name: np.zeros_like(c) if name in ("id", "iq") else c for name, c in record.columns.items()
    }
    with pytest.raises(InputError, match="no current answers"):
        estimate_inductance(replace(record, columns=silent), axis)


def test_without_the_sensors_gains_the_uncertainty_is_wider(
    axis: Axis, truth: PlantParameters
) -> None:
    record = play_on_model(InductanceSine(axis_name="d"), axis, truth)
    before = estimate_inductance(record, axis).estimates["machine.Ld"]
    R = estimate_resistance(play_on_model(ResistanceHolds(), axis, truth), axis)
    after = estimate_inductance(record, adopted(axis, R)).estimates["machine.Ld"]
    assert before.std is not None
    assert after.std is not None
    assert before.std > 2.0 * after.std
    assert abs(after.value / truth.incremental_Ld(0.3 * 10.04) - 1.0) < 0.003


def test_a_dead_time_that_hides_the_resistance_is_told(axis: Axis, truth: PlantParameters) -> None:
    finding = estimate_resistance(
        play_on_model(ResistanceHolds(), axis, replace(truth, dead_voltage=32.0)), axis
    )
    assert "dead time" in failed(finding)


def test_sensors_that_are_hardly_known_are_told(axis: Axis, truth: PlantParameters) -> None:
    record = play_on_model(InductanceSine(axis_name="d"), axis, truth)
    vague = replace(axis.inverter.gain_a.printed, std=0.03)
    poor = axis.with_parameter("inverter.gain_a", replace(axis.inverter.gain_a, printed=vague))
    assert "sensor gains" in failed(estimate_inductance(record, poor))
    assert estimate_inductance(record, axis).holds
