"""The firmware's flux observer, for a machine without a sensor."""

import math

from oarlock.jit import njit
from oarlock.simulate.elementary import cos_sin
from oarlock.simulate.layout import (
    F_LD,
    F_LQ,
    F_OBSERVER,
    F_PSI,
    F_R,
    FLUX_A,
    FLUX_B,
    LATE_ALPHA,
    LATE_BETA,
    M_ALPHA,
    M_BETA,
    SEEN_SPEED,
    SEEN_THETA,
    Numbers,
)

_jit = njit(inline=True)


@_jit
def observe(firm: Numbers, state: Numbers, Ts: float) -> None:
    """Follow the rotor by its flux: active flux from the voltage model, then a tracking loop.

    The stator flux is the integral of v - R i, drawn to the magnet's size by the observer's
    gain; less Lq i it lies along d whatever the saliency (Boldea, Paicu and Andreescu 2008;
    Lee, Hong, Nam, Ortega, Praly and Astolfi 2010).
    """
    Lq, psi = firm[F_LQ], firm[F_PSI]
    a0, b0 = state[FLUX_A] - Lq * state[M_ALPHA], state[FLUX_B] - Lq * state[M_BETA]
    c, s = cos_sin(state[SEEN_THETA])
    i_d = state[M_ALPHA] * c + state[M_BETA] * s
    most = max(psi + (firm[F_LD] - Lq) * i_d, 0.2 * psi)
    pull = 0.5 * firm[F_OBSERVER] * (1.0 - (a0 * a0 + b0 * b0) / (most * most))
    state[FLUX_A] += Ts * (state[LATE_ALPHA] - firm[F_R] * state[M_ALPHA] + pull * a0)
    state[FLUX_B] += Ts * (state[LATE_BETA] - firm[F_R] * state[M_BETA] + pull * b0)
    a, b = state[FLUX_A] - Lq * state[M_ALPHA], state[FLUX_B] - Lq * state[M_BETA]
    wide = firm[F_OBSERVER]
    seen = state[SEEN_THETA] + Ts * state[SEEN_SPEED]
    c, s = cos_sin(seen)
    miss = math.atan2(b * c - a * s, a * c + b * s)
    state[SEEN_THETA] = seen + 2.0 * wide * Ts * miss
    state[SEEN_SPEED] += wide * wide * Ts * miss
