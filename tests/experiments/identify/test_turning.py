"""Flux, inertia, friction and resonance on simulated drives, right and wrong on purpose."""

import math
from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from benchmarks.machines import printed_axis, sensed

from oarlock.drive.dry_run import problems
from oarlock.errors import InputError
from oarlock.experiments.common.repeat import another
from oarlock.experiments.identify.estimate import estimate
from oarlock.experiments.identify.experiments import experiment_for
from oarlock.experiments.identify.flux import FluxSpin, estimate_flux
from oarlock.experiments.identify.mechanics import SpeedTrapezoids
from oarlock.experiments.identify.mechanics_reading import estimate_mechanics
from oarlock.experiments.identify.resonance import TorqueSines, estimate_resonance
from oarlock.experiments.identify.standstill import InductanceSine
from oarlock.machine import Axis, SensorKind
from oarlock.practice.truth import draw
from oarlock.quantities import Estimate, Origin
from oarlock.records import Finding, Record
from oarlock.records.evidence import Fitted
from oarlock.records.settings import number, numbers
from oarlock.simulate.plant_parameters import PlantParameters
from tests.conftest import play_on_model
from tests.model_link import Hasty, ModelLink


@pytest.fixture(scope="module")
def plant() -> PlantParameters:
    """The winch with its brake open for good."""
    return replace(draw("winch", 3), brake=0.0)


@pytest.fixture(scope="module")
def known(plant: PlantParameters) -> Axis:
    """The winch as it stands after the tests at standstill."""
    axis = sensed(printed_axis("winch"), plant)
    for path, value in (
        ("machine.R", plant.R), ("machine.Ld", plant.Ld), ("machine.Lq", plant.Lq),
        ("inverter.dead_voltage", plant.dead_voltage),
    ):  # fmt: skip
        axis = adopting(axis, path, value)
    return axis


def adopting(axis: Axis, path: str, value: float) -> Axis:
    unit = axis.parameter(path).printed.unit
    return axis.adopting(path, Estimate(value=value, std=0.0, unit=unit, origin=Origin.MEASURED))


def failed(finding: Finding) -> dict[str, str]:
    return {check.code: check.sentence for check in finding.failed}


def near(finding: Finding, path: str, true: float, share: float) -> None:
    found = finding.estimates[path]
    assert abs(found.value / true - 1.0) < share
    assert abs(found.value - true) <= 3.0 * (found.std or 0.0)


@pytest.fixture(scope="module")
def spin(known: Axis, plant: PlantParameters) -> Record:
    return play_on_model(FluxSpin(), known, plant)


def test_a_spin_tells_the_flux_and_that_the_zero_is_right(
    spin: Record, known: Axis, plant: PlantParameters
) -> None:
    finding = estimate_flux(spin, known)
    assert finding.holds, finding.failed
    near(finding, "machine.psi", plant.psi, 0.003)
    assert abs(finding.extra["zero off by"].value) < math.radians(0.1)
    assert finding.extra["Kt"].value == pytest.approx(6.0 * plant.psi, rel=0.003)


def test_what_is_drawn_of_a_spin_is_the_flux_over_the_speed(spin: Record, known: Axis) -> None:
    finding = estimate_flux(spin, known)
    psi, drawn = finding.estimates["machine.psi"].value, finding.evidence
    assert isinstance(drawn, Fitted)
    assert np.asarray(drawn.fit_y) == pytest.approx(psi * np.asarray(drawn.fit_x))
    assert float(np.max(drawn.fit_x)) == pytest.approx(float(np.max(np.abs(drawn.x))))
    off = np.asarray(drawn.y) - psi * np.asarray(drawn.x)
    assert float(np.abs(off).max()) < 0.01 * float(np.abs(drawn.y).max())


def test_a_spin_refines_a_zero_that_a_load_pulled_away(known: Axis, plant: PlantParameters) -> None:
    """Gravity shifts a forced turn as friction does not: only spinning shows it."""
    off = math.radians(2.0)
    link = ModelLink(plant)
    wrong = adopting(known, "sensor.zero", plant.zero + off)
    plan = FluxSpin().plan(wrong)
    from oarlock.drive.runner import play

    record = play(plan, wrong, link, settings=FluxSpin().settings(wrong), cancel=Hasty())
    finding = estimate_flux(record, wrong)
    refined = wrong.sensor.zero.value + finding.extra["zero off by"].value
    assert abs(refined - plant.zero) < math.radians(0.15)
    assert finding.estimates["sensor.zero"].value == pytest.approx(refined)


def test_trapezoids_tell_inertia_friction_and_load(known: Axis, plant: PlantParameters) -> None:
    loaded = replace(plant, load=0.1)
    axis = adopting(known, "machine.psi", plant.psi)
    finding = estimate_mechanics(play_on_model(SpeedTrapezoids(), axis, loaded), axis)
    assert finding.holds, finding.failed
    near(finding, "machine.inertia", plant.total_inertia, 0.007)
    near(finding, "mechanics.viscous", plant.viscous, 0.06)
    near(finding, "mechanics.coulomb", plant.coulomb, 0.02)
    near(finding, "mechanics.load_torque", 0.1, 0.05)
    breakaway = finding.estimates["mechanics.breakaway"].value
    assert plant.coulomb < breakaway < 2.0 * plant.coulomb
    assert "mechanics.load_square" not in finding.estimates


