"""Drives and records that are wrong: the right check fails, in words that name the cause."""

from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from benchmarks.machines import printed_axis, sensed

from oarlock.errors import InputError
from oarlock.experiments.common.experiment import Experiment
from oarlock.experiments.identify.estimate import estimate
from oarlock.experiments.identify.experiments import experiment_for
from oarlock.experiments.identify.flux import FluxSpin
from oarlock.experiments.identify.standstill import ResistanceHolds
from oarlock.machine import Axis
from oarlock.practice.truth import draw
from oarlock.records import Finding
from oarlock.records.settings import number
from oarlock.session.perform import Performed, perform
from tests.conftest import play_on_model
from tests.model_link import Hasty, ModelLink


def tried(experiment: Experiment, **faults: Any) -> tuple[Axis, Performed]:
    """Play on the winch with faults, as a session does."""
    plant = replace(draw("winch", 2), **faults)
    axis = sensed(printed_axis("winch"), plant)
    return axis, perform(experiment, axis, ModelLink(plant), lambda _f, _d: None, Hasty())


def told(done: Performed) -> dict[str, str]:
    assert isinstance(done.reading, Finding), done.run.ended
    assert not done.reading.holds
    return {check.code: check.sentence for check in done.reading.failed}


def test_a_bus_too_low_for_the_current() -> None:
    _, done = tried(ResistanceHolds(), bus=9.0)
    found = told(done) if done.run.ended == "done" else {"trip": done.run.ended}
    assert "current reached" in found or "voltage limit" in found or "under" in found["trip"]


def test_a_speed_that_the_bus_does_not_give_is_tried_again_slower() -> None:
    plant = replace(draw("winch", 2), bus=195.0)
    axis = sensed(printed_axis("winch"), plant)
    done = perform(FluxSpin(), axis, ModelLink(plant), lambda _f, _d: None, Hasty())
    assert done.run.title != FluxSpin().title(axis)
    assert isinstance(done.reading, Finding)
    assert done.reading.holds, done.reading.failed
    assert done.reading.estimates["machine.psi"].value == pytest.approx(plant.psi, rel=0.01)


def test_an_open_phase_in_the_holds() -> None:
    _, done = tried(ResistanceHolds(), open_phase=1)
    found = told(done) if done.run.ended == "done" else {"trip": done.run.ended}
    assert {"open phase", "current reached", "trip"} & set(found)


@pytest.mark.parametrize("faults", [{"wires": (0, 2, 1)}, {"sensor_side": -1.0}])
def test_phases_or_the_sensor_reversed_while_spinning(faults: dict[str, Any]) -> None:
    """The angle runs against the field: the drive trips or the shaft does not get there."""
    plant = replace(draw("winch", 2), brake=0.0, **faults)
    axis = sensed(printed_axis("winch"), replace(plant, sensor_side=1.0))
    done = perform(FluxSpin(), axis, ModelLink(plant), lambda _f, _d: None, Hasty())
    if done.run.ended == "done":
        assert "speed reached" in told(done)
    else:
        assert "tripped" in done.run.ended
        assert "direction, pole pairs or phase order" in done.run.remark


def test_wrong_pole_pairs_while_spinning() -> None:
    plant = replace(draw("winch", 2), brake=0.0)
    axis = sensed(printed_axis("winch"), plant)
    pairs = axis.machine.pole_pairs
    wrong = axis.with_parameter(
        "machine.pole_pairs", replace(pairs, printed=replace(pairs.printed, value=8.0))
    )
    done = perform(FluxSpin(), wrong, ModelLink(plant), lambda _f, _d: None, Hasty())
    assert done.reading is None
    assert "pole pairs" in done.run.remark


def test_a_supply_that_dies_midway_keeps_what_was_recorded() -> None:
    _, done = tried(ResistanceHolds(), sag_at=3.0, sag_to=100.0)
    assert "under-voltage" in done.run.ended
    assert done.record.rows > 50
    assert done.reading is None  # a part of it is not read for a whole


def test_a_rotor_that_turns_in_the_sine() -> None:
    plant = replace(draw("winch", 2), brake=0.0, coulomb=0.0, cogging=0.0, stiction=1.0)
    axis = sensed(printed_axis("winch"), plant)
    record = play_on_model(experiment_for("inductance_q"), axis, plant)
    if record.ended == "done":
        finding = estimate(record, axis)
        assert "rotor at rest" in {check.code for check in finding.failed}
    else:
        assert "tripped" in record.ended


def test_a_converter_that_clips_bends_the_holds() -> None:
    _, done = tried(ResistanceHolds(), clip_a=6.0)
    found = told(done) if done.run.ended == "done" else {"trip": done.run.ended}
    assert {"current reached", "residual", "sensor gains", "trip"} & set(found)


def test_records_cut_short_are_refused() -> None:
    plant = draw("winch", 2)
    axis = sensed(printed_axis("winch"), plant)
    for quantity in ("inductance_d", "flux", "resonance"):
        free = plant if quantity.startswith("ind") else replace(plant, brake=0.0)
        record = play_on_model(experiment_for(quantity), axis, free)
        half = {name: np.asarray(c)[: record.rows // 3].copy()
                for name, c in record.columns.items()}  # fmt: skip
        try:
            finding = estimate(replace(record, columns=half), axis)
        except InputError:
            continue
        assert not finding.holds


def test_holds_that_had_not_settled_are_played_again_with_patience() -> None:
    hasty = ResistanceHolds(turn=0.008, settle=0.008)
    plant = draw("winch", 2)
    axis = sensed(printed_axis("winch"), plant)
    finding = estimate(play_on_model(hasty, axis, plant), axis)
    assert "had not settled" in {c.code: c.sentence for c in finding.failed}["settled"]
    _, done = tried(hasty)
    assert isinstance(done.reading, Finding)
    assert done.reading.holds, done.reading.failed
    assert number(done.run.settings, "settle") > 0.01
    assert done.reading.estimates["machine.R"].value == pytest.approx(plant.R, rel=0.01)
