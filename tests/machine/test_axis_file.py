"""The axis file: what is read, what is refused and where, and that nothing is lost on the way."""

import math
import re
import time
from dataclasses import replace
from pathlib import Path

import pytest

from oarlock.demo.project import demo_text
from oarlock.drive.parameters import parameters
from oarlock.drive.steps import Limits, Plan, Step
from oarlock.errors import InputError
from oarlock.experiments.common.gentle import gentle_gains
from oarlock.machine import Axis, CurrentGains, CurrentTarget, TargetKind
from oarlock.machine.axis import concerns, suspected_slip
from oarlock.machine.axis_file import format_axis, parse_axis, read_axis
from oarlock.machine.current_loop import VoltageLimit
from oarlock.machine.limits import clipped
from oarlock.machine.loops import spec
from oarlock.machine.position_loop import PositionGains, PositionTarget
from oarlock.machine.speed_loop import SpeedGains, SpeedTarget
from oarlock.quantities import Estimate, Origin

TEXT = demo_text("winch.axis.toml")


def test_the_winch_is_what_its_datasheet_says(axis: Axis) -> None:
    m = axis.machine
    assert m.R.value == pytest.approx(0.82)
    assert m.Ld.value == pytest.approx(8e-3)
    assert m.Lq.value == pytest.approx(17e-3)
    assert m.psi.value == pytest.approx(0.160, rel=1e-3)
    assert m.pole_pairs.value == 4
    assert m.R.best.source == "1.64 ohm l-l, 20 °C"
    assert m.R.best.origin is Origin.DATASHEET
    assert axis.inverter.v_max == pytest.approx(184.75, abs=0.01)
    assert axis.inverter.Ts == pytest.approx(62.5e-6)
    assert concerns(axis) == []


def test_writing_and_reading_gives_the_same_axis(axis: Axis) -> None:
    found = Estimate(value=0.862, std=0.004, unit="ohm", origin=Origin.MEASURED, source="run 3")
    axis = axis.with_parameter("machine.R", replace(axis.machine.R, adopted=found))
    gain = Estimate(value=1.002, std=0.0005, unit="1", origin=Origin.MEASURED, source="run 3")
    axis = axis.with_parameter("inverter.gain_a", replace(axis.inverter.gain_a, adopted=gain))
    axis = axis.with_gains(CurrentGains(Kp_d=44.6, Ki_d=4575.0, Kp_q=82.3, Ki_q=4575.1))
    target = CurrentTarget(kind=TargetKind.BANDWIDTH, value=1.2e4, override_margin=True)
    axis = axis.with_target(target)
    again = parse_axis(format_axis(axis), place="again")
    assert again.target.value == pytest.approx(axis.target.value, rel=1e-12)
    assert again.with_target(axis.target) == axis


@pytest.mark.parametrize(
    ("old", "new", "line", "words"),
    [
        ('resistance = "1.64 ohm l-l, 20 °C"', 'resistance = "1.64 mH"', 8, "not a unit"),
        ('resistance = "1.64 ohm l-l, 20 °C"', "resistance = 0", 8, "above zero"),
        ('resistance = "1.64 ohm l-l, 20 °C"', "resistance = true", 8, "neither"),
        ('resistance = "1.64 ohm l-l, 20 °C"', 'restance = "1 ohm"', 8, "unknown key"),
        ('pole_pairs = "8 poles"', 'pole_pairs = "7 poles"', 7, "even"),
        ('rated_current = "7.1 A rms"', 'rated_current = "7.1 A"', 12, "RMS or peak"),
        ("oarlock = 2", "oarlock = 3", 3, "versions 1 to 2"),
        ('crossover = "849 Hz"', 'crossover = "fast"', 30, "number"),
        ('crossover = "849 Hz"', 'crossover = "849 Hz"\nbandwidth = "1 kHz"', 31, "at once"),
        ('crossover = "849 Hz"', 'hurry = "yes"', 30, "unknown key"),
        ('name = "Sonar winch"', 'name = ""', 4, "no name"),
    ],
)
def test_what_is_wrong_is_told_with_line_and_key(old: str, new: str, line: int, words: str) -> None:
    assert old in TEXT
    with pytest.raises(InputError, match=words) as caught:
        parse_axis(TEXT.replace(old, new), place="winch.toml")
    assert f"winch.toml, line {line}" in str(caught.value)
    assert caught.value.remedy


