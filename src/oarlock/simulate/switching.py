"""The windings under a bridge that switches: from edge to edge, one RK4 step for each stretch.

A leg is told to change where its share of the voltage meets the carrier. It rises or falls only
after the dead time; until then its diodes carry the current, by its sign, and a current that comes
to zero stays there until the leg takes over (zero-current clamping). Edges are met exactly, so is
the end of a current in a diode; nothing is stepped over (see docs/theory.md for the modulation:
Holmes and Lipo, "Pulse Width Modulation for Power Converters", 2003, chapters 5 and 6).
"""

import math

from oarlock.jit import njit
from oarlock.simulate.elementary import cos_sin
from oarlock.simulate.layout import (
    CLOCK,
    COPPER_HEAT,
    CORE_D,
    CORE_Q,
    D_LEAST,
    D_MOST,
    DEAD_TIME,
    DISCONTINUOUS,
    EDGE_AT,
    EDGES,
    FALLING,
    HALVES,
    HEAT,
    I_D,
    I_Q,
    IRON,
    LEG_DEAD,
    LEG_UP,
    MODULATION,
    OMEGA,
    OPEN_PHASE,
    PAIRS,
    POLE,
    Q_LEAST,
    Q_MOST,
    RECORDED,
    RIPPLE,
    SINE_WAVE,
    SIZE_MOST,
    SUM_ALPHA,
    SUM_BETA,
    SUM_E_D,
    SUM_E_Q,
    SUM_SQUARE,
    SUM_T_ALPHA,
    SUM_T_BETA,
    THETA,
    TS,
    V_ALPHA,
    V_BETA,
    V_BUS,
    Numbers,
    R,
    Row,
    Whole,
)
from oarlock.simulate.plant import magnet, once, slope, step, warm

_NEAR = 1e-9  # of a half period: two edges nearer than this are one
_NO_CURRENT = 1e-9  # A
_NEVER = 1e9  # s
_PASSES = 16  # over legs without current; each comes four times nearer to where it lies
_MOST = 64  # stretches in a half period: edges, ends of dead time, ends of currents
_SQRT3 = 1.7320508075688772

_part = njit(inline=True)
_jit = njit()


@_part
def _common(kind: int, low: float, high: float, bus: float) -> float:
    """Return what is added to all three legs' voltages, V."""
    if kind == SINE_WAVE:
        return 0.0
    if kind == DISCONTINUOUS:  # the leg that asks for most does not switch
        return 0.5 * bus - high if high > -low else -0.5 * bus - low
    return -0.5 * (high + low)


@_part
def _told(plant: Numbers, state: Numbers, bridge: Numbers, half: float) -> None:
    """Tell each leg what to be in the half period of the carrier that begins, and when."""
    bus, beta = state[V_BUS], 0.5 * _SQRT3 * state[V_BETA]
    first = state[V_ALPHA]
    second, third = beta - 0.5 * first, -beta - 0.5 * first
    low, high = min(first, min(second, third)), max(first, max(second, third))
    shift = _common(int(plant[MODULATION]), low, high, bus)
    for n in range(3):
        volts = first if n == 0 else (second if n == 1 else third)
        duty = 0.5 + (volts + shift) / bus
        if duty < _NEAR or duty > 1.0 - _NEAR:
            duty = 0.0 if duty < 0.5 else 1.0
        falling = state[FALLING] > 0.0
        up = duty > 0.0 if falling else duty >= 1.0
        if (state[LEG_UP + n] > 0.0) != up:
            state[LEG_UP + n] = 1.0 if up else 0.0
            state[LEG_DEAD + n] = plant[DEAD_TIME]
        at = half * duty if falling else half * (1.0 - duty)
        bridge[EDGE_AT + n] = at if 0.0 < duty < 1.0 else _NEVER


@_part
def _seen(c: float, s: float, n: int) -> tuple[float, float]:
    """Return cosine and sine of the angle as one phase sees it, of those that the first sees."""
    if n == 0:
        return c, s
    side = 0.5 * _SQRT3 if n == 1 else -0.5 * _SQRT3
    return side * s - 0.5 * c, -0.5 * s - side * c


@_part
def _along(i_d: float, i_q: float, c: float, s: float, n: int) -> float:
    """Return the current of one phase."""
    cn, sn = _seen(c, s, n)
    return i_d * cn - i_q * sn


