"""Loops of any order: closed forms, time stepping, and what a slower sampler sees."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from numpy.typing import NDArray
from scipy.linalg import expm
from scipy.signal import sosfreqz

from oarlock.control.discrete import (
    Discrete,
    delay,
    from_z,
    in_delta,
    in_z,
    roots,
    unity,
)

TS = 1e-4
Array = NDArray[np.float64]


def oscillator(hertz: float, zeta: float, Ts: float = TS) -> Discrete:
    """A light pole pair with gain 1 at low frequency, by its place in z."""
    s = math.tau * hertz * complex(-zeta, math.sqrt(1.0 - zeta * zeta))
    delta = np.expm1(s * Ts)
    den = (1.0, -2.0 * float(delta.real), float(abs(delta) ** 2))
    return Discrete((den[2],), den, Ts)


def random_loop(rng: np.random.Generator, order: int) -> Discrete:
    """A product of real and light complex poles, with zeros like those of shafts."""
    made = unity(TS)
    while made.order < order:
        if order - made.order >= 2 and rng.random() < 0.6:
            f, zeta = 10.0 ** rng.uniform(0.7, 3.5), 10.0 ** rng.uniform(-2.3, -0.3)
            made = made.series(oscillator(f, zeta))
            if rng.random() < 0.5:
                zero = oscillator(f * rng.uniform(0.5, 0.95), zeta)
                lift = made.den[-1] / zero.den[-1]
                num = tuple(lift * c for c in zero.den) if made.order >= 2 else (1.0,)
                made = Discrete(times(made.num, num), made.den, TS) if len(made.num) < 2 else made
        else:
            gone = -math.expm1(-math.tau * 10.0 ** rng.uniform(-2.0, 3.5) * TS)
            made = made.series(Discrete((gone,), (1.0, gone), TS))
    return made.scaled(10.0 ** rng.uniform(-1.0, 1.5))


def times(a: tuple[float, ...], b: tuple[float, ...]) -> tuple[float, ...]:
    return tuple(np.convolve(a, b).tolist())


@given(st.lists(st.floats(-3.0, 3.0), min_size=1, max_size=9))
def test_a_polynomial_goes_from_z_to_delta_and_back(coefficients: list[float]) -> None:
    back = in_z(in_delta(tuple(coefficients)))
    size = max(map(abs, coefficients)) or 1.0
    assert back == pytest.approx(coefficients, abs=1e-11 * size)
    z = 0.3 + 0.8j
    expected = np.polyval(coefficients, z)
    assert np.polyval(in_delta(tuple(coefficients)), z - 1.0) == pytest.approx(expected, abs=1e-9)


def test_series_parallel_and_feedback_are_what_their_responses_say() -> None:
    rng = np.random.default_rng(1)
    omega = np.geomspace(1.0, 0.99 * math.pi / TS, 60)
    for _ in range(30):
        a, b = random_loop(rng, int(rng.integers(1, 6))), random_loop(rng, int(rng.integers(1, 6)))
        ga, gb = a.response(omega)[0], b.response(omega)[0]
        assert a.series(b).response(omega)[0] == pytest.approx(ga * gb, rel=1e-9)
        assert a.parallel(b).response(omega)[0] == pytest.approx(ga + gb, rel=1e-7)
        assert a.feedback(b).response(omega)[0] == pytest.approx(ga / (1 + ga * gb), rel=1e-6)
        assert a.feedback().response(omega)[0] == pytest.approx(ga / (1 + ga), rel=1e-6)
        assert a.scaled(-2.5).at(100.0) == pytest.approx(-2.5 * a.at(100.0), rel=1e-9)


def test_a_delay_is_a_turn_of_phase() -> None:
    omega = np.array([10.0, 1e3, 1e4])
    gain, phase = delay(3, TS).response(omega)
    assert np.abs(gain) == pytest.approx(np.ones(3), rel=1e-12)
    assert phase == pytest.approx(-3.0 * omega * TS, rel=1e-9)


def test_a_sample_by_sample_run_gives_the_output() -> None:
    """y = x delayed twice, plus 0.5 y delayed once: written out."""
    loop = from_z((1.0,), (1.0, -0.5, 0.0), TS)
    x = np.random.default_rng(2).normal(size=40)
    y = np.zeros(40)
    for k in range(40):
        y[k] = (0.5 * y[k - 1] if k > 0 else 0.0) + (x[k - 2] if k > 1 else 0.0)
    assert loop.output(x) == pytest.approx(y, abs=1e-13)
    assert loop.pulse(4) == pytest.approx([0.0, 0.0, 1.0, 0.5])
    assert loop.step(300)[-1] == pytest.approx(2.0, rel=1e-12)


def test_slow_poles_keep_their_digits() -> None:
    """Three poles within 1e-4 of z = 1: in z, doubles keep none of what tells them apart."""
    rates = (0.5, 0.6, 0.7)  # rad/s at 10 kHz
    made = unity(TS)
    for rate in rates:
        gone = -math.expm1(-rate * TS)
        made = made.series(Discrete((gone,), (1.0, gone), TS))
    flat = Discrete(made.num, made.den, TS)  # as if nobody knew what it was put together of
    w = 0.5
    expected = np.prod([-math.expm1(-r * TS) / (np.expm1(1j * w * TS) - np.expm1(-r * TS))
                        for r in rates])  # fmt: skip
    assert flat.at(w) == pytest.approx(complex(expected), rel=1e-9)
    assert np.sort(-np.log1p(flat.poles.real) / TS) == pytest.approx(rates, rel=1e-3)
    assert flat.is_stable
    assert made.is_stable


def test_a_response_put_together_of_pieces_is_that_of_the_whole() -> None:
    pieces = [
        from_z((0.2, 0.1), (1.0, -1.6, 0.8), TS),
        delay(3, TS),
        from_z((-0.5,), (1.0, -1.0), TS),
    ]
    made = pieces[0].series(pieces[1]).series(pieces[2])
    omega, gain, phase = made.on_grid(20.0, 90)
    whole = np.prod([one.response(omega)[0] for one in pieces], axis=0)
    assert gain == pytest.approx(whole, rel=1e-12)
    unwrapped = np.unwrap(np.angle(whole))
    assert abs(phase[0]) <= math.pi
    assert phase == pytest.approx(unwrapped, abs=1e-9)


@pytest.mark.parametrize("order", [4, 14, 15, 18])
@pytest.mark.parametrize("angle", [1e-3, 0.4, 2.0, 2.9, math.pi])
def test_one_pole_outside_the_circle_is_seen_whatever_the_order(order: int, angle: float) -> None:
    quiet = [(1.0, -0.3 - 0.02 * n) for n in range(order - 2)]
    for size, stable in ((1.0 - 1e-4, True), (1.0 + 1e-4, False)):
        pair = (1.0, -2.0 * size * math.cos(angle), size * size)
        made = from_z((1.0,), pair, TS)
        for one in quiet:
            made = made.series(from_z((1.0,), one, TS))
        assert made.order == order
        assert made.is_stable is stable


def test_roots_at_zero_are_exact_and_quadratics_lose_nothing() -> None:
    assert roots((1.0, 2.0, 0.0, 0.0)) == (-2.0 + 0j, 0j, 0j)
    large, small = sorted(roots((1.0, 1e8, 1.0)), key=abs, reverse=True)
    assert small.real == pytest.approx(-1e-8, rel=1e-12)
    assert large.real == pytest.approx(-1e8, rel=1e-12)
    assert roots((3.0,)) == ()


@pytest.mark.parametrize("n", [2, 3, 7, 10, 16])
def test_what_a_slower_sampler_sees_is_every_nth_sample(n: int) -> None:
    """Against time stepping of the fast loop with its input held."""
    rng = np.random.default_rng(n)
    for _ in range(25):
        fast = random_loop(rng, int(rng.integers(1, 9)))
        slow = fast.resampled(n)
        assert slow.Ts == pytest.approx(n * TS)
        given_slow = rng.normal(size=60)
        expected = fast.output(np.repeat(given_slow, n))[::n]
        size = float(np.abs(expected).max())
        assert slow.output(given_slow) == pytest.approx(expected, abs=1e-6 * size)


def test_two_masses_on_a_soft_shaft_sampled_slowly() -> None:
    """Exact by the matrix exponential: torque held over ten samples, the motor's angle read."""
    J1, J2, K, D = 2.05e-3, 4.65e-3, 1.6e3, 0.04
    A = np.array([[0, 1, 0, 0], [-K / J1, -D / J1, K / J1, D / J1],
                  [0, 0, 0, 1], [K / J2, D / J2, -K / J2, -D / J2]])  # fmt: skip
    Ts, n = 62.5e-6, 10

    def held(T: float) -> tuple[Array, Array]:
        big = np.zeros((5, 5))
        big[:4, :4], big[1, 4] = A * T, T / J1
        grown = expm(big)
        return grown[:4, :4], grown[:4, 4]

    phi, gamma = held(Ts)
    C = np.array([1.0, 0.0, 0.0, 0.0])
    den = np.real(np.poly(np.linalg.eigvals(phi - np.eye(4))))
    num = np.real(np.poly(np.linalg.eigvals(phi - np.eye(4) - np.outer(gamma, C)))) - den
    slow = Discrete(tuple(num.tolist()), tuple(den.tolist()), Ts).resampled(n)
    phi_n, gamma_n = held(n * Ts)
    for hertz in (5.0, 60.0, 117.0, 205.0, 211.0, 400.0):
        z = np.exp(1j * math.tau * hertz * n * Ts)
        expected = C @ np.linalg.solve(z * np.eye(4) - phi_n, gamma_n)
        assert slow.at(math.tau * hertz) == pytest.approx(complex(expected), rel=2e-5)


def test_second_order_sections_say_the_same() -> None:
    omega = np.geomspace(20.0, 0.95 * math.pi / TS, 50)
    lead = Discrete((2.0, 0.1), (1.0, 0.4), TS)
    loop = oscillator(90.0, 0.1).series(lead).series(delay(2, TS)).scaled(3.0)
    sections = loop.sections()
    assert sections.shape == (4, 6)
    _, gain = sosfreqz(sections, omega * TS)
    assert gain == pytest.approx(loop.response(omega)[0], rel=1e-8)
    with pytest.raises(ValueError, match="a section of 4 poles"):
        loop.series(lead.feedback(delay(3, TS))).sections()


def test_what_makes_no_loop_is_refused() -> None:
    with pytest.raises(ValueError, match="no more zeros than poles"):
        Discrete((1.0, 0.0, 0.0), (1.0, 0.5), TS)
    with pytest.raises(ValueError, match="denominator"):
        Discrete((1.0,), (0.0, 1.0), TS)
    with pytest.raises(ValueError, match="sampled each"):
        unity(TS).series(unity(2 * TS))
    with pytest.raises(ValueError, match="resampled by 0"):
        unity(TS).resampled(0)
    assert unity(TS).resampled(1) == unity(TS)
