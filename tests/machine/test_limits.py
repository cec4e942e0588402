"""A drive that gives less than its motor bears: what is used, what is said, what is kept."""

from dataclasses import replace

import pytest

from oarlock.drive.dry_run import problems
from oarlock.errors import InputError
from oarlock.experiments.common.experiment import Experiment
from oarlock.experiments.identify.experiments import experiment_for
from oarlock.experiments.loops.cascade import standing_plan
from oarlock.experiments.loops.current_step import usual_current_step
from oarlock.handover.values import handover_values
from oarlock.machine import Axis
from oarlock.machine.axis_file import format_axis, parse_axis
from oarlock.machine.doubts import doubt
from oarlock.machine.limits import clipped, too_hot
from oarlock.machine.operating_map import limits_of
from oarlock.records.quantity import KEYS
from oarlock.rehearse.run import rehearse
from oarlock.rehearse.scenario import Control, Point, Scenario
from tests.speed_axis import tuned_winch


def on_small_drive(axis: Axis, entries: str) -> Axis:
    """The axis as if its file said this of the drive."""
    text = format_axis(axis)
    assert "[inverter]" in text
    return parse_axis(text.replace("[inverter]", f"[inverter]\n{entries}"), place="small")


def test_without_an_entry_the_sense_alone_bounds(axis: Axis) -> None:
    assert axis.peak == axis.machine.peak_current.value
    assert axis.rated == axis.machine.rated_current.value
    assert clipped(axis) == []
    scale = axis.inverter.current_full_scale
    narrow = axis.with_parameter("inverter.current_full_scale", replace(
        scale, printed=replace(scale.printed, value=10.0)))  # fmt: skip
    assert narrow.peak == pytest.approx(9.0)
    assert narrow.rated == pytest.approx(9.0 / 1.3)
    first, second = clipped(narrow)
    assert first == "90 % of the current sense: 9.00 A at most, where the motor bears 19.9 A"
    assert second.startswith("That leaves 6.9")


def test_entries_are_read_used_and_written_again(axis: Axis) -> None:
    small = on_small_drive(axis, 'max_current = "6 A rms"\nsteady_current = "4 A peak"')
    assert small.peak == pytest.approx(6.0 * 2.0**0.5)
    assert small.rated == 4.0
    assert small.machine.peak_current == axis.machine.peak_current  # the motor's stays
    assert parse_axis(format_axis(small), place="again") == small
    most, steady = clipped(small)
    assert most.startswith("The drive's limit: 8.49 A at most, where the motor bears")
    assert steady.startswith("The drive gives 4.00 A for long, where the motor bears")
    assert limits_of(small).i_max == small.peak
    assert limits_of(small, printed=True).i_max == axis.machine.peak_current.value
    with pytest.raises(InputError, match="max_current"):
        on_small_drive(axis, 'max_current = "8 V"')


def experiments(axis: Axis) -> list[Experiment]:
    made: list[Experiment] = [
        experiment_for(key, held=held) for key in KEYS for held in (True, False)
    ]
    return [*made, usual_current_step(axis, "q"), usual_current_step(axis, "d")]


@pytest.mark.parametrize("entries", ['max_current = "5 A peak"', 'steady_current = "5 A peak"'])
def test_no_experiment_asks_for_more_than_the_drive_gives(entries: str) -> None:
    axis = on_small_drive(tuned_winch(), entries)
    for experiment in experiments(axis):
        plan = experiment.plan(axis)
        assert problems(plan, axis) == [], experiment.name
        held = max(abs(step.i_d) + abs(step.i_q) for step in plan.steps)
        assert held <= axis.peak, experiment.name
        assert plan.limits.current <= 1.1 * axis.peak + 1e-9, experiment.name


def test_what_the_firmware_gets_is_the_drives_limit() -> None:
    axis = on_small_drive(tuned_winch(), 'max_current = "5 A peak"')
    values = {v.symbol: v.value for v in handover_values(axis)}
    assert values["SPD_I_MAX"] == pytest.approx(5.0)
    assert standing_plan(axis).speed is not None
    assert standing_plan(axis).speed.limit == pytest.approx(5.0)


