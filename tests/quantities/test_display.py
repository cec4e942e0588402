"""Numbers as people read them."""

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from oarlock.quantities.display import (
    digits,
    engineering,
    fixed,
    sentence,
    signed,
    whole_degrees,
    with_std,
)


@pytest.mark.parametrize(
    ("value", "unit", "figures", "shown"),
    [
        (0.01562, "H", 4, ("15.62", "mH")),
        (0.82, "ohm", 3, ("0.820", "Ω")),
        (0.025, "ohm", 3, ("25.0", "mΩ")),
        (1970.4, "Hz", 3, ("1.97", "kHz")),
        (849.0, "Hz", 3, ("849", "Hz")),
        (999.9, "Hz", 3, ("1.00", "kHz")),
        (1.77e-4, "s", 3, ("177", "µs")),
        (6.9e-3, "kg m2", 3, ("6.90", "g·m²")),
        (82.27, "V/A", 3, ("82.3", "V/A")),
        (-0.5, "A", 2, ("−500", "mA")),
        (0.0, "A", 3, ("0", "A")),
    ],
)
def test_engineering_notation(
    value: float, unit: str, figures: int, shown: tuple[str, str]
) -> None:
    assert engineering(value, unit, figures) == shown


@pytest.mark.parametrize(
    ("value", "unit", "figures", "shown"),
    [
        (0.0999, "ohm", 3, ("99.9", "mΩ")),
        (0.1, "ohm", 3, ("0.100", "Ω")),
        (2e-10, "s", 2, ("0.20", "ns")),
        (3e9, "Hz", 2, ("3000", "MHz")),
        (3.2e6, "Hz", 2, ("3.2", "MHz")),
        (4.7e-8, "s", 2, ("47", "ns")),
        (123.4, "N m", 3, ("123", "N·m")),
        (0.0123, "rad/s", 2, ("0.012", "rad/s")),
        (35.0, "deg", 2, ("35", "°")),
        (-12.345, "V/(A s)", 4, ("−12.35", "V/(A·s)")),
        (0.9996, "A", 3, ("1.00", "A")),
        (0.9994, "A", 3, ("999", "mA")),
        (math.inf, "A", 3, ("–", "A")),
    ],
)
def test_where_prefixes_begin_and_end(
    value: float, unit: str, figures: int, shown: tuple[str, str]
) -> None:
    assert engineering(value, unit, figures) == shown


@pytest.mark.parametrize(
    ("value", "std", "shown"),
    [
        (123.456, 0.2, ("123.5", "0.2")),
        (123.456, 30.0, ("120", "30")),
        (9.999, 0.01, ("9.999", "0.010")),
        (-5.4321, 0.02, ("−5.43", "0.02")),
        (1.2345678, 1e-7, ("1.2346", "0.0000001")),
        (1.0, math.inf, ("1.00", "")),
        (0.0, 0.1, ("0", "")),
        (5.0, 80.0, ("5.0", "80.0")),
    ],
)
def test_number_and_uncertainty_side_by_side(
    value: float, std: float, shown: tuple[str, str]
) -> None:
    assert with_std(value, std, "A")[:2] == shown


def test_digits_follow_the_uncertainty() -> None:
    assert with_std(0.01562, 0.00006, "H") == ("15.62", "0.06", "mH")
    assert with_std(0.8621, 0.004, "ohm") == ("0.862", "0.004", "Ω")
    assert with_std(0.8621, None, "ohm") == ("0.862", "", "Ω")
    assert with_std(0.8621, 0.0, "ohm")[1] == ""


def test_small_uncertainty_is_never_shown_as_zero() -> None:
    number, plus, _ = with_std(1.0, 1e-9, "A")
    assert float(plus) > 0.0
    assert len(number) <= 7


def test_margins_are_rounded_down_and_signs_are_shown() -> None:
    assert [whole_degrees(x) for x in (59.6, 60.0, 61.35, math.nan)] == ["59", "60", "61", "–"]
    assert [whole_degrees(x, 1) for x in (32.98, 33.0, 32.9999999)] == ["32.9", "33.0", "33.0"]
    assert [signed(x, 1) for x in (-1.25, 3.0, math.inf)] == ["−1.2", "+3.0", "–"]


def test_what_is_not_finite_is_a_dash() -> None:
    assert digits(math.nan) == "–"
    assert fixed(math.inf, 2) == "–"
    assert sentence(849.0, "Hz") == "849 Hz"


@given(st.floats(min_value=1e-6, max_value=1e6))
def test_three_figures_are_within_half_a_percent(value: float) -> None:
    number, unit = engineering(value, "A")
    scale = {"n": 1e-9, "µ": 1e-6, "m": 1e-3, "k": 1e3, "M": 1e6}.get(unit[0], 1.0)
    assert float(number) * (scale if len(unit) > 1 else 1.0) == pytest.approx(value, rel=6e-3)