@pytest.mark.parametrize(
    ("key", "path"),
    [("resistance", "machine.R"), ("flux_linkage", "machine.psi"),
     ("bus_voltage", "inverter.bus_voltage")],
)  # fmt: skip
def test_a_missing_key_is_not_known(key: str, path: str) -> None:
    text = re.sub(rf"^{key} = .*\n", "", TEXT, flags=re.MULTILINE)
    axis = parse_axis(text, place="winch.toml")
    assert not axis.parameter(path).is_known
    assert key not in format_axis(axis)
    assert parse_axis(format_axis(axis), place="again") == axis


def test_a_constant_for_the_flux_needs_the_pole_pairs() -> None:
    text = re.sub(r"^pole_pairs = \"8 poles\"\n", "", TEXT, flags=re.MULTILINE)
    with pytest.raises(InputError, match="needs the pole pairs first"):
        parse_axis(text, place="winch.toml")


def test_what_was_measured_without_being_printed_is_read_again() -> None:
    text = re.sub(r"^inertia = .*\n", "", TEXT, flags=re.MULTILINE)
    J = Estimate(value=2e-3, std=1e-4, unit="kg m2", origin=Origin.MEASURED, source="run 7")
    axis = parse_axis(text, place="winch.toml").adopting("machine.inertia", J)
    again = parse_axis(format_axis(axis), place="again")
    assert again.machine.inertia is not None
    assert again.machine.inertia.best == J


def test_truncated_binary_and_vanished_files(tmp_path: Path) -> None:
    path = tmp_path / "winch.axis.toml"
    with pytest.raises(InputError, match="no such file"):
        read_axis(path)
    path.write_text(TEXT[: TEXT.index("1.64") + 2], encoding="utf-8")
    with pytest.raises(InputError, match="not TOML"):
        read_axis(path)
    path.write_bytes(b"\x00\x01\x02")
    with pytest.raises(InputError, match="not a text file"):
        read_axis(path)


@pytest.mark.parametrize(
    "table",
    [
        "[adopted]\nR = 3",
        '[adopted]\nR = { value = "x", unit = "ohm" }',
        "[adopted]\nR = { v = 1 }",
    ],
)
def test_adopted_values_are_checked(table: str) -> None:
    with pytest.raises(InputError):
        parse_axis(f"{TEXT}\n{table}\n", place="winch.toml")


@pytest.mark.parametrize("table", ["[gains.current]\nKp_d = 1.0", "[gains.current]\nhello = 1.0"])
def test_gains_are_checked(table: str) -> None:
    with pytest.raises(InputError, match="gains"):
        parse_axis(f"{TEXT}\n{table}\n", place="winch.toml")


def test_two_constants_that_disagree_are_told() -> None:
    line = 'flux_linkage = "82.1 V/krpm l-l"'
    agree = parse_axis(TEXT.replace(line, f'{line}\ntorque_constant = "0.96 Nm/A peak"'), place="")
    assert concerns(agree) == []
    differ = parse_axis(TEXT.replace(line, f'{line}\ntorque_constant = "0.96 Nm/A rms"'), place="")
    assert any("disagree" in text for text in concerns(differ))
    assert parse_axis(format_axis(differ), place="") == differ


