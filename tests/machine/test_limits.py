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
from oarlock.machine.limits import clipped
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