@_part
def _without(i_d: float, i_q: float, c: float, s: float, n: int) -> tuple[float, float]:
    """Return the currents less what would flow in one phase."""
    cn, sn = _seen(c, s, n)
    along = i_d * cn - i_q * sn
    return i_d - along * cn, i_q + along * sn


@_jit
def _floating(
    plant: Numbers, state: Numbers, bridge: Numbers, r: float, psi: float, w: float,
    c: float, s: float, n: int,
) -> bool:  # fmt: skip
    """Find the voltage of a leg without current; return whether it keeps it without.

    Where it would lie beyond the bus, a diode takes over.
    """
    bus, low, high = state[V_BUS], 0.0, 0.0
    i_d, i_q = state[I_D], state[I_Q]
    dead, per_knee, share, straight, per_det = once(plant, r)
    for top in range(2):
        bridge[POLE + n] = top * bus
        p0, p1, p2 = bridge[POLE], bridge[POLE + 1], bridge[POLE + 2]
        va, vb = (2.0 * p0 - p1 - p2) / 3.0, (p1 - p2) / _SQRT3
        a, b, _, _ = slope(plant, r, psi, i_d, i_q, w, c, s, va, vb, dead, per_knee,
                           share, straight, per_det)  # fmt: skip
        # The phase stands while the frame turns: what it sees of that counts.
        low, high = high, _along(a - w * i_q, b + w * i_d, c, s, n)
    if low >= 0.0 or high <= 0.0:
        bridge[POLE + n] = 0.0 if low >= 0.0 else bus
        return False
    bridge[POLE + n] = -low / (high - low) * bus
    return True


@_part
def _poles(
    plant: Numbers, state: Numbers, bridge: Numbers, r: float, psi: float, w: float,
    c: float, s: float,
) -> int:  # fmt: skip
    """Set the legs' voltages; return which phases stay without current, a bit for each."""
    bus, loose = state[V_BUS], 0
    for n in range(3):
        current = _along(state[I_D], state[I_Q], c, s, n)
        if state[LEG_DEAD + n] <= 0.0:
            bridge[POLE + n] = bus * state[LEG_UP + n]
        elif current > _NO_CURRENT:
            bridge[POLE + n] = 0.0
        elif current < -_NO_CURRENT:
            bridge[POLE + n] = bus
        else:
            bridge[POLE + n] = 0.5 * bus
            loose += 1 << n
    held = 0
    if loose > 0:  # each of them lies where the others put it
        several = loose & (loose - 1) > 0
        for _ in range(_PASSES if several else 1):
            held = 0
            for n in range(3):
                if loose >> n & 1 and _floating(plant, state, bridge, r, psi, w, c, s, n):
                    held += 1 << n
    return held


@_part
def _add(
    state: Numbers, bridge: Numbers, c: float, s: float, was_d: float, was_q: float,
    later_c: float, later_s: float, begun: float, h: float, whole: float,
) -> None:  # fmt: skip
    """Add a stretch, straight from one end to the other, to the period's integrals."""
    a0, b0 = was_d * c - was_q * s, was_d * s + was_q * c
    c, s = later_c, later_s
    a1, b1 = state[I_D] * c - state[I_Q] * s, state[I_D] * s + state[I_Q] * c
    t0, t1 = begun / whole, (begun + h) / whole
    bridge[SUM_SQUARE] += h / 3.0 * (a0 * a0 + a0 * a1 + a1 * a1 + b0 * b0 + b0 * b1 + b1 * b1)
    bridge[SUM_ALPHA] += 0.5 * h * (a0 + a1)
    bridge[SUM_BETA] += 0.5 * h * (b0 + b1)
    bridge[SUM_T_ALPHA] += h / 6.0 * (a0 * (2.0 * t0 + t1) + a1 * (t0 + 2.0 * t1))
    bridge[SUM_T_BETA] += h / 6.0 * (b0 * (2.0 * t0 + t1) + b1 * (t0 + 2.0 * t1))