def test_the_breakaway_torque_lies_within_what_is_stated() -> None:
    off = []
    for seed in range(6):
        stiction = 1.15 if seed % 2 else 1.5
        plant = replace(draw("winch", seed), brake=0.0, stiction=stiction)
        axis = adopting(sensed(printed_axis("winch"), plant), "machine.psi", plant.psi)
        record = play_on_model(SpeedTrapezoids(), axis, plant, seed=seed)
        told = estimate_mechanics(record, axis).estimates["mechanics.breakaway"]
        assert told.std is not None
        off.append((told.value - stiction * plant.coulomb) / told.std)
    assert np.max(np.abs(off)) < 2.3
    assert np.mean(np.abs(np.array(off)) <= 2.0) >= 0.8
    assert abs(float(np.mean(off))) < 0.8


def test_a_propeller_is_told_from_friction() -> None:
    plant = replace(draw("winch", 1), brake=0.0, load_square=4e-5)
    axis = adopting(sensed(printed_axis("winch"), plant), "machine.psi", plant.psi)
    finding = estimate_mechanics(play_on_model(SpeedTrapezoids(), axis, plant), axis)
    near(finding, "mechanics.load_square", 4e-5, 0.05)
    near(finding, "machine.inertia", plant.total_inertia, 0.01)


@pytest.fixture(scope="module")
def sines(known: Axis, plant: PlantParameters) -> Record:
    axis = adopting(known, "machine.psi", plant.psi)
    return TorqueSines().perform(axis, ModelLink(plant), Hasty())


def test_sines_of_torque_tell_dip_peak_and_damping(
    sines: Record, known: Axis, plant: PlantParameters
) -> None:
    axis = adopting(known, "machine.psi", plant.psi)
    finding = estimate_resonance(sines, axis)
    assert finding.holds, finding.failed
    near(finding, "mechanics.resonance", plant.resonance, 0.001)
    near(finding, "mechanics.anti_resonance", plant.anti_resonance, 0.01)
    near(finding, "mechanics.shaft_damping", plant.shaft_damping, 0.2)
    assert finding.extra["load inertia"].value == pytest.approx(plant.load_inertia, rel=0.03)
    assert finding.extra["stiffness"].value == pytest.approx(plant.stiffness, rel=0.03)


def test_a_rigid_shaft_is_said_to_be_rigid(known: Axis, plant: PlantParameters) -> None:
    rigid = replace(plant, stiffness=0.0, inertia=plant.total_inertia)
    axis = adopting(known, "machine.psi", plant.psi)
    finding = estimate_resonance(TorqueSines().perform(axis, ModelLink(rigid), Hasty()), axis)
    assert finding.holds, finding.failed
    assert finding.estimates["mechanics.resonance"].value == 0.0
    assert "rigid up to" in finding.remark


# Wrong on purpose


def turning(known: Axis, plant: PlantParameters, **faults: Any) -> dict[str, Finding]:
    wrong = replace(plant, **faults)
    found = {}
    for experiment, read in ((FluxSpin(), estimate_flux), (SpeedTrapezoids(), estimate_mechanics)):
        link = ModelLink(wrong)
        axis = sensed(known, replace(wrong, sensor_side=plant.sensor_side))
        from oarlock.drive.runner import play

        record = play(experiment.plan(axis), axis, link,
                      settings=experiment.settings(axis), cancel=Hasty())  # fmt: skip
        found[experiment.name] = read(record, axis)
    return found


def test_a_locked_rotor_that_should_turn(known: Axis, plant: PlantParameters) -> None:
    found = turning(known, plant, brake=45.0, brake_stuck=True)
    assert "locked" in failed(found["inertia"])["shaft turned"]
    assert not found["inertia"].estimates
    assert "locked" in failed(found["flux"])["speed reached"]


def test_a_load_coupled_where_free_was_said(known: Axis, plant: PlantParameters) -> None:
    heavy = replace(plant, load_inertia=3.0 * plant.load_inertia)
    axis = adopting(known, "machine.psi", plant.psi)
    finding = estimate_mechanics(play_on_model(SpeedTrapezoids(), axis, heavy), axis)
    told = failed(finding)
    assert "load coupled" in told.get("against datasheet", "") or "line to line" in str(told)


def test_a_shaft_that_may_hardly_turn_gets_less_or_a_reason(known: Axis) -> None:
    turns = Estimate(value=12.0, unit="1", origin=Origin.DATASHEET, source="12")
    short = known.adopting("mechanics.max_turns", turns)
    for quantity in ("flux", "inertia", "resonance"):
        experiment: Any = experiment_for(quantity)
        assert experiment.movement(short).speed < experiment.movement(known).speed
        assert not problems(experiment.plan(short), short)
    tiny = known.adopting("mechanics.max_turns", replace(turns, value=0.2))
    with pytest.raises(InputError, match="the shaft may turn"):
        FluxSpin().plan(tiny)


