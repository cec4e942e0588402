"""The exact discrete loop against closed forms, a time simulation, and its own limits."""

import math
from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.signal import dlsim, lfilter

from oarlock.control import _kernels, _steps
from oarlock.control.compiled import warm
from oarlock.control.current import PI, CurrentLoop, Plant, pi_for
from oarlock.control.discrete import Discrete, all_inside, in_z, on_circle
from oarlock.control.margins import margins
from oarlock.machine.current_loop import IntegralRule

TS = 62.5e-6
PLANT = Plant(R=0.862, L=15.62e-3, Ts=TS)


def loop_at(hertz: float, rule: IntegralRule = IntegralRule.BACKWARD) -> CurrentLoop:
    return CurrentLoop(PLANT, pi_for(PLANT, math.tau * hertz, rule))


def test_margins_of_the_cancelled_loop_have_a_closed_form() -> None:
    """L = k/(z (z - 1)): phase -90° - 1.5 w Ts, gain k/(2 sin(w Ts/2))."""
    found = margins(loop_at(849.0).opened)
    w = math.tau * 849.0
    assert found.crossover == pytest.approx(w, rel=1e-9)
    assert found.phase_margin == pytest.approx(math.pi / 2 - 1.5 * w * TS, abs=1e-9)
    assert found.phase_crossover == pytest.approx(math.pi / (3 * TS), rel=1e-9)
    k = 2 * math.sin(0.5 * w * TS)
    assert found.gain_margin == pytest.approx(1.0 / k, rel=1e-6)  # 2 sin(30°) = 1
    assert found.stable


@pytest.mark.parametrize("rule", list(IntegralRule))
@pytest.mark.parametrize("hertz", [50.0, 300.0, 849.0, 1700.0])
def test_every_integral_rule_crosses_where_it_should(rule: IntegralRule, hertz: float) -> None:
    loop = loop_at(hertz, rule)
    assert abs(loop.opened.at(math.tau * hertz)) == pytest.approx(1.0, rel=1e-9)
    assert 1.0 + loop.controller.zeros == pytest.approx([PLANT.pole])


def sample_by_sample(pi: PI, plant: Plant, samples: int) -> tuple[list[float], list[float]]:
    """Return current and voltage of a step of 1 A, written down as a firmware runs."""
    i, applied, total, currents, voltages = 0.0, 0.0, 0.0, [], []
    for _ in range(samples):
        e = 1.0 - i
        total += pi.Ki * TS * e
        u = pi.Kp * (pi.weight - i) + total
        currents.append(i)
        voltages.append(u)
        i = plant.pole * i + plant.gain * applied  # what was computed a sample ago is applied
        applied = u
    return currents, voltages


@pytest.mark.parametrize("weight", [1.0, 0.4])
def test_the_step_response_is_what_a_sample_by_sample_run_gives(weight: float) -> None:
    pi = replace(loop_at(849.0).pi, weight=weight)
    current, voltage = CurrentLoop(PLANT, pi).step(80)
    expected_i, expected_u = sample_by_sample(pi, PLANT, 80)
    assert current == pytest.approx(np.array(expected_i), abs=1e-12)
    assert voltage == pytest.approx(np.array(expected_u), rel=1e-9)


def test_one_controller_round_several_windings() -> None:
    pi = replace(loop_at(849.0).pi, weight=0.4)
    others = [Plant(R=1.1, L=12e-3, Ts=TS), Plant(R=0.5, L=20e-3, Ts=TS)]
    currents, voltage = CurrentLoop(PLANT, pi).steps(80, *others)
    for seen, plant in zip(currents, (PLANT, *others), strict=True):
        assert seen == pytest.approx(np.array(sample_by_sample(pi, plant, 80)[0]), abs=1e-12)
    assert voltage == pytest.approx(np.array(sample_by_sample(pi, PLANT, 80)[1]), rel=1e-9)


@pytest.mark.parametrize("weight", [1.0, 0.4])
def test_the_closed_gain_follows_from_the_open_one(weight: float) -> None:
    loop = CurrentLoop(PLANT, replace(loop_at(849.0).pi, weight=weight))
    _, opened, _ = loop.opened.on_grid(600.0, 60)
    _, closed, _ = loop.closed.on_grid(600.0, 60)
    assert loop.closed_on(opened, 600.0, 60) == pytest.approx(closed, rel=1e-9)


def test_the_ends_of_the_range_count_in_the_largest_sensitivity() -> None:
    """Of z⁻¹ at gain 0.5, |1 + L| is least at Nyquist, where it is 1/2."""
    found = margins(Discrete((0.5,), (1.0, 1.0), TS))
    assert found.Ms == pytest.approx(2.0, rel=1e-6)
    assert found.Ms_at == pytest.approx(math.pi / TS, rel=1e-6)
    # Of −0.5·z⁻¹ it is least at standstill.
    found = margins(Discrete((-0.5,), (1.0, 1.0), TS))
    assert found.Ms == pytest.approx(2.0, rel=1e-6)
    assert found.Ms_at == pytest.approx(1e-5 * math.pi / TS, rel=1e-6)


