"""The link that feeds the bridge: a supply through a rectifier, a capacitor, a brake resistor.

The supply gives current while the bus lies below it and takes none back: what the shaft returns
raises the capacitor's voltage, until the brake resistor is switched on. A battery takes it back.
"""

from oarlock.jit import njit
from oarlock.simulate.elementary import LEAST_POWER, cos_sin, exp
from oarlock.simulate.layout import (
    BURNT,
    CHOP_FROM,
    CHOP_OHM,
    CHOPS,
    FEED,
    I_D,
    I_KNEE,
    I_Q,
    LD,
    LINK,
    PAIRS,
    TAKES_BACK,
    THETA,
    TS,
    V_ALPHA,
    V_BETA,
    V_BUS,
    V_DEAD,
    Numbers,
)
from oarlock.simulate.plant import tanh

_OFF = 0.97  # of the voltage that switches the brake resistor on, at which it goes off
_LEAST = 1.0  # V

_part = njit(inline=True)


@_part
def drawn(
    plant: Numbers, state: Numbers, i_d: float, i_q: float, theta: float, gates: bool
) -> float:
    """Return the bridge's mean power (W) over the period that has just passed.

    Parameters
    ----------
    i_d, i_q, theta : A and rad (of the shaft) as the period began

    """
    if not gates:  # through the diodes the windings give back what they stored
        before = i_d * i_d + i_q * i_q
        left = state[I_D] * state[I_D] + state[I_Q] * state[I_Q]
        return float(-0.75 * plant[LD] * (before - left) / plant[TS])
    a, b = theta * plant[PAIRS], state[THETA] * plant[PAIRS]
    c0, s0 = cos_sin(a)
    c1, s1 = cos_sin(b)
    alpha = 0.5 * (i_d * c0 - i_q * s0 + state[I_D] * c1 - state[I_Q] * s1)
    beta = 0.5 * (i_d * s0 + i_q * c0 + state[I_D] * s1 + state[I_Q] * c1)
    power = 1.5 * (state[V_ALPHA] * alpha + state[V_BETA] * beta)
    if plant[V_DEAD] > 0.0:  # what the dead time takes from the voltage is not drawn
        second = -0.5 * alpha + 0.8660254037844386 * beta
        third = -alpha - second
        for i in (alpha, second, third):
            power -= plant[V_DEAD] * tanh(i / plant[I_KNEE]) * i
    return float(power)


@_part
def charge(plant: Numbers, state: Numbers, supply: float, power: float) -> None:
    """Advance the capacitor by one control period, the bridge drawing a power (W) from it.

    Parameters
    ----------
    supply : V, of the supply without load

    """
    h, before = plant[TS], state[V_BUS]
    leaves = power / max(before, _LEAST)
    share = 0.0  # S, of what hangs on the capacitor
    if before < supply or plant[TAKES_BACK] > 0.0:
        share += 1.0 / plant[FEED]
        leaves -= supply / plant[FEED]
    if state[CHOPS] > 0.0:
        share += 1.0 / plant[CHOP_OHM]
    if share > 0.0:
        ends = -leaves / share
        now = ends + (before - ends) * exp(max(-share * h / plant[LINK], LEAST_POWER))
    else:
        now = before - leaves * h / plant[LINK]
    now = max(now, _LEAST)
    if state[CHOPS] > 0.0:
        state[BURNT] += h * (before * before + before * now + now * now) / 3.0 / plant[CHOP_OHM]
    if plant[CHOP_FROM] > 0.0:
        if now >= plant[CHOP_FROM]:
            state[CHOPS] = 1.0
        elif now <= _OFF * plant[CHOP_FROM]:
            state[CHOPS] = 0.0
    state[V_BUS] = now