def test_without_any_inertia_it_says_what_to_enter(known: Axis) -> None:
    unknown = replace(known, machine=replace(known.machine, inertia=None))
    with pytest.raises(InputError, match="no inertia is known"):
        SpeedTrapezoids().plan(unknown)


def test_too_strong_or_too_weak_is_tried_again(known: Axis) -> None:
    spin = FluxSpin()
    followed = play_on_model(spin, known, replace(draw("winch", 3), brake=0.0))
    short = {name: column[:50] for name, column in followed.columns.items()}
    tripped = replace(followed, trip="limit-current")
    # Did the shaft follow at all?
    assert another(spin, None, replace(tripped, columns=short)) is None
    less = another(spin, None, tripped)
    assert less is not None
    back = {**followed.columns, "theta_m": -np.asarray(followed["theta_m"])}
    assert another(spin, None, replace(tripped, columns=back)) is None
    assert less.experiment == spin.scaled(0.6)
    assert another(spin, None, followed) is None
    for trip in ("heartbeat", "over-current", "limit-speed"):
        assert another(spin, None, replace(followed, trip=trip)) is None  # a human decides
    weak = experiment_for("inductance_d")
    assert isinstance(weak, InductanceSine)
    played = play_on_model(weak.scaled(0.004), known, draw("winch", 3))
    finding = estimate(played, known)
    assert "excitation" in failed(finding)
    more = another(weak, replace(finding, checks=finding.failed), played)
    assert more is not None
    assert more.experiment == weak.scaled(1.7)


def test_a_record_of_another_experiment_is_refused(spin: Record, known: Axis) -> None:
    with pytest.raises(InputError, match="unknown experiment"):
        estimate(replace(spin, experiment="lunch"), known)
    with pytest.raises(InputError):
        estimate(replace(spin, experiment="resonance"), known)


def test_a_record_of_another_axis_fails_its_checks(spin: Record) -> None:
    other = printed_axis("thruster")
    finding = estimate_flux(spin, other)
    assert not finding.holds
    assert "against datasheet" in failed(finding)


def test_the_sensors_direction_reversed_is_named(spin: Record, known: Axis) -> None:
    back = {**spin.columns, "theta_m": -np.asarray(spin["theta_m"])}
    finding = estimate_flux(replace(spin, columns=back), known)
    assert "direction" in failed(finding)["speed reached"]


def test_trapezoids_by_halls_leave_room_below_their_limit(axis: Axis) -> None:
    halls = replace(axis, sensor=replace(axis.sensor, kind=SensorKind.HALL))
    found = SpeedTrapezoids().plan(halls)
    assert found.speed.limit == pytest.approx(0.9 * axis.rated)
    assert found.limits.current > 1.3 * found.speed.limit  # where an edge sets the angle right
    assert SpeedTrapezoids().plan(axis).speed.limit == 0.0


def test_trapezoids_by_halls_are_no_keener_than_their_edges_come(axis: Axis) -> None:
    pairs = axis.machine.pole_pairs
    halls = replace(axis, sensor=replace(axis.sensor, kind=SensorKind.HALL))
    one = halls.with_parameter("machine.pole_pairs", replace(
        pairs, printed=replace(pairs.printed, value=1.0)))  # fmt: skip

    def keen(axis: Axis, top: float) -> tuple[float, float]:
        plan, trapezoids = SpeedTrapezoids(top=top).plan(axis), SpeedTrapezoids(top=top)
        edges = 6.0 * axis.machine.pole_pairs.value * 0.25 * trapezoids.speed(axis) / math.tau
        return plan.speed.Kp, edges

    resolver, _ = keen(axis, 0.3)
    two = halls.with_parameter("machine.pole_pairs", replace(
        pairs, printed=replace(pairs.printed, value=2.0)))  # fmt: skip
    paces = []
    for few, top in ((one, 0.1), (one, 0.3), (two, 0.3), (two, 0.9)):
        Kp, edges = keen(few, top)
        assert edges < 120.0
        paces.append(0.24 * edges)
        times = axis.machine.pole_pairs.value / few.machine.pole_pairs.value  # less torque each A
        wanted = min(max(0.24 * edges, 12.0), math.tau * 5.0)
        assert Kp == pytest.approx(resolver * times * wanted / (math.tau * 5.0), rel=1e-9)
    assert any(12.5 < pace < math.tau * 5.0 for pace in paces)  # edges tell it, neither end does
    plain, slow = (SpeedTrapezoids(top=0.1).plan(a) for a in (axis, one))
    lasts = [max(s.duration for s in plan.steps) for plan in (plain, slow)]
    assert lasts == pytest.approx([0.3, 1.0])  # and it has the time to settle


def test_dip_and_peak_are_met_again_finely(sines: Record, plant: PlantParameters) -> None:
    coarse = int(number(sines.settings, "coarse"))
    again = np.array(numbers(sines.settings, "frequencies"))[coarse:]
    for at in (plant.anti_resonance, plant.resonance):
        near = np.abs(again / (at / math.tau) - 1.0) < 0.1
        assert np.count_nonzero(near) >= 4
