"""Cosine, sine, exponential: against forty decimal places, and the library's own."""

import math
from decimal import Decimal, getcontext

import numpy as np
import pytest

from oarlock.lanes.bits import WHOLE, power_of_two
from oarlock.simulate.elementary import LEAST_POWER, cos_sin, exp, sin

HALF_PI = Decimal("1.5707963267948966192313216916397514420985846996876")


@pytest.mark.parametrize("span", [1e-3, 0.4, 3.0, 100.0, 1e5, 6e6])
def test_cosine_and_sine_are_the_librarys_to_the_last_bit_or_two(span: float) -> None:
    rng = np.random.default_rng(int(span))
    for x in rng.uniform(-span, span, 3000).tolist():
        c, s = cos_sin(x)
        assert abs(c - math.cos(x)) <= 2.3e-16
        assert abs(s - math.sin(x)) <= 2.3e-16
        assert sin(x) == s


@pytest.mark.parametrize("quarters", [-5, -2, -1, 0, 1, 2, 3, 4, 7, 1001, 100_000])
def test_near_each_quarter_turn_nothing_is_lost(quarters: int) -> None:
    getcontext().prec = 50
    for x in (float(quarters * HALF_PI), float(quarters * HALF_PI) + 1e-9):
        off = float(Decimal(x) - quarters * HALF_PI)  # what sine or cosine is, so near
        c, s = cos_sin(x)
        small = c if quarters % 2 else s
        assert abs(small) == pytest.approx(abs(math.sin(off)), rel=1e-9, abs=1e-20)


def test_a_vector_that_is_turned_keeps_its_length() -> None:
    for x in np.linspace(-20.0, 20.0, 4001).tolist():
        c, s = cos_sin(x)
        assert c * c + s * s == pytest.approx(1.0, abs=4e-16)


@pytest.mark.parametrize("span", [(-40.0, 0.0), (-1e-3, 1e-3), (LEAST_POWER, 709.0)])
def test_the_exponential_lies_within_its_last_bits(span: tuple[float, float]) -> None:
    getcontext().prec = 40
    for x in np.random.default_rng(4).uniform(*span, 3000).tolist():
        assert abs(Decimal(exp(x)) / Decimal(x).exp() - 1) < Decimal("4e-16")
    assert exp(0.0) == 1.0


def test_compiled_and_plain_are_the_same_to_the_bit() -> None:
    plain, bare = exp.py_func, cos_sin.py_func  # type: ignore[attr-defined]
    for x in np.random.default_rng(6).uniform(-30.0, 30.0, 500).tolist():
        assert plain(x) == exp(x)
        assert bare(x) == cos_sin(x)


@pytest.mark.parametrize("k", [-1022, -1, 0, 1, 10, 1023])
def test_a_power_of_two_is_put_together_of_its_exponent(k: int) -> None:
    assert power_of_two(WHOLE + k) == math.ldexp(1.0, k)