def test_slips_between_paper_and_machine_are_suspected(axis: Axis) -> None:
    assert suspected_slip(0.82, 1.66) == "line to line"
    assert suspected_slip(0.82, 0.86) == ""
    assert suspected_slip(1.0, 1.42) == "RMS for peak"
    found = Estimate(value=1.64, std=0.01, unit="ohm", origin=Origin.MEASURED)
    axis = axis.with_parameter("machine.R", replace(axis.machine.R, adopted=found))
    assert any("line to line" in text for text in concerns(axis))


def test_implausible_machines_are_told(axis: Axis) -> None:
    swapped = TEXT.replace("16.0 mH", "35.0 mH")
    assert any("Lq is below Ld" in t for t in concerns(parse_axis(swapped, place="")))
    hot = TEXT.replace('rated_current = "7.1 A rms"', 'rated_current = "20 A rms"')
    assert any("above peak" in t for t in concerns(parse_axis(hot, place="")))
    small = TEXT.replace('"40 A peak"', '"15 A peak"')
    assert any("of the current sense" in t for t in clipped(parse_axis(small, place="")))
    fast = TEXT.replace("16.0 mH", "0.1 mH").replace("34.0 mH", "0.2 mH")
    assert any("L/R is only" in t for t in concerns(parse_axis(fast, place="")))


def test_the_sensor_is_read_and_written() -> None:
    text = TEXT.replace(
        'kind = "resolver"',
        'kind = "encoder"\ncounts = 8192\noffset = "90 deg"\ndirection = "reversed"',
    ).replace('pole_pairs = "4 poles"\n', "")  # fmt: skip
    axis = parse_axis(text, place="a")
    assert axis.sensor.kind == "encoder"
    assert axis.sensor.counts.value == 8192
    assert axis.sensor.zero.value == pytest.approx(1.5707963)
    assert axis.sensor.side.value == -1.0
    assert axis.sensor.is_found  # printed for sure
    again = parse_axis(format_axis(axis), place="b")
    assert again == axis
    two = parse_axis(
        text.replace("adc_bits = 12", 'adc_bits = 12\ncurrent_sensors = "a c"'), place="c"
    )
    assert two.inverter.unsensed == "b"
    assert parse_axis(format_axis(two), place="d") == two


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ('kind = "resolver"', 'kind = "tacho"', "no sensor"),
        ("adc_bits = 12", 'adc_bits = 12\ncurrent_sensors = "a"', "two or three"),
        ("adc_bits = 12", 'adc_bits = 12\nbus_compensation = "yes"', "neither true nor false"),
        ("adc_bits = 12", 'adc_bits = 12\nvoltage_limit = "q first"', "d first, in proportion"),
        ('kind = "resolver"', 'kind = "resolver"\ndirection = "left"', "no direction"),
    ],
)
def test_a_sensor_without_sense_is_refused(old: str, new: str, words: str) -> None:
    with pytest.raises(InputError, match=words):
        parse_axis(TEXT.replace(old, new), place="a")


def test_how_the_bus_is_shared_out_stands_in_the_file_and_goes_to_the_drive() -> None:
    usual = parse_axis(TEXT, place="a")
    assert usual.inverter.voltage_limit is VoltageLimit.D_FIRST
    assert "voltage_limit" not in format_axis(usual)
    text = TEXT.replace("adc_bits = 12", 'adc_bits = 12\nvoltage_limit = "in proportion"')
    other = parse_axis(text, place="b")
    assert other.inverter.voltage_limit is VoltageLimit.IN_PROPORTION
    assert parse_axis(format_axis(other), place="c") == other
    limits = Limits(current=1.0, speed=1.0, travel=1.0, time=1.0)
    held = Plan(name="held", steps=(Step(duration=0.1),), channels=("t",), limits=limits,
                gains=gentle_gains(other, 900.0))  # fmt: skip
    for axis, number in ((usual, 0.0), (other, 1.0)):
        assert parameters(held, axis)["Current controller.Voltage limit"] == number


WHOLE = demo_text("winch.axis.toml").partition("[targets")[0]


