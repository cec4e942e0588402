"""Figures of a step against closed forms of second-order systems."""

import math
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oarlock.control import _figures, _steps
from oarlock.control.compiled import warm
from oarlock.control.figures import (
    _second_order,
    fit_second_order,
    largest_linear_step,
    step_figures,
)

T = np.linspace(0.0, 0.02, 4001)


def test_first_order_rise_and_settling() -> None:
    tau = 1e-3
    found = step_figures(T, 1.0 - np.exp(-T / tau))
    assert found.rise == pytest.approx(tau * math.log(9.0), rel=1e-3)
    assert found.settling == pytest.approx(tau * math.log(50.0), rel=1e-2)
    assert found.overshoot == 0.0


@pytest.mark.parametrize("zeta", [0.3, 0.5, 0.707])
def test_overshoot_of_a_second_order_system(zeta: float) -> None:
    """exp(-pi zeta / sqrt(1 - zeta²)), at pi / (wn sqrt(1 - zeta²)) (Ogata, ch. 5)."""
    wn = 2000.0
    found = step_figures(T, _second_order(T, wn, zeta, 0.0))
    root = math.sqrt(1.0 - zeta * zeta)
    assert found.overshoot == pytest.approx(math.exp(-math.pi * zeta / root), rel=1e-3)
    assert found.peak_time == pytest.approx(math.pi / (wn * root), rel=1e-2)


@settings(max_examples=25, deadline=None)
@given(
    st.floats(min_value=800.0, max_value=8000.0),
    st.floats(min_value=0.3, max_value=1.8),
    st.floats(min_value=0.0, max_value=3e-4),
)
def test_the_fit_finds_what_was_there(wn: float, zeta: float, delay: float) -> None:
    t = np.linspace(0.0, 12.0 / wn + delay, 160)
    noise = np.random.default_rng(1).normal(0.0, 0.002, t.size)
    found = fit_second_order(t, _second_order(t, wn, zeta, delay) + noise)
    assert found.misfit < 0.004
    # Far over-damped, frequency and damping trade against each other; their product holds.
    assert found.natural_frequency / found.damping == pytest.approx(wn / zeta, rel=0.12)
    if zeta < 1.0:
        assert found.natural_frequency == pytest.approx(wn, rel=0.05)
        assert found.damping == pytest.approx(zeta, rel=0.06)


def test_a_response_that_never_arrives_has_no_figures() -> None:
    found = step_figures(T, np.full(T.size, 0.05))
    assert math.isnan(found.rise)
    assert math.isnan(found.settling)
    assert found.final == pytest.approx(0.05)


def test_a_response_that_is_there_from_the_start() -> None:
    found = step_figures(T, np.ones(T.size))
    assert found.settling == 0.0
    assert found.rise == 0.0


def test_the_largest_linear_step_uses_the_bus_up() -> None:
    voltage = np.array([0.0, 82.0, 50.0, 3.0])
    assert largest_linear_step(voltage, 164.0) == pytest.approx(2.0)
    assert largest_linear_step(voltage, 164.0, 82.0) == pytest.approx(1.0)
    assert largest_linear_step(voltage, 100.0, 200.0) == 0.0
    assert math.isinf(largest_linear_step(np.zeros(3), 100.0))


def test_figures_between_coarse_samples_by_hand() -> None:
    t = 0.1 * np.arange(-2.0, 22.0)
    y = np.concatenate([[0, 0, 0, 0.4, 0.8, 1.1, 1.01], np.ones(16), [0.99]])
    found = step_figures(t, y)
    assert found.rise_from == pytest.approx(0.1 * 0.1 / 0.4)
    assert found.rise == pytest.approx(0.2 + 0.1 * 0.1 / 0.3 - 0.025)
    assert found.overshoot == pytest.approx(0.1)
    assert found.peak_time == pytest.approx(0.3)
    # From 1.1 at 0.3 s to 1.01 at 0.4 s: into 1.02 after eight ninths of the way.
    assert found.settling == pytest.approx(0.3 + 0.1 * 8.0 / 9.0)
    assert found.final == pytest.approx(0.995)  # of the last two of 22
    below = step_figures(t, np.where(y > 1.05, 0.9, y))
    assert below.settling == pytest.approx(0.3 + 0.1 * 0.08 / 0.11)


def test_figures_of_a_response_of_few_samples() -> None:
    found = step_figures(np.array([0.0, 1.0, 2.0]), np.array([0.0, 0.95, 1.0]))
    assert found.final == 1.0
    assert found.settling == pytest.approx(1.0 + 0.03 / 0.05)


def test_arrays_of_any_kind_wait_for_no_compiler() -> None:
    """Columns of a record are locked, and may lie apart."""
    warm()
    t = np.linspace(0.0, 1.0, 200)
    y = np.minimum(1.2 * t, 1.0)  # it ends within 2 %: no figure is NaN
    plain = step_figures(t, y)
    apart = np.column_stack([y, y])[:, 0]
    locked = t.copy()
    locked.setflags(write=False)
    assert step_figures(locked, apart) == plain
    whole: Any = np.array([0, 0, 1, 1, 1])  # counts
    assert step_figures(np.arange(5.0), whole).rise == pytest.approx(0.8)
    _steps.filtered(np.ones((1, 2)), np.ones(2), apart)
    _steps.filtered(np.ones((1, 2)), np.ones(2), locked)
    kernels: list[Any] = [_figures._step_figures, _steps.recur]
    assert [len(kernel.signatures) for kernel in kernels] == [1, 1]
