"""Poles of the current loop laid where they are asked for; weights and rules, against the drive."""

import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from oarlock.control.current import (
    PI,
    CurrentLoop,
    Plant,
    design_current,
    dominant,
    loops_with,
    pi_placed,
)
from oarlock.control.margins import margins
from oarlock.control.shaft import Shaft
from oarlock.control.speed_plant import Measuring, SpeedPlant
from oarlock.errors import InputError
from oarlock.machine import CurrentTarget, TargetKind
from oarlock.machine.axis_file import format_axis, parse_axis
from oarlock.machine.current_loop import IntegralRule
from oarlock.practice.truth import draw
from oarlock.simulate import layout as k
from tests.simulate.test_kernels import drive, row
from tests.speed_axis import known_winch


@given(
    st.floats(-1.0, 1.0), st.floats(-2.0, 1.5), st.floats(0.02, 0.10), st.floats(0.4, 1.6),
    st.sampled_from(list(IntegralRule)),
)  # fmt: skip
def test_the_closed_loop_has_the_poles_that_were_asked_for(
    resistance: float, inductance: float, fast: float, damping: float, rule: IntegralRule
) -> None:
    plant = Plant(R=10.0**resistance, L=1e-3 * 10.0**inductance, Ts=62.5e-6)
    omega = math.tau * fast / (2.0 * math.pi * plant.Ts)
    try:
        loop = CurrentLoop(plant, pi_placed(plant, omega, damping, rule))
    except InputError:
        return
    den = np.convolve([1.0, -1.0], [1.0, -plant.pole, 0.0])
    c0 = loop.pi.Kp + loop.pi.newest * loop.pi.Ki * plant.Ts
    c1 = c0 - loop.pi.Ki * plant.Ts
    den[-2:] += plant.gain * np.array([c0, -c1])
    pair = np.exp(plant.Ts * omega * (-damping + np.array([1, -1]) * np.emath.sqrt(damping**2 - 1)))
    for wanted in pair:  # the characteristic polynomial, written down apart from the loop's own
        assert abs(np.polyval(den, wanted)) < 1e-9
    assert loop.closed.is_stable


def test_natural_frequency_and_damping_are_told_of_any_loop() -> None:
    plant = Plant(R=0.8, L=15e-3, Ts=62.5e-6)
    for hertz, damping in ((300.0, 0.7), (500.0, 0.9), (200.0, 1.3)):
        loop = CurrentLoop(plant, pi_placed(plant, math.tau * hertz, damping))
        omega, zeta = dominant(loop)
        assert omega == pytest.approx(math.tau * hertz, rel=1e-6)
        assert zeta == pytest.approx(damping, rel=1e-6)


def test_a_cancelled_pole_is_none_of_those_told() -> None:
    axis = known_winch()
    loop = design_current(axis).q
    omega, zeta = dominant(loop)
    crossover = margins(loop.opened).crossover
    assert 0.8 * crossover < omega < 3.0 * crossover  # not the winding's 8 Hz
    assert 0.4 < zeta < 1.1


def test_a_target_of_two_numbers_is_designed_refused_and_kept_in_the_file() -> None:
    axis = known_winch()
    target = CurrentTarget(kind=TargetKind.NATURAL_FREQUENCY, value=math.tau * 400.0, damping=0.8)
    design = design_current(axis, target)
    for name in ("d", "q"):
        omega, zeta = dominant(design.loop(name))
        assert (omega, zeta) == pytest.approx((math.tau * 400.0, 0.8), rel=1e-6)
        assert margins(design.loop(name).opened) == design.margins_of(name)
    again = parse_axis(format_axis(axis.with_target(target)), place="x.toml")
    assert again.target.kind is TargetKind.NATURAL_FREQUENCY
    assert again.target.damping == pytest.approx(0.8)
    with pytest.raises(InputError, match=r"margin|slower|positive"):
        design_current(axis, replace(target, value=math.tau * 3000.0))
    text = format_axis(axis.with_target(target)).replace("natural_frequency", "crossover")
    with pytest.raises(InputError, match="damping"):
        parse_axis(text, place="x.toml")


@pytest.mark.parametrize("rule", list(IntegralRule))
@pytest.mark.parametrize("weight", [1.0, 0.4])
def test_the_drive_answers_a_step_as_the_exact_loop(rule: IntegralRule, weight: float) -> None:
    plant = replace(draw("winch", 0), stiffness=0.0, inertia=1e6, noise=0.0, offsets=(0.0,) * 3,
                    gains=(1.0,) * 3, dead_voltage=0.0, bus_ripple=0.0, adc_bits=30, theta=0.0,
                    sensor="encoder", encoder_counts=2**30, sensor_zero=0.0, runout=0.0,
                    Ld_bend=0.0)  # fmt: skip
    plant = replace(plant, Lq_saturated=plant.Lq)
    pi = PI(Kp=60.0, Ki=20000.0, rule=rule, weight=weight)
    loop = CurrentLoop(Plant(R=plant.R, L=plant.Lq, Ts=plant.Ts), pi)
    number = list(IntegralRule).index(rule)
    model = drive(plant, [row(80, REF_Q=1.0, MODE=k.MODE_FIXED)], KP_D=60.0, KI_D=20000.0,
                  KP_Q=pi.Kp, KI_Q=pi.Ki, C_WEIGHT=weight, C_RULE=float(number))  # fmt: skip
    model.advance(80)
    current, volts = loop.step(80)
    iq, vq = model.trace[:80, 4], model.trace[:80, 6]
    assert np.max(np.abs(iq - current)) < 1e-3
    assert np.max(np.abs(vq - volts)) < 0.1


def test_a_weight_slows_the_reference_alone() -> None:
    axis = known_winch()
    assert axis.gains is not None
    _, whole = loops_with(axis, axis.gains)
    _, part = loops_with(axis, replace(axis.gains, weight=0.3))
    assert part.opened == whole.opened
    assert part.noise_gain() == pytest.approx(whole.noise_gain())
    assert part.step(60)[1][0] < 0.4 * whole.step(60)[1][0]
    assert part.step(4000)[0][-1] == pytest.approx(1.0, abs=1e-3)


@pytest.mark.parametrize("rule", list(IntegralRule))
def test_the_speed_plant_holds_the_same_current_loop(rule: IntegralRule) -> None:
    """Of a shaft that hardly turns the speed is the current's integral: both must agree."""
    plant = Plant(R=0.8, L=15e-3, Ts=62.5e-6)
    loop = CurrentLoop(plant, PI(Kp=70.0, Ki=15000.0, rule=rule, weight=0.5))
    speed = SpeedPlant(shaft=Shaft(motor=1e3), current=loop, torque_constant=1.0, back_emf=0.0,
                       measuring=Measuring(divider=1))  # fmt: skip
    step, given_, _, _ = speed.fine
    x, seen = np.zeros(step.shape[0]), []
    for _ in range(60):
        seen.append(x[2])
        x = step @ x + given_[:, 0]
    assert np.allclose(seen, loop.step(60)[0], atol=1e-9)