def test_the_step_response_agrees_with_scipy() -> None:
    loop = loop_at(600.0)
    _, y = dlsim((in_z(loop.closed.num), in_z(loop.closed.den), TS), np.ones(60))
    assert loop.step(60)[0] == pytest.approx(y[:, 0], abs=1e-10)


def plain(name: str) -> Any:
    """Return a recursion as it runs until it is compiled."""
    warm()
    home = _steps if name in vars(_steps) else _kernels
    return getattr(home, name).py_func


def test_compiled_and_plain_recursion_agree_bit_for_bit() -> None:
    rng = np.random.default_rng(1)
    b, a, x = rng.normal(size=(2, 4)), np.array([1.0, 1.5, 0.9, 0.15]), rng.normal(size=300)
    slow = np.empty((2, 300))
    plain("recur")(b, a, x, np.zeros(3), slow)
    assert np.array_equal(_steps.filtered(b, a, x), slow)
    assert np.array_equal(_steps.filtered(b[1:], a, x), slow[1:])


def test_compiled_and_plain_responses_agree() -> None:
    loop = loop_at(600.0).opened
    num, den = loop.arrays
    omega = np.geomspace(10.0, 0.999 * math.pi / TS, 80)
    z = np.exp(1j * omega * TS)
    slow, phase = np.empty_like(z), np.empty(80)
    plain("_respond")(num, den, on_circle(omega * TS), slow, phase)
    compiled, turned = loop.response(omega)
    assert compiled == pytest.approx(slow, rel=1e-13)
    assert turned == pytest.approx(phase, abs=1e-12)
    expected = np.polyval(in_z(loop.num), z) / np.polyval(in_z(loop.den), z)
    assert compiled == pytest.approx(expected, rel=1e-9)
    unwrapped = np.unwrap(np.angle(expected))
    assert turned - turned[0] == pytest.approx(unwrapped - unwrapped[0], abs=1e-9)
    for kind in range(3):
        ends = (math.tau * 100.0, math.tau * 6000.0)
        slow_at = plain("_refine")(num, den, TS, kind, *ends)
        assert _kernels._refine(num, den, TS, kind, *ends) == pytest.approx(slow_at, rel=1e-10)


def test_roots_inside_the_circle_are_told_without_finding_them() -> None:
    rng = np.random.default_rng(3)
    told = []
    for _ in range(500):
        order = int(rng.integers(1, 7))
        roots = rng.uniform(0.2, 1.15, order) * np.exp(1j * rng.uniform(0, math.pi, order))
        roots = np.concatenate([roots, roots.conj()])
        polynomial = np.real(np.poly(roots - 1.0)) * float(rng.choice([-2.0, 0.5]))
        inside = bool(np.all(np.abs(roots) < 1.0))
        assert all_inside(tuple(polynomial.tolist())) == inside
        told.append(inside)
    assert 20 < sum(told) < 480


def test_too_much_gain_is_unstable_and_said_so() -> None:
    found = margins(CurrentLoop(PLANT, PI(Kp=300.0, Ki=1e4)).opened)
    assert not found.stable
    assert found.phase_margin < 0.0


def test_bandwidth_is_where_the_closed_loop_falls_by_3_db() -> None:
    loop = loop_at(849.0)
    found = margins(loop.opened)
    value = loop.opened.at(found.bandwidth)
    assert abs(value / (1 + value)) == pytest.approx(math.sqrt(0.5), rel=1e-9)
    assert found.bandwidth / math.tau == pytest.approx(1970.0, abs=1.0)


def test_noise_gain_is_that_of_a_long_noisy_run() -> None:
    loop = loop_at(849.0)
    rng = np.random.default_rng(3)
    noise = rng.normal(size=200_000)
    controller = loop.controller
    num_c, den_c = in_z(controller.num), in_z(controller.den)
    den = np.polyadd(np.convolve(den_c, [1.0, -PLANT.pole, 0.0]), PLANT.gain * np.array(num_c))
    num = np.convolve(num_c, [1.0, -PLANT.pole, 0.0])
    u = lfilter(np.pad(num, (den.size - num.size, 0)), den, noise)
    assert loop.noise_gain()[1] == pytest.approx(float(np.std(u)), rel=0.02)


@given(
    st.floats(min_value=0.01, max_value=5.0),
    st.floats(min_value=2e-5, max_value=0.05),
    st.floats(min_value=5e3, max_value=1e5),
    st.floats(min_value=0.005, max_value=0.3),
)
def test_any_machine_gets_the_margin_it_was_designed_for(
    R: float, L: float, f: float, ratio: float
) -> None:
    plant = Plant(R=R, L=L, Ts=1.0 / f)
    crossover = ratio * f
    loop = CurrentLoop(plant, pi_for(plant, crossover))
    left = math.pi / 2 - 1.5 * crossover / f
    found = margins(loop.opened)
    assert found.crossover == pytest.approx(crossover, rel=1e-6)
    assert found.phase_margin == pytest.approx(left, abs=1e-5)
    assert found.stable == (left > -math.pi / 2 + 1.5 * math.pi / 3 and found.gain_margin > 1.0)
