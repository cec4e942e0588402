"""Saturation across the axes, iron loss, heat and a late bridge, against other ways to say them.

The independent machine has its flux linkages as states, solves them for the currents, and is
integrated by DOP853; the kernel has the currents as states.
"""

import math
from dataclasses import replace

import numpy as np
import pytest
from scipy.integrate import solve_ivp
from scipy.optimize import fsolve

from oarlock.practice.truth import draw
from oarlock.simulate import layout as k
from oarlock.simulate.drive_model import DriveModel
from oarlock.simulate.plant import integrate, tanh, tanh_ln_cosh, three_tanh
from oarlock.simulate.plant_parameters import PlantParameters

TS = 62.5e-6


@pytest.fixture
def plain() -> PlantParameters:
    return replace(draw("winch", 0), dead_voltage=0.0, theta=0.0, noise=0.0, bus_ripple=0.0,
                   offsets=(0.0, 0.0, 0.0), gains=(1.0, 1.0, 1.0), adc_bits=30)  # fmt: skip


def fluxes(p: PlantParameters, i: "np.ndarray[tuple[int], np.dtype[np.float64]]") -> list[float]:
    """Flux linkages as derivatives of one coenergy, worked out by differences."""

    def coenergy(d: float, q: float) -> float:
        more = p.Lq - p.Lq_saturated
        along = p.psi * d + p.Ld * (0.5 * d * d - p.Ld_bend * p.i_bend * bend_integral(d))
        s = p.i_saturation
        return (along + 0.5 * p.Lq_saturated * q * q + more * s * s * math.log(math.cosh(q / s))
                - p.across * d * q * q)  # fmt: skip

    def bend_integral(d: float) -> float:
        x = np.linspace(0.0, d, 201)
        return float(np.trapezoid(np.log(np.cosh(x / p.i_bend)), x))

    d, q = (float(v) for v in i)
    h = 1e-4
    return [(coenergy(d + h, q) - coenergy(d - h, q)) / (2.0 * h),
            (coenergy(d, q + h) - coenergy(d, q - h)) / (2.0 * h)]  # fmt: skip


def stepped(p: PlantParameters, vd: float, vq: float, omega: float, many: int) -> DriveModel:
    """The kernel's windings under a voltage that turns with the rotor, for many periods."""
    model = DriveModel(p)
    state = model._state
    state[k.OMEGA] = omega
    w, theta = omega * p.pole_pairs, 0.0
    for _ in range(many):
        at = theta + 0.5 * w * p.Ts  # the middle of the period, as the lead has it
        state[k.THETA] = theta / p.pole_pairs
        state[k.V_ALPHA] = vd * math.cos(at) - vq * math.sin(at)
        state[k.V_BETA] = vd * math.sin(at) + vq * math.cos(at)
        integrate(model._plant, state, True, math.cos(theta), math.sin(theta))
        theta += w * p.Ts
    return model


def test_saturation_across_the_axes_is_that_of_one_coenergy(plain: PlantParameters) -> None:
    p = replace(plain, across=0.03 * plain.Lq / 20.0)
    vd, vq, w = 6.0, 25.0, 15.0 * plain.pole_pairs

    def slope(_t: float, flux: "np.ndarray[tuple[int], np.dtype[np.float64]]") -> list[float]:
        guess = [(flux[0] - p.psi) / p.Ld, flux[1] / p.Lq]
        d, q = fsolve(lambda i: np.array(fluxes(p, i)) - flux, guess, xtol=1e-7)
        return [vd - p.R * d + w * flux[1], vq - p.R * q - w * flux[0]]

    end = 160 * p.Ts
    done = solve_ivp(slope, (0.0, end), fluxes(p, np.zeros(2)), method="DOP853", rtol=1e-7,
                     atol=1e-12)  # fmt: skip
    last = done.y[:, -1]
    d, q = fsolve(lambda i: np.array(fluxes(p, i)) - last, [1.0, 5.0], xtol=1e-7)
    state = stepped(p, vd, vq, 15.0, 160)._state
    assert (state[k.I_D], state[k.I_Q]) == pytest.approx((d, q), rel=2e-4)
    other = stepped(replace(p, across=0.0), vd, vq, 15.0, 160)._state
    assert abs(other[k.I_D] - d) > 0.01 * abs(d)  # it is no small matter


