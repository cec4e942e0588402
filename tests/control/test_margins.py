"""Margins of loops of any order, against closed forms and against brute force."""

import math

import numpy as np
import pytest

from oarlock.control.discrete import Discrete, unity
from oarlock.control.margins import margins
from tests.control.test_discrete import TS, oscillator, random_loop


def brute(loop: Discrete, points: int = 40_000) -> tuple[np.ndarray, np.ndarray]:
    """The open loop on a grid so dense that nothing fits between two points."""
    omega = np.geomspace(math.pi / TS * 1e-5, math.pi / TS * (1.0 - 1e-9), points)
    z = np.exp(1j * omega * TS)
    gain = np.ones_like(z)
    for num, den in loop.pieces:  # each piece by itself, in z: nothing is multiplied out
        gain *= np.polyval(num, z - 1.0) / np.polyval(den, z - 1.0)
    return omega, gain


def changes(values: np.ndarray) -> np.ndarray:
    return np.flatnonzero((values[1:] < 0.0) != (values[:-1] < 0.0))


def test_every_crossing_and_peak_of_300_loops_up_to_order_12() -> None:
    rng = np.random.default_rng(12)
    unstable = 0
    for _ in range(300):
        loop = random_loop(rng, int(rng.integers(1, 13)))
        found = margins(loop)
        omega, gain = brute(loop)
        expected = omega[changes(np.abs(gain) - 1.0)]
        assert [c.omega for c in found.crossings] == pytest.approx(expected, rel=1e-3)
        at = changes(-gain.imag)
        at = at[gain[at].real < 0.0]
        assert [t.omega for t in found.turns] == pytest.approx(omega[at], rel=1e-3)
        Ms = 1.0 / np.abs(1.0 + gain)
        assert found.Ms >= Ms.max() * (1.0 - 1e-9)
        if found.Ms < 6.0:  # a sharper one is stepped over by the brute force itself
            assert found.Ms == pytest.approx(Ms.max(), rel=0.01)
        assert 1.0 / abs(1.0 + loop.at(found.Ms_at)) == pytest.approx(found.Ms, rel=1e-9)
        falls = changes(np.abs(gain / (1.0 + gain)) - math.sqrt(0.5))
        if falls.size:
            assert found.bandwidth == pytest.approx(omega[falls[0]], rel=1e-3)
        poles = loop.feedback().poles + 1.0
        if np.abs(np.abs(poles) - 1.0).min() > 1e-6:
            assert found.stable == bool(np.all(np.abs(poles) < 1.0))
        unstable += not found.stable
    assert 30 < unstable < 270


def test_stability_is_told_by_the_curve_too() -> None:
    """Stable poles in the open loop: stable when the curve does not turn round -1 (Nyquist)."""
    rng = np.random.default_rng(7)
    told = []
    for _ in range(100):
        loop = random_loop(rng, int(rng.integers(2, 9)))
        _, gain = brute(loop, 60_000)
        turned = np.unwrap(np.angle(1.0 + gain))
        round_it = abs(turned[-1] - turned[0]) / math.pi  # half turns, over half the circle
        found = margins(loop)
        if found.Ms < 50.0:
            assert found.stable == (round_it < 0.5)
            told.append(found.stable)
    assert 10 < sum(told) < len(told)


@pytest.mark.parametrize("hertz", [3.0, 47.0, 212.0, 1900.0])
def test_a_peak_of_quality_100_is_not_stepped_over(hertz: float) -> None:
    """It rises above 1 over a band of a few per cent: both its crossings are found."""
    loop = oscillator(hertz, 0.005).scaled(0.05)  # 0.05 at rest, 5 at the peak
    found = margins(loop)
    assert len(found.crossings) == 2
    low, high = (c.omega / math.tau for c in found.crossings)
    assert low < hertz < high < 1.1 * hertz
    top = 0.05 / (2.0 * 0.005)
    w = math.tau * hertz
    assert abs(loop.at(w)) == pytest.approx(top, rel=0.15)


def test_gain_may_rise_and_fall_where_a_loop_is_only_stable_between() -> None:
    """Three slow poles and two zeros: stable between two gains, unstable below and above."""
    made = unity(TS)
    for _ in range(3):
        made = made.series(Discrete((TS,), (1.0, 0.0), TS))  # three integrators
    lead = Discrete((1.0, 40.0 * TS), (1.0, 3000.0 * TS), TS)
    loop = made.series(lead).series(lead).scaled(4e8)
    found = margins(loop)
    assert found.stable
    assert found.gain_margin > 1.05
    assert 0.0 < found.gain_reduction < 0.95
    for factor, stable in ((0.99 * found.gain_margin, True), (1.01 * found.gain_margin, False),
                           (1.01 * found.gain_reduction, True),
                           (0.99 * found.gain_reduction, False)):  # fmt: skip
        assert margins(loop.scaled(factor)).stable == stable


def test_a_margin_on_the_far_side_counts_as_a_margin() -> None:
    """A light resonance that leads at its second crossing is as far from -180° as it is."""
    loop = oscillator(200.0, 0.02).scaled(0.5)
    lifted = loop.series(Discrete((1.0, 0.3), (1.0, 0.9), TS).scaled(3.0))
    found = margins(lifted)
    assert found.stable
    assert found.phase_margin >= 0.0
    assert found.phase_margin == pytest.approx(min(abs(c.phase_margin) for c in found.crossings))


def test_without_a_crossing_nothing_is_made_up() -> None:
    found = margins(Discrete((0.1 * TS,), (1.0, TS), TS))
    assert found.crossings == ()
    assert math.isnan(found.crossover)
    assert found.phase_margin == math.inf
    assert found.gain_margin > 10.0
    assert found.gain_reduction == 0.0
    assert found.stable