@_part
def _mark(
    state: Numbers, meta: Whole, bridge: Numbers, edges: Numbers, c: float, s: float, at: float
) -> None:
    """Write down the end of a stretch, as long as there are rows."""
    row = meta[EDGES]
    if row >= edges.shape[0]:
        return
    edges[row, 0] = at
    for n in range(3):
        edges[row, 1 + n] = _along(state[I_D], state[I_Q], c, s, n)
        edges[row, 4 + n] = bridge[POLE + n]
    meta[EDGES] += 1


@_part
def _reach(state: Numbers, reach: Row, row: int) -> None:
    """Widen what the recorder tells of this period by the currents now."""
    i_d, i_q = state[I_D], state[I_Q]
    reach[row, D_LEAST] = min(reach[row, D_LEAST], i_d)
    reach[row, D_MOST] = max(reach[row, D_MOST], i_d)
    reach[row, Q_LEAST] = min(reach[row, Q_LEAST], i_q)
    reach[row, Q_MOST] = max(reach[row, Q_MOST], i_q)
    reach[row, SIZE_MOST] = max(reach[row, SIZE_MOST], math.sqrt(i_d * i_d + i_q * i_q))


@_part
def _first_to_end(
    state: Numbers, i_d: float, i_q: float, new_d: float, new_q: float, c: float, s: float,
    later_c: float, later_s: float, held: int,
) -> tuple[float, int]:  # fmt: skip
    """Return what share of a stretch has passed where a diode's current ends, and its phase.

    Where none does, (1, -1).
    """
    share, ends = 1.0, -1
    for n in range(3):
        if state[LEG_DEAD + n] > 0.0 and not held >> n & 1:
            before = _along(i_d, i_q, c, s, n)
            after = _along(new_d, new_q, later_c, later_s, n)
            if abs(before) > _NO_CURRENT and before * after < 0.0:
                part = before / (before - after)
                if part < share:
                    share, ends = part, n
    return share, ends


@_part
def _stretch(
    plant: Numbers, state: Numbers, bridge: Numbers, r: float, psi: float, w: float,
    c: float, s: float, longest: float,
) -> tuple[float, float, float]:  # fmt: skip
    """Advance to the next edge, or to where a diode's current ends.

    Return the seconds, and cosine and sine of the rotor's electrical angle there.
    """
    held = _poles(plant, state, bridge, r, psi, w, c, s)
    p0, p1, p2 = bridge[POLE], bridge[POLE + 1], bridge[POLE + 2]
    va, vb = (2.0 * p0 - p1 - p2) / 3.0, (p1 - p2) / _SQRT3
    i_d, i_q, ends, h = state[I_D], state[I_Q], -1, longest
    new_d, new_q, ed, eq, c1, s1 = 0.0, 0.0, 0.0, 0.0, c, s
    for attempt in range(2):
        new_d, new_q, ed, eq, c1, s1 = step(plant, r, psi, i_d, i_q, w, c, s, va, vb, h)
        if attempt == 1:
            break
        share, ends = _first_to_end(state, i_d, i_q, new_d, new_q, c, s, c1, s1, held)
        if ends < 0:
            break
        h *= share
    if ends >= 0:
        held |= 1 << ends
    if held & (held - 1) > 0:  # two phases without current: none has any
        new_d = new_q = 0.0
    elif held > 0:
        new_d, new_q = _without(new_d, new_q, c1, s1, held >> 1)
    if plant[OPEN_PHASE] >= 0.0:
        new_d, new_q = _without(new_d, new_q, c1, s1, int(plant[OPEN_PHASE]))
    state[I_D], state[I_Q] = new_d, new_q
    bridge[SUM_E_D] += h * ed
    bridge[SUM_E_Q] += h * eq
    return h, c1, s1


@_part
def _next_edge(state: Numbers, bridge: Numbers, done: float, half: float) -> float:
    """Return the seconds to the next edge, end of a dead time, or end of the half period."""
    longest = half - done
    for n in range(3):
        longest = min(longest, bridge[EDGE_AT + n] - done)
        if state[LEG_DEAD + n] > 0.0:
            longest = min(longest, state[LEG_DEAD + n])
    return float(max(longest, 0.0))


