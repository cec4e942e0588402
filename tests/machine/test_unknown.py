"""What nobody has said: it is guessed to size what comes first, and never passed off as known."""

import math

import pytest

from oarlock.control.current import design_current
from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.machine.axis_file import format_axis, parse_axis
from oarlock.machine.copied import copied
from oarlock.machine.derived import derived
from oarlock.machine.unknown import FOUND_LATER, NEEDED, as_if_known, assumed, is_known, missing
from oarlock.quantities import Estimate, Origin
from oarlock.session.entries import entered
from oarlock.session.new_project import hollow
from oarlock.views.machine_begun import begun, hint_of
from oarlock.views.rail import stages
from oarlock.views.snapshot import Snapshot
from oarlock.views.stage import State
from oarlock.views.strip import strip


def rated(axis: Axis) -> Axis:
    """Return an axis with the three numbers that are asked for."""
    for path, text in (("machine.rated_current", "7.1 A rms"), ("machine.max_speed", "4000 rpm"),
                       ("machine.peak_current", "14.1 A rms")):  # fmt: skip
        axis = entered(axis, path, text)[1]
    return axis


def test_an_axis_begins_with_nothing_known_and_survives_its_file() -> None:
    axis = hollow('Bow "anchor" ä')
    assert axis.name == 'Bow "anchor" ä'
    assert missing(axis) == NEEDED
    assert not any(is_known(axis, path) for path in (*NEEDED, *FOUND_LATER))
    assert not axis.sensor.kind_known
    assert parse_axis(format_axis(axis), place="again") == axis


def test_guesses_follow_the_ratings_as_they_are_entered() -> None:
    axis = rated(hollow("m"))
    before = axis.machine.R.value
    axis = entered(axis, "inverter.bus_voltage", "320 V")[1]
    volts = 320.0 / math.sqrt(3.0)
    assert axis.machine.R.value == pytest.approx(0.04 * volts / axis.machine.rated_current.value)
    assert axis.machine.R.value != before
    emf = axis.machine.psi.value * axis.machine.pole_pairs.value * axis.machine.max_speed.value
    assert emf == pytest.approx(0.5 * volts)
    assert parse_axis(format_axis(axis), place="again") == axis


def test_what_was_entered_is_no_guess() -> None:
    known = assumed({"machine.R": 0.8, "machine.psi": 0.16, "machine.Lq": 0.017})
    assert (known["machine.R"], known["machine.psi"]) == (0.8, 0.16)
    assert known["machine.Ld"] == 0.017  # better than nothing


def test_no_gains_and_no_figures_rest_on_a_guess() -> None:
    axis = rated(hollow("m"))
    with pytest.raises(
        InputError, match="resistance R, inductance Ld, inductance Lq and control frequency are"
    ):
        design_current(axis)
    assert derived(axis) == ()
    assert [m.kind for m in strip(axis, []).markers if m.lane == "machine"] == []
    made = stages(Snapshot(axis=axis))
    assert all(stage.state is State.EMPTY for stage in made)
    assert made[0].line == "3 of 9 known"


def test_what_was_seen_roughly_is_not_known_and_replaces_nothing() -> None:
    rough = Estimate(value=0.5, std=0.1, unit="ohm", origin=Origin.ROUGH, source="run 2")
    axis = rated(hollow("m")).adopting("machine.R", rough)
    assert axis.machine.R.value == 0.5
    assert not axis.machine.R.is_known
    assert not axis.is_adopted("machine.R")
    assert parse_axis(format_axis(axis), place="again").machine.R.best == rough
    typed = entered(rated(hollow("m")), "machine.R", "0.8 ohm")[1]
    assert typed.adopting("machine.R", rough) == typed


def test_as_if_known_bounds_what_will_move() -> None:
    axis = as_if_known(rated(hollow("m")))
    assert not missing(axis)
    assert design_current(axis).gains.Kp_q > 0.0
    assert axis.machine.inertia is not None
    # Rated torque takes it to top speed in 0.3 s.
    torque = axis.machine.torque_constant * axis.machine.rated_current.value
    run_up = axis.machine.inertia.value * axis.machine.max_speed.value / torque
    assert run_up == pytest.approx(0.3)


def test_the_stage_says_what_is_needed_and_what_finds_the_rest() -> None:
    axis = hollow("m")
    told = begun(Snapshot(axis=axis), connected=False)
    assert told.answer == "Unknown yet: three numbers to the first measurement"
    assert told.waits == "waits for rated current"
    assert hint_of(axis, "machine.R") == "direct current"
    assert hint_of(axis, "machine.peak_current") == "needed first"
    assert hint_of(axis, "inverter.bus_voltage") == "the drive tells it"
    axis = rated(axis)
    told = begun(Snapshot(axis=axis), connected=False)
    assert told.answer == "Connect the drive: it tells the rest"
    for path, text in (("inverter.bus_voltage", "320 V"), ("inverter.control_frequency", "16 kHz"),
                       ("inverter.pwm_frequency", "16 kHz"),
                       ("inverter.current_full_scale", "40 A peak")):  # fmt: skip
        axis = entered(axis, path, text)[1]
    told = begun(Snapshot(axis=axis), connected=True)
    assert told.answer == "It can be measured now"
    assert not told.waits
    turn = next(row for row in told.coming if row.what == "One turn each way, forced")
    assert turn.moves.startswith("turns 2.1 turns")
    assert turn.current.endswith(" A")


def test_a_copy_holds_what_was_measured_as_entries_and_nothing_of_the_drive(axis: Axis) -> None:
    R = Estimate(value=0.8532, std=0.002, unit="ohm", origin=Origin.MEASURED, source="run 3")
    axis = axis.adopting("machine.R", R).with_gains(design_current(axis).gains)
    made = copied(axis, "Spare")
    assert made.name == "Spare"
    assert made.machine.R.best.origin is Origin.DATASHEET
    assert made.machine.R.value == pytest.approx(0.8532)
    assert made.machine.Ld == axis.machine.Ld
    assert made.gains is None
    assert not made.sensor.is_found
    assert made.inverter.offset_a.adopted is None
    assert parse_axis(format_axis(made), place="again").machine.R.value == pytest.approx(0.8532)


def test_a_copy_does_not_pass_on_what_was_only_seen_roughly() -> None:
    rough = Estimate(value=0.5, std=0.1, unit="ohm", origin=Origin.ROUGH, source="run 2")
    made = copied(rated(hollow("m")).adopting("machine.R", rough), "n")
    assert made.machine.R.adopted is None
    assert not made.machine.R.is_known
