"""Figures read off noisy repeats, against responses whose true figures are closed forms."""

import math
from collections.abc import Callable
from functools import partial

import numpy as np
import pytest
from numpy.typing import NDArray

from oarlock.experiments.loops.under_noise import (
    beside,
    noise_of,
    peak,
    seen_beside,
    smoothed,
    widest,
)

Array = NDArray[np.float64]
T = np.arange(200, dtype=np.float64)  # samples
BEFORE = 40


def second_order(t: Array, damping: float) -> Array:
    """Return a step response whose overshoot is exp(-pi zeta / sqrt(1 - zeta²))."""
    omega, root = 0.12, math.sqrt(1.0 - damping**2)
    y = 1.0 - np.exp(-damping * omega * t) * (
        np.cos(omega * root * t) + damping / root * np.sin(omega * root * t)
    )
    return np.where(t < 0.0, 0.0, y)


def overshoot(damping: float) -> float:
    return math.exp(-math.pi * damping / math.sqrt(1.0 - damping**2))


def white(rng: np.random.Generator, y: Array) -> Array:
    return y + rng.normal(0.0, 0.12, y.size)


def counted(rng: np.random.Generator, y: Array) -> Array:
    """Return the speed as counts show it that a sample has few of, from an angle of its own."""
    fine, base = 1.6, 3.3  # counts in a sample for each unit; what it turned before
    angle = np.cumsum(y + base) * fine + float(rng.uniform(0.0, 1.0))
    return np.diff(np.floor(angle), prepend=np.floor(angle[0] - base * fine)) / fine - base


@pytest.mark.parametrize("seen", [white, counted])
def test_the_overshoot_of_a_noisy_mean_is_not_too_high(
    seen: Callable[[np.random.Generator, Array], Array],
) -> None:
    rng, t = np.random.default_rng(7), np.arange(-BEFORE, T.size, dtype=np.float64)
    plan, true = second_order(T, 0.5), second_order(t, 0.45)
    wide = widest(peak, plan, 0.02, 40)
    off, std, picked = [], [], []
    for _ in range(60):
        repeats = np.stack([seen(rng, true) for _ in range(16)])
        mean = repeats.mean(axis=0)[BEFORE:]
        found = beside(peak, mean, plan, noise_of(repeats, slice(BEFORE))[:, BEFORE:], wide)
        off.append(found.off)
        std.append(found.std)
        picked.append(float(np.max(mean)) - 1.0 - overshoot(0.45))
    truth = overshoot(0.45) - overshoot(0.5)
    assert np.mean(off) == pytest.approx(truth, abs=0.007)
    assert np.mean(picked) > 0.02  # what picking the highest sample gives
    assert np.std(off) < 2.0 * np.mean(std) < 4.0 * np.std(off)


def test_noise_alone_changes_no_figure_of_a_quiet_response() -> None:
    plan = second_order(T, 0.5)
    found = beside(peak, second_order(T, 0.4), plan, np.zeros((4, T.size)), 1)
    assert found.off == pytest.approx(overshoot(0.4) - overshoot(0.5), abs=1e-3)
    assert found.std == 0.0


def test_smoothing_goes_as_far_as_the_figure_allows() -> None:
    plan = second_order(T, 0.5)
    wide = widest(peak, plan, 0.02, 100)
    lowered = [peak(plan) - peak(smoothed(plan, n)) for n in (wide, wide + 1)]
    assert lowered[0] <= 0.02 < lowered[1]
    assert widest(peak, plan, 0.02, 5) == 5
    assert widest(peak, plan, 0.0, 0) == 1


def test_the_noise_of_one_repeat_is_what_stood_before_the_step() -> None:
    rng = np.random.default_rng(3)
    once = rng.normal(5.0, 0.3, (1, BEFORE + 90))
    noise = noise_of(once, slice(BEFORE))
    assert noise.shape == (8, BEFORE + 90)
    assert np.std(noise) == pytest.approx(np.std(once[0, :BEFORE]), rel=0.05)
    assert abs(np.mean(noise)) < 0.05
    many = np.stack([rng.normal(5.0, 0.3, 500) for _ in range(25)])
    assert np.std(noise_of(many, slice(10))) == pytest.approx(0.3 / 5.0, rel=0.05)


def test_what_is_sharper_than_the_plan_is_looked_at_closely() -> None:
    rng, plan = np.random.default_rng(5), second_order(T, 0.5)
    sharp = second_order(3.0 * T, 0.25)  # three times as fast: smoothing would take half of it
    noise = rng.normal(0.0, 0.01, (8, T.size))
    look = partial(seen_beside, peak, change=0.02, apart=0.02, near=1, most=40)
    found = look(sharp + noise[0], plan, noise)
    assert found.off == pytest.approx(overshoot(0.25) - overshoot(0.5), abs=0.02)
    smoothed_away = beside(peak, sharp + noise[0], plan, noise, widest(peak, plan, 0.02, 40))
    assert smoothed_away.off < 0.6 * found.off
    alike = look(plan + noise[0], plan, noise)
    assert abs(alike.off) < 0.01
    assert alike.std < 0.5 * 0.01  # over the whole width


def test_what_noise_adds_to_a_peak_is_taken_off_without_smoothing_too() -> None:
    rng, plan, true = np.random.default_rng(9), second_order(T, 0.5), second_order(T, 0.45)
    found = []
    for _ in range(40):
        noise = rng.normal(0.0, 0.03, (17, T.size))
        found.append(beside(peak, true + noise[0], plan, noise[1:], 1))
    truth = overshoot(0.45) - overshoot(0.5)
    assert np.mean([one.off for one in found]) == pytest.approx(truth, abs=0.008)
    assert np.mean([one.lift for one in found]) > 0.03