def test_a_rehearsal_has_no_more_current_than_the_drive_gives() -> None:
    whole = tuned_winch()
    axis = on_small_drive(whole, 'max_current = "5 A peak"')
    scenario = Scenario(name="s", control=Control.SPEED, duration=0.3,
                        points=(Point(at=0.01, value=100.0),))  # fmt: skip
    most = float(rehearse(scenario, axis).most["iq"].max())
    assert most == pytest.approx(5.0, rel=0.1)
    assert float(rehearse(scenario, whole).most["iq"].max()) > 7.0


def on(axis: Axis, section: str, entry: str) -> Axis:
    """The axis as if its file said this too."""
    text = format_axis(axis)
    return parse_axis(text.replace(f"[{section}]", f"[{section}]\n{entry}", 1), place="bounded")


INDUCED = 4.0 * 3.0**0.5  # pole pairs, between two phases


@pytest.mark.parametrize(("section", "who"), [("inverter", "drive"), ("machine", "winding")])
def test_the_magnet_may_not_drive_the_bus_above_what_is_borne(section: str, who: str) -> None:
    axis = tuned_winch()
    bound = on(axis, section, 'max_voltage = "400 V"')
    fastest = 400.0 / (INDUCED * axis.machine.psi.value)  # rad/s
    assert fastest < axis.machine.max_speed.value
    assert bound.top_speed == pytest.approx(fastest)
    assert limits_of(bound).omega_max == pytest.approx(fastest)
    assert limits_of(bound, printed=True).omega_max == axis.machine.max_speed.value
    (said,) = clipped(bound)
    assert said == (
        f"{fastest * 60 / 6.283185307:.0f} rpm at most: with the gates off the magnet induces "
        f"400 V there, which is what the {who} bears"
    )
    assert parse_axis(format_axis(bound), place="again") == bound
    for experiment in experiments(bound):
        plan = experiment.plan(bound)
        assert problems(plan, bound) == [], experiment.name
        assert plan.limits.speed <= fastest * 1.000001


def test_of_two_that_bear_too_little_the_lower_is_named(axis: Axis) -> None:
    both = on(on(axis, "inverter", 'max_voltage = "390 V"'), "machine", 'max_voltage = "350 V"')
    assert both.borne_voltage == 350.0
    assert clipped(both)[-1].endswith("which is what the winding bears")
    other = on(on(axis, "inverter", 'max_voltage = "350 V"'), "machine", 'max_voltage = "390 V"')
    assert clipped(other)[-1].endswith("which is what the drive bears")
    wide = on(axis, "inverter", 'max_voltage = "900 V"')
    assert wide.top_speed == axis.machine.max_speed.value
    assert clipped(wide) == []


def test_a_bus_above_what_is_borne_is_told_for_each(axis: Axis) -> None:
    both = on(on(axis, "inverter", 'max_voltage = "300 V"'), "machine", 'max_voltage = "250 V"')
    winding, drive, _ = clipped(both)
    assert winding == "The bus of 320 V is above the 250 V that the winding bears"
    assert drive == "The bus of 320 V is above the 300 V that the drive bears"


def test_a_power_stage_that_is_too_hot_is_told(axis: Axis) -> None:
    assert too_hot(axis, 200.0) == ""
    bound = on(axis, "inverter", 'max_temperature = "85 °C"')
    assert too_hot(bound, 84.0) == ""
    assert too_hot(bound, 85.0) == ("The power stage is at 85 °C and may reach 85 °C: let it cool")


def test_limits_that_are_hardly_meant_are_asked_about(axis: Axis) -> None:
    for section, entry, words in (
        ("inverter", 'max_temperature = "850 °C"', "850 °C for a power stage; 45 to 175 is usual"),
        ("machine", 'max_temperature = "13 °C"', "13 °C for a winding; 60 to 260 is usual"),
        ("inverter", 'max_voltage = "40 V"', "the drive bears 0.12 times the bus; 0.95 to 10 is"),
    ):
        path = f"{section}.{entry.split(' ')[0]}"
        assert doubt(on(axis, section, entry), path).startswith(words)
    assert doubt(axis, "machine.max_temperature") == ""
    with pytest.raises(InputError, match="max_voltage"):
        on(axis, "machine", 'max_voltage = "40 kV"')