@_part
def _pass(plant: Numbers, state: Numbers, bridge: Numbers, h: float, done: float,
          near: float) -> None:  # fmt: skip
    """Let dead times pass, and change the legs whose edge has come."""
    for n in range(3):
        if state[LEG_DEAD + n] > 0.0:
            left = state[LEG_DEAD + n] - h
            state[LEG_DEAD + n] = left if left > near else 0.0
        if bridge[EDGE_AT + n] <= done + near:
            bridge[EDGE_AT + n] = _NEVER
            state[LEG_UP + n] = 1.0 - state[LEG_UP + n]
            state[LEG_DEAD + n] = plant[DEAD_TIME]


@_part
def _ripple(state: Numbers, bridge: Numbers, a0: float, b0: float, theta: float,
            whole: float) -> float:  # fmt: skip
    """Return the mean square of what lies beside the straight line through both ends, A²."""
    c, s = cos_sin(theta)
    a1, b1 = state[I_D] * c - state[I_Q] * s, state[I_D] * s + state[I_Q] * c
    line = whole / 3.0 * (a0 * a0 + a0 * a1 + a1 * a1 + b0 * b0 + b0 * b1 + b1 * b1)
    across = (
        a0 * bridge[SUM_ALPHA] + (a1 - a0) * bridge[SUM_T_ALPHA]
        + b0 * bridge[SUM_BETA] + (b1 - b0) * bridge[SUM_T_BETA]
    )  # fmt: skip
    return float(max(bridge[SUM_SQUARE] - 2.0 * across + line, 0.0) / whole)


@_jit
def stay(state: Numbers, meta: Whole, reach: Row) -> None:
    """Tell of a control period in which the bridge did not switch."""
    row = max(meta[RECORDED] - 1, 0) % reach.shape[0]
    reach[row, D_LEAST] = reach[row, D_MOST] = state[I_D]
    reach[row, Q_LEAST] = reach[row, Q_MOST] = state[I_Q]
    reach[row, SIZE_MOST] = math.hypot(state[I_D], state[I_Q])
    reach[row, RIPPLE] = 0.0


@_jit
def switch(
    plant: Numbers, state: Numbers, meta: Whole, edges: Numbers, reach: Row, bridge: Numbers
) -> None:
    """Advance the windings by one control period under an energised bridge.

    Parameters
    ----------
    edges : (rows, 7), filled from `meta[EDGES]` on
    reach : (rows, 6), its row being that of the newest record
    bridge : scratch

    """
    whole = plant[TS]
    halves = int(plant[HALVES])
    half, theta = whole / halves, state[THETA] * plant[PAIRS]
    w, psi = state[OMEGA] * plant[PAIRS], magnet(plant, state)
    r = plant[R] * (1.0 + COPPER_HEAT * state[HEAT])
    warm(plant, state, r)
    bridge[SUM_SQUARE:] = 0.0
    row = max(meta[RECORDED] - 1, 0) % reach.shape[0]
    reach[row, D_LEAST] = reach[row, D_MOST] = state[I_D]
    reach[row, Q_LEAST] = reach[row, Q_MOST] = state[I_Q]
    reach[row, SIZE_MOST] = 0.0
    c, s = cos_sin(theta)
    a0, b0 = state[I_D] * c - state[I_Q] * s, state[I_D] * s + state[I_Q] * c
    near, begun = _NEAR * half, meta[CLOCK] * whole
    for number in range(halves):
        _told(plant, state, bridge, half)
        done, before = 0.0, number * half
        for _ in range(_MOST):
            longest = _next_edge(state, bridge, done, half)
            h = longest
            if longest > near:
                at = theta + w * (before + done)
                c, s = cos_sin(at)
                was_d, was_q = state[I_D], state[I_Q]
                h, c1, s1 = _stretch(plant, state, bridge, r, psi, w, c, s, longest)
                _add(state, bridge, c, s, was_d, was_q, c1, s1, before + done, h, whole)
                _mark(state, meta, bridge, edges, c1, s1, begun + before + done + h)
                _reach(state, reach, row)
            done += h
            _pass(plant, state, bridge, h, done, near)
            if done >= half - near:
                break
        state[FALLING] = 1.0 - state[FALLING]
    state[CORE_D] = plant[IRON] * bridge[SUM_E_D] / whole
    state[CORE_Q] = plant[IRON] * bridge[SUM_E_Q] / whole
    reach[row, RIPPLE] = _ripple(state, bridge, a0, b0, theta + w * whole, whole)
