"""What a drive tells: it fills what nobody entered, and is held against what somebody did."""

from dataclasses import replace

import pytest

from oarlock.machine import Axis, SensorKind
from oarlock.machine.axis_file import format_axis, parse_axis
from oarlock.machine.unknown import missing
from oarlock.practice.truth import draw
from oarlock.quantities import Origin
from oarlock.session.new_project import hollow
from oarlock.session.told import as_told, told_by, with_told
from tests.model_link import ModelLink


@pytest.fixture
def told() -> dict[str, float]:
    return told_by(ModelLink(draw("winch", 0)))


def test_facts_fill_a_hollow_axis(told: dict[str, float]) -> None:
    axis, differ = with_told(hollow("m"), told)
    assert differ == ()
    assert [path.split(".")[0] for path in missing(axis)] == ["machine"] * 3
    inv = axis.inverter
    assert inv.control_frequency.value == 16000.0
    assert inv.control_frequency.best.origin is Origin.TOLD
    assert inv.bus_voltage.value == pytest.approx(320.0, rel=0.02)
    assert inv.current_full_scale.value == 40.0
    assert axis.sensor.kind is SensorKind.RESOLVER
    assert axis.sensor.kind_known
    assert inv.delay.value == pytest.approx(1.5 / 16000.0)
    assert parse_axis(format_axis(axis), place="again") == axis
    assert not inv.bus_compensation


def test_what_duty_cycles_are_shares_of_is_the_drives_to_say(axis: Axis) -> None:
    plant = replace(draw("winch", 0), bus_compensation=True)
    made_up, _ = with_told(axis, told_by(ModelLink(plant)))
    assert made_up.inverter.bus_compensation
    assert parse_axis(format_axis(made_up), place="again") == made_up
    silent, _ = with_told(made_up, {"Facts.Bus compensation": 255.0})
    assert silent.inverter.bus_compensation


def test_told_again_nothing_changes_though_the_bus_moves_a_little(told: dict[str, float]) -> None:
    axis = with_told(hollow("m"), told)[0]
    again = {**told, "Drive.Bus voltage": 1.03 * told["Drive.Bus voltage"]}
    assert with_told(axis, again) == (axis, ())


def test_what_was_entered_stays_and_the_difference_is_told(
    axis: Axis, told: dict[str, float]
) -> None:
    assert with_told(axis, told)[1] == ()
    other = {**told, "Facts.Control frequency": 20000.0, "Facts.Sensor kind": 3.0}
    kept, differ = with_told(axis, other)
    assert kept.inverter.control_frequency == axis.inverter.control_frequency
    assert [one.path for one in differ] == ["inverter.control_frequency", "sensor.kind"]
    assert differ[0].sentence == "control frequency 20.0 kHz by the drive, 16.0 kHz here"
    used = as_told(axis, other)
    assert used.inverter.control_frequency.value == 20000.0
    assert used.sensor.kind is SensorKind.HALL
    assert with_told(used, other)[1] == ()


def test_a_drive_that_says_less_leaves_it_unknown() -> None:
    quiet = {"Facts.Control frequency": 16000.0, "Facts.Sensor kind": 255.0}
    axis, _ = with_told(hollow("m"), quiet)
    assert not axis.sensor.kind_known
    assert not axis.inverter.current_full_scale.is_known


def test_a_kind_that_was_chosen_is_not_overruled(told: dict[str, float]) -> None:
    begun = hollow("m")
    begun = replace(begun, sensor=replace(begun.sensor, kind=SensorKind.HALL, kind_known=True))
    axis, differ = with_told(begun, told)
    assert axis.sensor.kind is SensorKind.HALL
    assert differ[0].sentence == "position sensor resolver by the drive, hall here"
