"""A field that is turned by force: how strong, how stiff, how the rotor's swing about it dies."""

import math
from dataclasses import replace

from oarlock.drive.steps import Step
from oarlock.machine import Axis

_DAMPING = 0.4  # of the rotor's swing about a forced field
_SOFTEST, _PLAIN, _STIFFEST = math.tau * 12.0, math.tau * 50.0, math.tau * 120.0  # rad/s


def forcing_current(axis: Axis) -> float:
    """Return the current (A) that holds the rotor stiffest, four fifths of rated at most.

    Along d the torque for each electrical radian is 1.5 p I (psi - (Lq - Ld) I): most at
    psi / (2 (Lq - Ld)), and nothing holds beyond twice that.
    """
    m = axis.machine
    rise = m.Lq.value - m.Ld.value
    stiffest = 0.5 * m.psi.value / rise if rise > 0.0 else math.inf
    return min(0.8 * axis.rated, stiffest)


def stiffness(axis: Axis, current: float) -> float:
    """Return how hard a current along d holds, N·m for each electrical radian."""
    m = axis.machine
    rise = m.Lq.value - m.Ld.value
    return 1.5 * m.pole_pairs.value * current * (m.psi.value - rise * current)


def swing_frequency(axis: Axis, current: float) -> float:
    """Return how fast a rotor swings about a held current, Hz; 10 where no inertia is known."""
    m = axis.machine
    if m.inertia is None:
        return 10.0
    pull = m.pole_pairs.value * max(stiffness(axis, current), 1e-9)
    return math.sqrt(pull / m.inertia.value) / math.tau


def field_ramp(carried: Step, start: float, end: float, seconds: float) -> list[Step]:
    """Return twenty steps that bring a turning field from one speed to another without a jerk.

    Parameters
    ----------
    start, end : rad/s, electrical

    """
    each = seconds / 20.0
    return [
        replace(carried, duration=each, turning=start + (end - start) * (n + 0.5) / 20.0)
        for n in range(20)
    ]


def damping_crossover(axis: Axis, current: float) -> float:
    """Return the current loop's crossover (rad/s) under which the rotor's swing dies out.

    A current that is held stiffly does not damp a rotor that swings about it. Held softly, the
    swing's back-EMF drives a current against resistance and proportional gain, which does.
    """
    m = axis.machine
    if m.inertia is None:
        return _PLAIN
    pairs, J = m.pole_pairs.value, m.inertia.value
    swing = math.sqrt(max(pairs * stiffness(axis, current), 1e-9) / J)
    wanted = 1.5 * (pairs * m.psi.value) ** 2 / (2.0 * _DAMPING * J * swing)
    Kp = wanted - m.R.value
    crossover = Kp / min(m.Ld.value, m.Lq.value)
    return min(max(crossover, _SOFTEST), _STIFFEST)
