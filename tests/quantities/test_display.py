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
