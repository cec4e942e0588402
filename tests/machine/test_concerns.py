"""What looks wrong about an axis as it stands, on both sides of each limit; what is assumed."""

import math
from dataclasses import replace

import pytest

from oarlock.machine import Axis, TargetKind
from oarlock.machine.axis import MECHANICS_FOUND, concerns
from oarlock.machine.axis_file import format_axis, parse_axis


def entered(axis: Axis, path: str, value: float) -> Axis:
    parameter = axis.parameter(path)
    printed = replace(parameter.printed, value=value)
    return axis.with_parameter(path, replace(parameter, printed=printed, adopted=None))


@pytest.mark.parametrize(
    ("path", "fine", "wrong", "words"),
    [
        ("machine.Lq", 0.985 * 8e-3, 0.975 * 8e-3, "Lq is below Ld"),
        ("machine.rated_current", 19.9, 20.0, "RMS taken for peak"),
        ("inverter.current_full_scale", 20.0, 19.9, "ends below the peak current"),
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
    text = format_axis(replace(axis, gains=None)).split("[targets")[0]
    found = parse_axis(f"{text}\n[targets.current]\n{entry}\n", place="x").target
    assert found.kind is kind
    assert found.value == pytest.approx(value)
