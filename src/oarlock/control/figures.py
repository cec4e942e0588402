"""Figures of a step response: rise, overshoot, settling, fitted second order."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.control._figures import figures_of

Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True)
class StepFigures:
    """What people read off a step; times in s from the step, ratios of the step."""

    rise: float  # 10 % to 90 %
    rise_from: float  # when 10 % was reached
    overshoot: float  # ratio
    peak_time: float
    settling: float  # into ±2 % for good; NaN where it never does
    final: float  # mean of the last tenth, ratio


def step_figures(t: Array, y: Array) -> StepFigures:
    """Return the figures of a response `y` normalised to a step from 0 to 1 at t = 0.

    Parameters
    ----------
    t : s, rising; samples before 0 are ignored
    y : the response, 0 before the step and 1 where it is meant to end

    """
    if t[0] < 0.0:
        after = t >= 0.0
        t, y = t[after], y[after]
    first, high, peak, peak_time, settling, final = figures_of(t, y)
    return StepFigures(
        rise=high - first,
        rise_from=first,
        overshoot=max(peak - 1.0, 0.0),
        peak_time=peak_time,
        settling=settling,
        final=final,
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class SecondOrder:
    """A delayed second-order response fitted to a step."""

    natural_frequency: float  # rad/s
    damping: float
    delay: float  # s
    misfit: float  # rms, ratio of the step


def fit_second_order(t: Array, y: Array) -> SecondOrder:
    """Fit natural frequency, damping and a dead time to a normalised step response.

    Parameters
    ----------
    t : s, from the step on
    y : 0 to 1

    """
    from scipy.optimize import least_squares

    after = t >= 0.0
    t, y = t[after], y[after]
    rise = max(step_figures(t, y).rise, float(t[1] - t[0]))

    def misfit(p: Array) -> Array:
        return _second_order(t, float(np.exp(p[0])), float(np.exp(p[1])), float(p[2])) - y

    start = [math.log(2.0 / rise), math.log(0.7), rise * 0.3]
    scale = [1.0, 1.0, rise]
    found = least_squares(misfit, start, x_scale=scale, max_nfev=200)
    omega, zeta, delay = float(np.exp(found.x[0])), float(np.exp(found.x[1])), float(found.x[2])
    rms = float(np.sqrt(np.mean(found.fun**2)))
    return SecondOrder(natural_frequency=omega, damping=zeta, delay=delay, misfit=rms)


def _second_order(t: Array, omega: float, zeta: float, delay: float) -> Array:
    """Return the unit step response of a delayed second-order system, any damping.

    Written with decaying exponentials alone, so that nothing overflows however far damped.
    """
    x = omega * np.maximum(t - delay, 0.0)
    root = np.sqrt(complex(zeta * zeta - 1.0)) + 1e-7  # apart even where both poles meet
    fast, slow = -zeta - root, -zeta + root
    return np.real(1.0 - (fast * np.exp(slow * x) - slow * np.exp(fast * x)) / (fast - slow))


def largest_linear_step(voltage: Array, v_max: float, v_bias: float = 0.0) -> float:
    """Return the largest step (A) whose voltage response stays below `v_max`.

    Parameters
    ----------
    voltage : V for a step of 1 A
    v_max : V, what the bus gives
    v_bias : V, already in use before the step

    """
    most = float(np.max(np.abs(voltage)))
    return max(v_max - abs(v_bias), 0.0) / most if most > 0.0 else math.inf
