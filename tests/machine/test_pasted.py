"""A pasted table: what each line is taken for, what is asked, and what is left alone."""

import pytest

from oarlock.machine.pasted import pasted

TABLE = """
Rated speed            3000 rpm
Phase resistance 25°C  0.30 ohm
Inductance             0.62 mH
Torque constant        0.146 Nm/A
Poles                  10
Rotor inertia          1.8 kgcm2
Holding brake          24 V 14 W
"""


def test_a_table_as_it_is_printed() -> None:
    speed, R, L, Kt, poles, J, brake = pasted(TABLE)
    assert (speed.paths, speed.readings[0].entry) == (("machine.max_speed",), "3000 rpm")
    assert R.is_sure
    assert R.readings[0].entry == "0.30 ohm phase"
    assert not L.is_sure
    assert [(r.said, r.value) for r in L.readings] == [("l-l", "310 µH"), ("phase", "620 µH")]
    assert L.paths == ("machine.Ld", "machine.Lq")
    assert [r.said for r in Kt.readings] == ["rms", "peak"]
    assert poles.readings[0].value == "5"
    assert J.readings[0].value == "0.180 g·m²"
    assert brake.paths == ()


@pytest.mark.parametrize(
    ("line", "path", "entry"),
    [
        ("Continuous current: 7.1 Arms", "machine.rated_current", "7.1 A rms"),
        ("Max. peak current = 20 A (peak)", "machine.peak_current", "20 A peak"),
        ("Resistance line to line: 1.64 Ω ±10 %", "machine.R", "1.64 ohm l-l"),
        ("Terminal resistance 0.9 Ohm", "machine.R", "0.9 ohm l-l"),
        ("Ld (phase) 8 mH", "machine.Ld", "8 mH phase"),
        ("Back EMF constant: 82.1 V/krpm l-l", "machine.psi", "82.1 V/krpm l-l"),
        ("Max speed 4000 min-1", "machine.max_speed", "4000 rpm"),
        ("Nominal voltage: 48 V", "inverter.bus_voltage", "48 V"),
        ("Number of pole pairs 7", "machine.pole_pairs", "7"),
    ],
)
def test_single_lines(line: str, path: str, entry: str) -> None:
    (made,) = pasted(line, pole_pairs=4.0)
    assert path in made.paths
    assert entry in [reading.entry for reading in made.readings], made
    assert made.is_sure


def test_a_current_without_a_word_is_asked_about() -> None:
    (made,) = pasted("Rated current 7.1 A")
    assert [r.said for r in made.readings] == ["rms", "peak"]


def test_a_constant_waits_for_the_poles_and_uses_those_of_the_table() -> None:
    (alone,) = pasted("Voltage constant 82.1 V/krpm l-l")
    assert not alone.readings
    assert "pole pairs first" in alone.trouble
    _, both = pasted("Poles: 8\nVoltage constant 82.1 V/krpm l-l")
    assert both.readings[0].value == "160 mWb"


def test_nonsense_is_left_alone() -> None:
    for text in ("", "\n\n", "Colour: blue", "Resistance", "Resistance: n/a", "R " + "9" * 400):
        assert all(not line.readings for line in pasted(text))
    assert len(pasted("a\n" * 500)) == 60
