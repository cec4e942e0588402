"""What looks wrong about an axis as it stands, on both sides of each limit; what is assumed."""

import math
from dataclasses import replace

import pytest

from oarlock.demo.project import demo_text
from oarlock.errors import InputError
from oarlock.machine import Axis, TargetKind
from oarlock.machine.axis import MECHANICS_FOUND, concerns
from oarlock.machine.axis_file import format_axis, parse_axis
from oarlock.machine.sensor import Sensor


def entered(axis: Axis, path: str, value: float) -> Axis:
    parameter = axis.parameter(path)
    printed = replace(parameter.printed, value=value)
    return axis.with_parameter(path, replace(parameter, printed=printed, adopted=None))


@pytest.mark.parametrize(
    ("path", "fine", "wrong", "words"),
    [
        ("machine.Lq", 0.985 * 8e-3, 0.975 * 8e-3, "Lq is below Ld"),
        ("machine.rated_current", 19.9, 20.0, "RMS taken for peak"),
        ("machine.R", 8e-3 / (5.02 / 16e3), 8e-3 / (4.98 / 16e3), "L/R is only 5.0 samples"),
    ],
)
def test_a_concern_begins_at_its_limit(
    axis: Axis, path: str, fine: float, wrong: float, words: str
) -> None:
    assert not any(words in said for said in concerns(entered(axis, path, fine)))
    assert any(words in said for said in concerns(entered(axis, path, wrong)))


def test_two_constants_that_say_the_flux_may_differ_by_five_percent(axis: Axis) -> None:
    text = format_axis(axis)
    psi = axis.machine.psi.value
    for ratio, said in ((1.04, False), (1.06, True), (0.96, False), (0.94, True)):
        kt = 1.5 * 4 * psi * ratio
        more = text.replace("[inverter]", f'torque_constant = "{kt} N m/A peak"\n[inverter]', 1)
        found = concerns(parse_axis(more, place="x"))
        assert any("they say the same flux" in c for c in found) is said, ratio
        if said:  # the first one printed is in use
            assert any(f"disagree by {ratio:.2f}" in c or f"disagree by {1 / ratio:.2f}" in c
                       for c in found)  # fmt: skip


def test_what_nothing_is_known_of(axis: Axis) -> None:
    for name in MECHANICS_FOUND:
        assert axis.parameter(f"mechanics.{name}").value == 0.0
    inv = axis.inverter
    assert (inv.gain_a.value, inv.gain_a.std) == (1.0, 0.006)
    assert (inv.gain_b.value, inv.gain_b.std) == (1.0, 0.006)
    assert inv.delay.value == pytest.approx(1.5 / 16e3)
    assert inv.dead_voltage.value == pytest.approx(320 * 1e-6 * 16e3)
    assert inv.Ts == pytest.approx(1 / 16e3)
    assert inv.v_max == pytest.approx(320 / math.sqrt(3))
    assert inv.current_count == pytest.approx(2 * 40 / 4096)


def test_a_sensor_of_which_nothing_was_found() -> None:
    sensor = Sensor()
    assert (sensor.counts.value, sensor.pairs.value, sensor.side.value) == (4096.0, 1.0, 1.0)
    assert sensor.sine_ratio.value == 1.0
    assert [getattr(sensor, n).value for n in ("zero", "skew", "sine_offset", "cosine_offset")] == [
        0.0, 0.0, 0.0, 0.0,
    ]  # fmt: skip
    assert not any(0.0 <= start < math.tau for start in sensor.hall_starts)


@pytest.mark.parametrize(
    ("path", "unit", "low", "high"),
    [
        ("inverter.dead_voltage", "V", 0.0, 1000.0), ("inverter.gain_a", "1", 0.5, 1.5),
        ("inverter.gain_b", "1", 0.5, 1.5), ("inverter.delay", "s", 0.0, 1.0),
        ("sensor.sine_ratio", "1", 0.1, 10.0), ("sensor.side", "1", -1.0, 1.0),
        ("mechanics.resonance", "rad/s", 0.0, 1e6), ("mechanics.anti_resonance", "rad/s", 0.0, 1e6),
        ("mechanics.load_torque", "N m", -1e6, 1e6),
    ],
)  # fmt: skip
def test_measured_values_between_their_limits(
    path: str, unit: str, low: float, high: float
) -> None:
    text, name = demo_text("winch.axis.toml"), path.split(".")[1]
    wide = 0.02 * (high - low)
    for value in (low, high):
        entry = f'[adopted]\n{name} = {{ value = {value!r}, std = 0.0, unit = "{unit}" }}\n'
        assert parse_axis(f"{text}\n{entry}", place="x").parameter(path).value == value
    for value in (low - wide, high + wide):
        entry = f'[adopted]\n{name} = {{ value = {value!r}, unit = "{unit}" }}\n'
        with pytest.raises(InputError, match="outside"):
            parse_axis(f"{text}\n{entry}", place="x")
    for std in ("-0.1", "inf"):
        entry = f'[adopted]\n{name} = {{ value = 1.0, std = {std}, unit = "{unit}" }}\n'
        with pytest.raises(InputError, match=r"uncertainty|finite|inf"):
            parse_axis(f"{text}\n{entry}", place="x")


@pytest.mark.parametrize(
    ("entry", "kind", "value"),
    [
        ('crossover = "849 Hz"', TargetKind.CROSSOVER, math.tau * 849),
        ('bandwidth = "2 kHz"', TargetKind.BANDWIDTH, math.tau * 2000),
        ('phase_margin = "60 deg"', TargetKind.PHASE_MARGIN, math.pi / 3),
        ('time_constant = "187 us"', TargetKind.TIME_CONSTANT, 187e-6),
    ],
)
def test_what_a_loop_is_asked_for(axis: Axis, entry: str, kind: TargetKind, value: float) -> None:
    text = format_axis(axis.with_gains(None)).split("[targets")[0]
    found = parse_axis(f"{text}\n[targets.current]\n{entry}\n", place="x").target
    assert found.kind is kind
    assert found.value == pytest.approx(value)