def test_iron_takes_power_in_at_the_windings_and_makes_no_torque(plain: PlantParameters) -> None:
    p = replace(plain, iron=4e-3, Ld_bend=0.0, Lq_saturated=plain.Lq)
    omega = 60.0
    w = omega * p.pole_pairs
    state = stepped(p, -20.0, 46.0, omega, 8000)._state
    d, q = float(state[k.I_D]), float(state[k.I_Q])
    seen = d + float(state[k.CORE_D]), q + float(state[k.CORE_Q])
    # A resistor beside the voltage that is induced, by complex phasors.
    induced = 1j * w * complex(p.psi + p.Ld * d, p.Lq * q)
    current = complex(d, q) + p.iron * induced
    held = np.sinc(0.5 * w * p.Ts / math.pi)  # of a voltage that stands still in each period
    assert complex(*seen) == pytest.approx(current, rel=1e-3)
    assert held * complex(-20.0, 46.0) == pytest.approx(p.R * current + induced, rel=1e-3)
    brought = 1.5 * (held * complex(-20.0, 46.0) * np.conj(current)).real
    copper, iron = 1.5 * p.R * abs(current) ** 2, 1.5 * p.iron * abs(induced) ** 2
    shaft = 1.5 * p.pole_pairs * (p.psi + (p.Ld - p.Lq) * d) * q * omega
    assert brought == pytest.approx(copper + iron + shaft, rel=2e-3)
    assert iron > 0.03 * brought


def test_a_winding_warms_by_its_loss_and_cools(plain: PlantParameters) -> None:
    p = replace(plain, heating=0.02, cooling=0.5, flux_heat=1e-3)
    model = stepped(p, 8.0, 0.0, 0.0, 16_000)  # one second
    current, heat = float(model._state[k.I_D]), model.heat
    assert current == pytest.approx(8.0 / (p.R * (1.0 + 0.00393 * heat)), rel=1e-3)
    warm = solve_ivp(
        lambda _t, T: 0.02 * 1.5 * 8.0**2 / (p.R * (1.0 + 0.00393 * T)) - 0.5 * T, (0.0, 1.0),
        [0.0], rtol=1e-9,
    ).y[0, -1]  # fmt: skip
    assert heat == pytest.approx(warm, rel=0.02)  # the current took a moment to rise
    for _ in range(16_000):
        integrate(model._plant, model._state, False, 1.0, 0.0)
    assert model.heat == pytest.approx(heat * math.exp(-0.5), rel=1e-3)


@pytest.mark.parametrize("late", [0.0, 0.25])
def test_a_late_bridge_gives_the_voltage_before_for_that_part(
    plain: PlantParameters, late: float
) -> None:
    p = replace(plain, output_late=late, brake=1e3, hand=False)
    model = DriveModel(p)
    model.firm[k.MAX_CURRENT : k.MAX_TIME + 1] = [60.0, 900.0, 1e6, 1e3]
    row = np.zeros((1, k.ROW_SIZE), dtype=np.float32)
    row[0, [k.SAMPLES, k.MODE, k.WAVE, k.TARGET, k.AMPLITUDE]] = (
        100, k.MODE_FIXED, k.WAVE_STEP, k.ON_VD, 10.0)  # fmt: skip
    model.load(row, (1,))
    model.start()
    volts = []
    for _ in range(4):
        model.advance(1)
        volts.append(float(model._state[k.V_ALPHA]))
    first = next(n for n, v in enumerate(volts) if v > 1e-6)
    assert volts[first] == pytest.approx(10.0 * (1.0 - late), rel=1e-3)
    assert volts[first + 1] == pytest.approx(10.0, rel=1e-3)


def test_tanh_and_ln_cosh_of_one_exponential_are_right_to_the_last_bits() -> None:
    x = np.concatenate([np.linspace(-25.0, 25.0, 4001), np.logspace(-9.0, 3.0, 200)])
    bent, ln_cosh = np.array([tanh_ln_cosh(float(one)) for one in x]).T
    exact = np.logaddexp(x, -x) - math.log(2.0)
    assert np.max(np.abs(bent - np.tanh(x))) < 1e-15
    assert np.max(np.abs(ln_cosh - exact) / np.maximum(exact, 0.5)) < 1e-15


def test_tanh_is_right_to_the_last_bits() -> None:
    x = np.concatenate([np.linspace(-25.0, 25.0, 4001), [0.0, 1e-9, -1e-9, 19.9, 20.1, -400.0]])
    found = np.array([tanh(float(one)) for one in x])
    assert np.max(np.abs(found - np.tanh(x))) < 3e-16


@pytest.mark.parametrize("span", [0.01, 1.0, 15.0, 60.0, 5000.0])
def test_three_of_them_at_once_are_right_too(span: float) -> None:
    """Also where two are far out to both sides, and the third is not."""
    rng = np.random.default_rng(3)
    x = rng.normal(size=2000) * span
    y = np.where(rng.random(2000) < 0.3, 0.4 * rng.normal(size=2000) - x,
                 rng.normal(size=2000) * span)  # fmt: skip
    found = np.array([three_tanh(*pair) for pair in zip(x.tolist(), y.tolist(), strict=True)])
    assert np.max(np.abs(found - np.tanh([x, y, -x - y]).T)) < 1e-15