@pytest.mark.parametrize(
    ("more", "words"),
    [
        ("[targets]\ncurrent = 5\n", "targets.current is not a table"),
        ('[targets.sped]\ncrossover = "60 Hz"\n', "unknown key targets.sped"),
        ('[targets.speed]\ncrossing = "60 Hz"\n', "unknown key targets.speed.crossing"),
        ('[targets.speed]\ncrossover = "60 Hz"\nbandwidth = "90 Hz"\n', "at once"),
        ("[gains.speed]\nKp = 1\n", "needs numbers above zero: Ki, Kp"),
        ("[gains.speed]\nKp = 0\nKi = 1\n", "needs numbers above zero"),
        ("[gains.position]\nKp = 1\nKd = 1\n", "unknown key gains.position.Kd"),
        ("[filters]\nspeed = 1\n", "filters.speed is not a table"),
        ("[filters.speed]\ntorque = 1\n", "is no list of filters"),
        ("[filters.current]\nvolts = []\n", "unknown key filters.current.volts"),
        ("[[filters.speed.torque]]\nfrequency = 9\n", "names no kind"),
        ('[[filters.speed.torque]]\nkind = "comb"\n', "names no kind"),
        ('[[filters.speed.torque]]\nkind = "notch"\n', "has no frequency"),
        ('[[filters.speed.torque]]\nkind = "notch"\nfrequency = "fast"\n', "number"),
        ('[[filters.speed.torque]]\nkind = "notch"\nfrequency = 9\ndepth = 7\n', "not between"),
        ('[[filters.speed.torque]]\nkind = "notch"\nfrequency = 9\npoles = 2\n', "unknown key"),
        ('[targets.current]\ncrossing = "60 Hz"\n', "unknown key targets.current.crossing"),
        ("[gains]\ncurrent = 1\n", "gains.current is not a table"),
        ("[gains.spede]\nKp = 1\n", "unknown key gains.spede"),
        ("[gains.current]\nKp_d = nan\nKi_d = 1\nKp_q = 1\nKi_q = 1\n", "above zero"),
        ("[gains.current]\nKp_d = true\nKi_d = 1\nKp_q = 1\nKi_q = 1\n", "above zero"),
        ("[gains.current]\nKp_d = -1\nKi_d = 1\nKp_q = 1\nKi_q = 1\n", "above zero"),
        ('[adopted]\nr = { value = 1.0, unit = "ohm" }\n', "unknown key adopted.r"),
        ("[adopted]\nR = 5\n", "is not a table"),
        ('[adopted]\ngain_a = { value = 3.0, unit = "1" }\n', "outside 0.5 to 1.5"),
        ('[adopted]\nR = { value = true, unit = "ohm" }\n', "is not a number"),
    ],
)
def test_what_is_not_of_the_format_is_refused_with_its_line(more: str, words: str) -> None:
    with pytest.raises(InputError, match=words) as caught:
        parse_axis(f"{WHOLE}\n{more}", place="x.toml")
    assert "x.toml, line " in caught.value.place


@pytest.mark.parametrize(
    ("old", "new"),
    [
        ("adc_bits = 12", "adc_bits = 5000"),
        ("adc_bits = 12", "adc_bits = " + "9" * 400),
        ('pole_pairs = "8 poles"', "pole_pairs = " + "9" * 400),
        ('bus_voltage = "320 V"', 'bus_voltage = "320 V dB"'),
        ('bus_voltage = "320 V"', 'bus_voltage = "' + " " * 3000 + '320 V"'),
        ('bus_voltage = "320 V"', 'bus_voltage = "320 ' + " " * 190 + 'V x"'),
        ('bus_voltage = "320 V"', 'bus_voltage = "320 V**V"'),
    ],
)
def test_entries_that_overflow_or_hang_end_in_one_line(old: str, new: str) -> None:
    text = demo_text("winch.axis.toml")
    assert old in text
    parse_axis(text, place="x.toml")  # what reads units is loaded by then
    begun = time.process_time()
    with pytest.raises(InputError) as caught:
        parse_axis(text.replace(old, new), place="x.toml")
    assert time.process_time() - begun < 2.0
    assert "\n" not in str(caught.value)


