"""The float32 controller: limits, hold of the integral, and rounding step by step."""

import numpy as np

from oarlock.control.single import Single, run_current


def run_pi(Kp: float, Ki: float, Ts: float, limit: float, error: Single) -> tuple[Single, Single]:
    return run_current(Kp, Ki, Ts, limit, error, np.zeros_like(error))


def test_small_errors_follow_the_textbook() -> None:
    error = np.full(5, 0.1, dtype=np.float32)
    output, state = run_pi(10.0, 1000.0, 1e-3, 1e6, error)
    assert np.allclose(state, 0.1 * np.arange(1, 6), rtol=1e-6)
    assert np.allclose(output, 1.0 + state, rtol=1e-6)


def test_at_the_limit_the_integral_only_moves_back() -> None:
    error = np.array([5.0] * 20 + [-1.0] * 3, dtype=np.float32)
    output, state = run_pi(10.0, 1000.0, 1e-3, 20.0, error)
    assert output[:20].max() == 20.0
    assert state[:20].max() == 0.0  # never wound up
    assert output[20] == np.float32(-11.0)


def test_both_signs_limit_alike() -> None:
    error = np.random.default_rng(2).normal(0.0, 3.0, 500).astype(np.float32)
    plus, s_plus = run_pi(10.0, 300.0, 1e-3, 15.0, error)
    minus, s_minus = run_pi(10.0, 300.0, 1e-3, 15.0, -error)
    assert np.array_equal(plus, -minus)
    assert np.array_equal(s_plus, -s_minus)
    assert np.max(np.abs(plus)) == 15.0


def test_every_operation_rounds_to_float32() -> None:
    error = np.random.default_rng(4).normal(0.0, 1.0, 2000).astype(np.float32)
    output, _ = run_pi(82.27, 4575.3, 62.5e-6, 1e9, error)
    exact, total = [], 0.0
    for e in error.astype(float):
        total += 4575.3 * 62.5e-6 * e
        exact.append(82.27 * e + total)
    difference = np.abs(output - np.array(exact))
    assert 0.0 < difference.max() < 1e-3
