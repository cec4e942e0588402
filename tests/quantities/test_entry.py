"""Entries as datasheets print them, each converted once; nonsense refused with a remedy."""

import contextlib
import math

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oarlock.errors import InputError
from oarlock.quantities.entry import parse
from oarlock.quantities.kinds import RPM, Kind

# The winch: psi = 0.16 Wb, four pole pairs. Each constant worked out by hand from
# Ke_LL,peak = sqrt(3) p psi, Kt = 1.5 p psi (see docs/theory.md).
PSI = 0.16
KE_LL = math.sqrt(3.0) * 4 * PSI  # V s/rad, peak
KRPM = 1000.0 * RPM


@pytest.mark.parametrize(
    ("kind", "text", "value"),
    [
        (Kind.RESISTANCE, "1.64 ohm l-l", 0.82),
        (Kind.RESISTANCE, "1.64 Ω l-l, 20 °C", 0.82),
        (Kind.RESISTANCE, "1.64 ohm line to line", 0.82),
        (Kind.RESISTANCE, "820 mΩ", 0.82),
        (Kind.RESISTANCE, "820 mohm per phase", 0.82),
        (Kind.RESISTANCE, "2.46 ohm delta", 0.82),
        (Kind.RESISTANCE, "0.82", 0.82),
        (Kind.RESISTANCE, ".82 ohm", 0.82),
        (Kind.INDUCTANCE, "16.0 mH l-l", 8e-3),
        (Kind.INDUCTANCE, "20 µH", 20e-6),
        (Kind.INDUCTANCE, "20 uH phase", 20e-6),
        (Kind.INDUCTANCE, "24 mH (delta)", 8e-3),
        (Kind.FLUX, "160 mWb", PSI),
        (Kind.FLUX, f"{KE_LL * KRPM / math.sqrt(2)} V/krpm l-l", PSI),
        (Kind.FLUX, f"{KE_LL * KRPM} V/krpm l-l peak", PSI),
        (Kind.FLUX, f"{KE_LL * KRPM / math.sqrt(3)} V/krpm phase peak", PSI),
        (Kind.FLUX, f"{KE_LL * KRPM / 1000 / math.sqrt(2)} V/rpm rms", PSI),
        (Kind.FLUX, f"{KE_LL} V s/rad", PSI),
        (Kind.FLUX, f"{KE_LL} V·s/rad l-l peak", PSI),
        (Kind.FLUX, f"{math.tau * PSI} V/Hz electrical", PSI),
        (Kind.FLUX, f"{1.5 * 4 * PSI} N m/A peak", PSI),
        (Kind.FLUX, f"{1.5 * math.sqrt(2) * 4 * PSI} Nm/A rms", PSI),
        (Kind.FLUX, f"{1 / RPM / KE_LL} rpm/V", PSI),
        (Kind.FLUX, f"{0.01 / RPM / KE_LL} rpm/V", 100 * PSI),
        (Kind.CURRENT, "14.1 A rms", 14.1 * math.sqrt(2)),
        (Kind.CURRENT, "20 A peak", 20.0),
        (Kind.CURRENT, "20", 20.0),
        (Kind.CURRENT, "500 mA pk", 0.5),
        (Kind.SPEED, "4000 rpm", 4000 * RPM),
        (Kind.SPEED, "400 rad/s", 400.0),
        (Kind.INERTIA, "69 kg cm2", 6.9e-3),
        (Kind.INERTIA, "69.0 kg·cm²", 6.9e-3),
        (Kind.INERTIA, "69000 g cm^2", 6.9e-3),
        (Kind.INERTIA, "6.9 g m2", 6.9e-3),
        (Kind.POLE_PAIRS, "8 poles", 4),
        (Kind.POLE_PAIRS, "4 pole pairs", 4),
        (Kind.POLE_PAIRS, "4", 4),
        (Kind.TIME, "1 us", 1e-6),
        (Kind.FREQUENCY, "16 kHz", 16e3),
        (Kind.VOLTAGE, "320 V", 320.0),
        (Kind.ANGLE, "60 deg", math.pi / 3),
        (Kind.COUNT, "12", 12),
    ],
)
def test_reads_what_datasheets_print(kind: Kind, text: str, value: float) -> None:
    assert parse(kind, text, pole_pairs=4).value == pytest.approx(value, rel=1e-9)


