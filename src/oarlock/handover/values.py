"""What can be handed over: names, values, units, and how a float32 is spelled in C."""

import math
from dataclasses import dataclass

import numpy as np

from oarlock.errors import InputError
from oarlock.machine import Axis


@dataclass(frozen=True, slots=True, kw_only=True)
class HandoverValue:
    """One number for the firmware."""

    key: str  # "current.Kp_q"
    symbol: str  # its name in a header of ours
    value: float
    unit: str
    meaning: str


def handover_values(axis: Axis) -> tuple[HandoverValue, ...]:
    """Return what the current loop's firmware needs.

    Raises
    ------
    InputError : no gains are in use yet

    """
    gains = axis.gains
    if gains is None:
        remedy = "Take the designed gains in the current loop, or run 'oarlock tune --out'"
        raise InputError("no gains to hand over", place=axis.name, remedy=remedy)
    inv = axis.inverter
    rows = (
        ("current.Kp_d", "CUR_KP_D", gains.Kp_d, "V/A", "proportional gain, d axis"),
        ("current.Ki_d", "CUR_KI_D", gains.Ki_d, "V/(A s)", "integral gain, d axis"),
        ("current.Kp_q", "CUR_KP_Q", gains.Kp_q, "V/A", "proportional gain, q axis"),
        ("current.Ki_q", "CUR_KI_Q", gains.Ki_q, "V/(A s)", "integral gain, q axis"),
        ("current.Ts", "CUR_TS", inv.Ts, "s", "sample time of the current loop"),
        ("current.v_max", "CUR_V_MAX", inv.v_max, "V", "largest phase voltage, bus over sqrt 3"),
    )
    return tuple(
        HandoverValue(key=k, symbol=s, value=v, unit=u, meaning=m) for k, s, v, u, m in rows
    )


def float32_literal(value: float, suffix: str = "f") -> str:
    """Return the shortest decimal that reads back as the same float32.

    >>> float32_literal(0.1)
    '0.1f'
    >>> float32_literal(4571.0)
    '4571.0f'
    """
    with np.errstate(over="ignore", under="ignore"):
        single = np.float32(value)
    if not np.isfinite(single) or (single == 0.0 and value != 0.0):
        raise InputError(f"{value!r} does not fit a float32", place="handover")
    text = np.format_float_positional(single, unique=True, trim="0")
    if len(text) > 14:
        text = np.format_float_scientific(single, unique=True, trim="0")
    return text + suffix


def rounding(value: float) -> float:
    """Return what float32 loses of `value`, as a ratio."""
    return abs(float(np.float32(value)) / value - 1.0) if value and math.isfinite(value) else 0.0
