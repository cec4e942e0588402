"""The firmware's current controllers, in float32 as it rounds, and the circle that the bus allows.

The same order of operations stands in `control.single`, where it is written to be read, and in the
C that the handover proof compiles.
"""

import math

import numpy as np

from oarlock.jit import njit
from oarlock.simulate.elementary import PER_SQRT3
from oarlock.simulate.layout import (
    BUS_NOW,
    C_CIRCLE,
    C_RULE,
    C_WEIGHT,
    CUT,
    DECOUPLE,
    F_LD,
    F_LQ,
    F_PSI,
    KI_D,
    KI_Q,
    KP_D,
    KP_Q,
    MODE,
    MODE_CARRIED,
    MODE_FIXED,
    MODE_OFF,
    MODE_VOLTAGE,
    ON_VD,
    ON_VQ,
    R_D,
    R_Q,
    RULE_BACKWARD,
    RULE_TRAPEZOIDAL,
    SUM_D,
    SUM_Q,
    TARGET,
    V_D_OUT,
    V_Q_OUT,
    W_E,
    WAVE_NOW,
    Y_D,
    Y_Q,
    Numbers,
    Row,
    Single,
)

_jit = njit(inline=True)
_UNBOUNDED = np.float32(3e38)  # V
_FULL = 0.9999**2  # of the voltage circle, squared: what counts as cut


@_jit
def control(
    e: Single, p: Single, kp: Single, ahead: Single, behind: Single, total: Single, limit: Single
) -> tuple[Single, Single]:
    """One PI step in float32, limited, holding its integral while limited.

    The integral takes `ahead`·e before the output is worked out and `behind`·e after it; `p` is
    the weighted error of the proportional part.
    """
    summed = np.float32(total + np.float32(ahead * e))
    u = np.float32(np.float32(kp * p) + summed)
    kept = np.float32(summed + np.float32(behind * e))
    if u > limit:
        return limit, (total if e > 0 else kept)
    if u < -limit:
        return np.float32(-limit), (total if e < 0 else kept)
    return u, kept


@_jit
def current_pi(
    firm: Numbers, asked: float, seen: float, kp: int, ki: int, total: float, limit: Single,
    ts: Single,
) -> tuple[Single, Single]:  # fmt: skip
    """One step of a current controller whose gains lie at `kp` and `ki`."""
    ref, y = np.float32(asked), np.float32(seen)
    e = np.float32(ref - y)
    p = np.float32(np.float32(np.float32(firm[C_WEIGHT]) * ref) - y)
    whole, rule = np.float32(np.float32(firm[ki]) * ts), int(firm[C_RULE])
    part = np.float32(np.float32(0.5) * whole)
    ahead = (
        whole if rule == RULE_BACKWARD else (part if rule == RULE_TRAPEZOIDAL else np.float32(0.0))
    )
    behind = np.float32(whole - ahead)
    return control(e, p, np.float32(firm[kp]), ahead, behind, np.float32(total), limit)


@_jit
def currents(firm: Numbers, state: Numbers, row: Row, work: Numbers, Ts: float) -> None:
    """Work out both voltages: two PI steps in float32, decoupling, and the circle of the bus.

    With d first each controller has the room that is left to it. In proportion both have all of it,
    and what goes beyond the circle is shortened; a controller that pushes it outward holds its sum.
    """
    mode, target, added = int(row[MODE]), int(row[TARGET]), work[WAVE_NOW]
    gates, ts32 = mode != MODE_OFF, np.float32(Ts)
    v_max = np.float32(work[BUS_NOW] * PER_SQRT3)
    v_d, v_q, shares = 0.0, 0.0, firm[C_CIRCLE] > 0.0
    held_d, held_q = state[SUM_D], state[SUM_Q]
    if mode == MODE_VOLTAGE:
        v_d, v_q = work[R_D], work[R_Q]
    elif gates:
        most = _UNBOUNDED if shares else v_max
        u_d, sum_d = current_pi(firm, work[R_D], work[Y_D], KP_D, KI_D, state[SUM_D], most, ts32)
        left = np.float32(math.sqrt(max(np.float64(v_max) ** 2 - np.float64(u_d) ** 2, 0.0)))
        room = _UNBOUNDED if shares else left
        u_q, sum_q = current_pi(firm, work[R_Q], work[Y_Q], KP_Q, KI_Q, state[SUM_Q], room, ts32)
        state[SUM_D], state[SUM_Q] = sum_d, sum_q
        v_d, v_q = np.float64(u_d), np.float64(u_q)
    turning = mode in (MODE_FIXED, MODE_VOLTAGE, MODE_CARRIED)
    if firm[DECOUPLE] > 0.0 and gates and not turning:
        v_d -= work[W_E] * firm[F_LQ] * work[Y_Q]
        v_q += work[W_E] * (firm[F_LD] * work[Y_D] + firm[F_PSI])
    if gates:
        v_d += added if target == ON_VD else 0.0
        v_q += added if target == ON_VQ else 0.0
    square, circle = v_d * v_d + v_q * v_q, np.float64(v_max)
    work[CUT] = 1.0 if square >= _FULL * circle * circle else 0.0
    if square > circle * circle:
        if shares and gates:
            if (work[R_D] - work[Y_D]) * v_d > 0.0:
                state[SUM_D] = held_d
            if (work[R_Q] - work[Y_Q]) * v_q > 0.0:
                state[SUM_Q] = held_q
        shorter = circle / math.sqrt(square)
        v_d, v_q = v_d * shorter, v_q * shorter
    work[V_D_OUT], work[V_Q_OUT] = v_d, v_q
