"""How warm the copper is, and what that makes of its resistance."""

import math

from oarlock.machine.axis import Axis

COPPER = 0.00393  # 1/K, of copper's resistance, from 20 °C (IEC 60228)
AROUND = 40.0  # °C, of the air that a rating counts on (IEC 60034-1)


def resistance_at(R: float, warm: float, wanted: float) -> float:
    """Return what a resistance (ohm) that was found at `warm` °C is at `wanted` °C."""
    return R * (1.0 + COPPER * (wanted - 20.0)) / (1.0 + COPPER * (warm - 20.0))


def winding_at(axis: Axis, rms: float) -> float:
    """Return the temperature (°C) that a current leads to in the end, as the rating has it.

    At rated current the winding reaches what it may reach, in air of 40 °C; what it loses grows
    with the square of the current and with the copper's own resistance. Infinite where it would
    grow hotter and hotter; NaN where no temperature is entered.

    Parameters
    ----------
    rms : A, effective value of a phase

    """
    m = axis.machine
    if m.max_temperature is None or not m.rated_current.is_known:
        return math.nan
    most, cold = m.max_temperature.value, 20.0 - 1.0 / COPPER  # °C; where copper would lose none
    share = (math.sqrt(2.0) * rms / m.rated_current.value) ** 2
    slope = (most - AROUND) * share / (most - cold)  # K for each K
    return math.inf if slope >= 1.0 else (AROUND - slope * cold) / (1.0 - slope)