CASCADE = """
[targets.speed]
crossover = "60 Hz"
phase_margin = "55 deg"
[targets.position]
crossover = 10
speed = "400 rpm"
acceleration = "300 rad/s2"
[gains.speed]
Kp = 0.31
Ki = 9.5
weight = 0.0
[gains.position]
Kp = 40.0
[[filters.speed.torque]]
kind = "notch"
frequency = "211 Hz"
width = 1.2
depth = 0.05
[[filters.speed.torque]]
kind = "low_pass"
frequency = "800 Hz"
poles = 2
[[filters.speed.measured]]
kind = "lead_lag"
frequency = 120
ratio = 3.0
"""


def test_every_loop_has_its_place_in_the_file() -> None:
    axis = parse_axis(f"{TEXT}\n{CASCADE}", place="winch.toml")
    target = axis.loops["speed"].target
    assert isinstance(target, SpeedTarget)
    assert target.crossover == pytest.approx(math.tau * 60.0)
    assert target.phase_margin == pytest.approx(math.radians(55.0))
    assert axis.loops["speed"].gains == SpeedGains(Kp=0.31, Ki=9.5, weight=0.0)
    assert axis.loops["position"].gains == PositionGains(Kp=40.0)
    asked = axis.loops["position"].target
    assert isinstance(asked, PositionTarget)
    ramp = {"speed": 400.0 * math.tau / 60.0, "acceleration": 300.0, "jerk_time": 0.0}
    assert dict(asked.ramp) == pytest.approx(ramp)
    notch, low, lead = axis.loops["speed"].filters
    assert (notch.kind, notch.path, notch.width, notch.depth) == ("notch", "torque", 1.2, 0.05)
    assert notch.frequency == pytest.approx(math.tau * 211.0)
    assert (low.poles, lead.path, lead.ratio) == (2, "measured", 3.0)
    assert axis.target.kind is TargetKind.CROSSOVER  # the current loop is untouched
    numbers = axis.loops.numbers()
    assert numbers.pop("speed.torque_1_notch.depth") == 0.05
    assert numbers.pop("speed.measured_3_lead_lag.ratio") == 3.0
    assert {k: v for k, v in numbers.items() if "_" not in k.split(".")[1] or "share" in k} == {
        "speed.Kp": 0.31, "speed.Ki": 9.5, "speed.weight": 0.0, "speed.acceleration": 0.0,
        "position.Kp": 40.0, "position.speed_share": 1.0,
    }  # fmt: skip
    again = parse_axis(format_axis(axis), place="again")
    assert again.loops["speed"].gains == axis.loops["speed"].gains
    assert [f.kind for f in again.loops["speed"].filters] == [f.kind for f in (notch, low, lead)]
    assert again.loops["speed"].filters[0].frequency == pytest.approx(notch.frequency)


def test_a_file_of_version_1_opens_and_knows_the_current_loop_alone() -> None:
    old = TEXT.replace("oarlock = 2", "oarlock = 1")
    assert parse_axis(old, place="old") == parse_axis(TEXT, place="new")
    with pytest.raises(InputError, match=r"unknown key targets\.speed"):
        parse_axis(f"{old}\n{CASCADE}", place="old")


def test_loops_that_hold_nothing_leave_no_trace() -> None:
    axis = parse_axis(TEXT, place="winch.toml")
    same = axis.loops.with_gains("speed", None).with_target("position", None)
    assert same == axis.loops
    assert "filters" not in format_axis(axis)
    assert spec("speed").name == "Speed loop"
    with pytest.raises(KeyError):
        spec("temper")