@pytest.mark.parametrize(
    ("kind", "text", "words"),
    [
        (Kind.CURRENT, "14.1 A", "RMS or peak"),
        (Kind.CURRENT, "20 A peak rms", "at once"),
        (Kind.FLUX, "0.96 N m/A", "RMS or per A peak"),
        (Kind.FLUX, "3 ohm", "magnet flux"),
        (Kind.FLUX, "0 rpm/V", "above zero"),
        (Kind.RESISTANCE, "1.6 mH", "not a unit of resistance"),
        (Kind.RESISTANCE, "1.6 ohm rms", "makes no sense"),
        (Kind.RESISTANCE, "1,64 ohm", "comma"),
        (Kind.RESISTANCE, "0 ohm", "above zero"),
        (Kind.RESISTANCE, "-1 ohm", "above zero"),
        (Kind.RESISTANCE, "ohm", "number"),
        (Kind.RESISTANCE, "", "number"),
        (Kind.RESISTANCE, "nan", "number"),
        (Kind.RESISTANCE, "1e999", "finite"),
        (Kind.RESISTANCE, "1.64 kohm l-l phase", "at once"),
        (Kind.RESISTANCE, "99999 ohm", "outside"),
        (Kind.RESISTANCE, "1.6 blorp", "not a unit"),
        (Kind.RESISTANCE, "1.6 ohm ((", "unit"),
        (Kind.INDUCTANCE, "0 mH", "above zero"),
        (Kind.INDUCTANCE, "34 H l-l", "outside"),
        (Kind.POLE_PAIRS, "7 poles", "even"),
        (Kind.POLE_PAIRS, "4.5", "whole"),
        (Kind.POLE_PAIRS, "8 A", "count of poles"),
        (Kind.SPEED, "50 Hz", "electrical or mechanical"),
        (Kind.SPEED, "5 V", "not a unit of speed"),
        (Kind.COUNT, "12.5", "whole"),
    ],
)
def test_refuses_nonsense_in_one_line_with_a_remedy(kind: Kind, text: str, words: str) -> None:
    with pytest.raises(InputError, match=words) as caught:
        parse(kind, text, pole_pairs=4)
    assert "\n" not in str(caught.value)
    assert caught.value.remedy


def test_a_voltage_constant_needs_the_pole_pairs() -> None:
    with pytest.raises(InputError, match="pole pairs first"):
        parse(Kind.FLUX, "82.1 V/krpm l-l")
    assert parse(Kind.FLUX, "160 mWb").value == pytest.approx(0.16)


def test_what_was_taken_for_granted_is_told() -> None:
    assert parse(Kind.FLUX, "82.1 V/krpm l-l", pole_pairs=4).note == "V/krpm line to line rms"
    assert parse(Kind.RESISTANCE, "1.64 ohm l-l").note == "line to line, halved"
    assert parse(Kind.RESISTANCE, "0.82 ohm").note == "per phase"


@given(st.floats(min_value=1e-3, max_value=100.0))
def test_prefixes_and_conventions_commute(ohms: float) -> None:
    direct = parse(Kind.RESISTANCE, f"{ohms!r} ohm").value
    assert parse(Kind.RESISTANCE, f"{2000 * ohms!r} mohm l-l").value == pytest.approx(direct)
    assert parse(Kind.RESISTANCE, f"{3 * ohms!r} ohm delta").value == pytest.approx(direct)


@settings(max_examples=200)
@given(st.from_regex(r"\A-?[0-9]{1,3}(\.[0-9]{1,2})? ?[-A-Za-z0-9 ()/*^µΩ.']{0,12}\Z"))
def test_whatever_looks_like_a_unit_is_read_or_refused(text: str) -> None:
    for kind in (Kind.RESISTANCE, Kind.FLUX, Kind.INERTIA):
        with contextlib.suppress(InputError):
            assert math.isfinite(parse(kind, text, pole_pairs=4).value)


@given(st.text(max_size=24))
def test_any_text_is_read_or_refused(text: str) -> None:
    for kind in (Kind.RESISTANCE, Kind.FLUX, Kind.SPEED, Kind.POLE_PAIRS, Kind.CURRENT):
        with contextlib.suppress(InputError):
            assert math.isfinite(parse(kind, text, pole_pairs=4).value)


@pytest.mark.parametrize(
    ("text", "amperes"),
    [
        ("0.5 mohm, gain 20, 3.3 V, 12 bit", 165.0),
        ("1 mohm, gain 20, 3.2 V", 80.0),
        ("40 A peak", 40.0),
        ("10 A rms", 14.1421356),
    ],
)
def test_a_current_sense_by_its_parts_or_by_its_end(text: str, amperes: float) -> None:
    assert parse(Kind.FULL_SCALE, text).value == pytest.approx(amperes)


@pytest.mark.parametrize(
    ("text", "words"),
    [("gain 20, 3.3 V", "lacks shunt"), ("0.5 mohm, gain 20", "lacks range"),
     ("40 A", "RMS or peak"), ("0.5 mohm, gain x, 3.3 V", "gain x")],
)  # fmt: skip
def test_a_current_sense_without_sense(text: str, words: str) -> None:
    with pytest.raises(InputError, match=words):
        parse(Kind.FULL_SCALE, text)


def test_a_direction_is_forward_or_reversed() -> None:
    assert parse(Kind.DIRECTION, "Reversed").value == -1.0
    assert parse(Kind.DIRECTION, "forward").value == 1.0
    with pytest.raises(InputError, match="no direction"):
        parse(Kind.DIRECTION, "left")


def test_the_plain_units_are_what_the_units_package_says() -> None:
    from oarlock.quantities import entry
    from oarlock.quantities.units import PARTS, PLAIN

    registry = entry._registry()
    for si, units in PLAIN.items():
        base = entry._unit(si, Kind.FLUX)
        for text, worth in units.items():
            theirs = registry.Quantity(1.0, entry._unit(text, Kind.FLUX)).to(base).magnitude
            assert worth == pytest.approx(theirs, rel=1e-12), text
    for text, parts in PARTS.items():
        quantity = registry.Quantity(1.0, entry._unit(text, Kind.FLUX))
        assert parts == {str(name): power for name, power in quantity.unit_items()}
