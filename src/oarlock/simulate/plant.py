"""The plant: windings under a held voltage, and the shaft they turn.

One RK4 step per control period with the stator voltage held, so that it turns in the rotor frame
as the rotor does; two where it turns far in a period. The inverter's dead time costs voltage
against the sign of each current.

Fluxes derive from one coenergy, so that saturation across the axes is the same both ways. Iron loss
is a conductance beside what the flux induces (its mean over a period, since eddies are no faster):
its current is sensed and makes no torque. The copper
warms by its loss, and with it its resistance.
"""

import math

from oarlock.jit import njit
from oarlock.simulate.elementary import LEAST_POWER, PER_SQRT3, THIRD, cos_sin, exp, sin
from oarlock.simulate.layout import (
    BRAKE,
    BRAKE_STUCK,
    COGGING,
    COGGING_ORDER,
    COOLING,
    COPPER_HEAT,
    CORE_D,
    CORE_Q,
    COULOMB,
    COULOMB_BACK,
    CROSS,
    FLUX_HEAT,
    HEAT,
    HEATING,
    I_BEND,
    I_D,
    I_KNEE,
    I_Q,
    I_SATURATION,
    IRON,
    LD,
    LD_BEND,
    LOAD,
    LOAD_SQUARE,
    LQ,
    LQ_SATURATED,
    OMEGA,
    OMEGA_LOAD,
    OPEN_PHASE,
    PAIRS,
    PLAY,
    PSI,
    PULL_ROWS,
    PULLS,
    SHAFT_DAMPING,
    STICTION,
    STIFFNESS,
    STRIBECK,
    STRIBECK_SPEED,
    SUBSTEPS,
    TAU,
    THETA,
    TORQUE,
    TS,
    TWIST,
    V_ALPHA,
    V_BETA,
    V_BUS,
    V_DEAD,
    VISCOUS,
    Numbers,
    R,
)

_jit = njit(inline=True)
_FAR = 0.1  # rad, electrical, that the rotor turns in a period
_SIXTH = 1.0 / 6.0
_FLAT = 20.0  # beyond which tanh is 1 to the last bit
_LN2 = 0.6931471805599453
# Of (atanh s / s - 1) / s² over s² up to 1/9, interpolated at Chebyshev's points: 1e-17 from it.
_A0, _A1, _A2, _A3 = 1.0 / 3.0, 0.20000000000007292, 0.1428571428355438, 0.11111111358713932
_A4, _A5, _A6 = 0.09090894718066429, 0.07692785032479312, 0.06657072104827468
_A7, _A8, _A9 = 0.06000536404795356, 0.04400369243072337, 0.08082022805971766


@_jit
def tanh(x: float) -> float:
    """Return tanh x, 3e-16 or less from it: of one exponential, a third of the library's time."""
    small = exp(-2.0 * min(abs(x), _FLAT))
    return math.copysign((1.0 - small) / (1.0 + small), x)


@_jit
def tanh_ln_cosh(x: float) -> tuple[float, float]:
    """Return tanh x and ln cosh x, 1e-15 or less from them: one exponential, one division.

    With e = exp(-2|x|), ln cosh x is |x| + ln(1 + e) - ln 2, and ln(1 + e) is 2 atanh(e / (2 + e)).
    """
    size = abs(x)
    small = exp(-2.0 * min(size, _FLAT))
    one, two = 1.0 + small, 2.0 + small
    per = 1.0 / (one * two)
    s = small * one * per
    z = s * s
    zz = z * z
    low = (_A0 + z * _A1) + zz * (_A2 + z * _A3)
    high = (_A4 + z * _A5) + zz * ((_A6 + z * _A7) + zz * (_A8 + z * _A9))
    log = 2.0 * (s + s * z * (low + zz * zz * high))
    return math.copysign((1.0 - small) * two * per, x), size + log - _LN2


@_jit
def three_tanh(x: float, y: float) -> tuple[float, float, float]:
    """Return tanh of x, of y and of -x - y, 1e-15 or less from it: two exponentials, one division.

    Beyond `_FLAT` to each side it is held: there it is 1 to the last bit.
    """
    a = exp(-2.0 * min(max(x, -_FLAT), _FLAT))
    b = exp(-2.0 * min(max(y, -_FLAT), _FLAT))
    ab = a * b
    if max(abs(x), abs(y)) > _FLAT:  # what is held does not tell their sum
        ab = exp(2.0 * min(max(-x - y, -_FLAT), _FLAT))
    of_a, of_b, of_ab = 1.0 + a, 1.0 + b, 1.0 + ab
    both = of_a * of_b
    per = 1.0 / (both * of_ab)
    rest = of_ab * per
    return (1.0 - a) * of_b * rest, (1.0 - b) * of_a * rest, (ab - 1.0) * both * per


@_jit
def magnet(plant: Numbers, state: Numbers) -> float:
    """Return the magnet's flux, less what heat takes, Vs."""
    return float(plant[PSI] * (1.0 - plant[FLUX_HEAT] * state[HEAT]))


@_jit
def _fluxes(
    plant: Numbers, psi: float, i_d: float, i_q: float
) -> tuple[float, float, float, float, float]:
    """Return the fluxes along d and q, their slopes over the own current, and over the other's.

    Along d it saturates with the magnet, against it not.
    """
    bend, more = plant[LD_BEND], plant[LQ] - plant[LQ_SATURATED]
    flux_d, inc_d = psi + plant[LD] * i_d, plant[LD]
    flux_q, inc_q = plant[LQ_SATURATED] * i_q, plant[LQ_SATURATED]
    if bend != 0.0:
        bent, ln_cosh = tanh_ln_cosh(i_d / plant[I_BEND])
        flux_d = psi + plant[LD] * (i_d - bend * plant[I_BEND] * ln_cosh)
        inc_d = plant[LD] * (1.0 - bend * bent)
    if more != 0.0:
        bent = tanh(i_q / plant[I_SATURATION])
        flux_q += more * plant[I_SATURATION] * bent
        inc_q += more * (1.0 - bent * bent)
    across = plant[CROSS]
    flux_d -= across * i_q * i_q
    flux_q -= 2.0 * across * i_d * i_q
    return flux_d, flux_q, inc_d, inc_q - 2.0 * across * i_d, -2.0 * across * i_q


@_jit
def once(plant: Numbers, r: float) -> tuple[int, float, float, int, float]:
    """Return what stays over many slopes.

    Whether dead time takes voltage (0 or 1), 1/A of its knee, the windings' share, whether nothing
    saturates (0 or 1), and then 1/H² of both inductances.
    """
    dead = int(plant[V_DEAD] > 0.0)
    per_knee = 1.0 / plant[I_KNEE] if dead > 0 else 0.0
    share = 1.0 / (1.0 + plant[IRON] * r) if plant[IRON] > 0.0 else 1.0
    straight = int(
        plant[LD_BEND] == 0.0 and plant[LQ] == plant[LQ_SATURATED] and plant[CROSS] == 0.0
    )
    per_det = 1.0 / (plant[LD] * plant[LQ]) if straight > 0 else 0.0
    return dead, per_knee, share, straight, per_det


@_jit
def slope(
    plant: Numbers, r: float, psi: float, i_d: float, i_q: float, w: float, c: float, s: float,
    va: float, vb: float, dead: int, per_knee: float, share: float, straight: int, per_det: float,
) -> tuple[float, float, float, float]:  # fmt: skip
    """Return di/dt in the rotor frame under a held stator voltage, and the voltages induced.

    Parameters
    ----------
    c, s : cosine and sine of the rotor's electrical angle
    dead, per_knee, share, straight, per_det : see `once`

    """
    if dead > 0:
        ia, ib_ = i_d * c - i_q * s, i_d * s + i_q * c
        pa = ia * per_knee
        pb = (-0.5 * ia + 0.8660254037844386 * ib_) * per_knee
        la, lb, lc = three_tanh(pa, pb)
        va -= plant[V_DEAD] * THIRD * (2.0 * la - lb - lc)
        vb -= plant[V_DEAD] * PER_SQRT3 * (lb - lc)
    vd, vq = va * c + vb * s, vb * c - va * s
    ed, eq = share * (vd - r * i_d), share * (vq - r * i_q)
    if straight > 0:
        ud, uq = ed + w * (plant[LQ] * i_q), eq - w * (psi + plant[LD] * i_d)
        return per_det * (plant[LQ] * ud), per_det * (plant[LD] * uq), ed, eq
    flux_d, flux_q, inc_d, inc_q, across = _fluxes(plant, psi, i_d, i_q)
    ud, uq = ed + w * flux_q, eq - w * flux_d
    per_det = 1.0 / (inc_d * inc_q - across * across)
    return per_det * (inc_q * ud - across * uq), per_det * (inc_d * uq - across * ud), ed, eq


@_jit
def step(
    plant: Numbers, r: float, psi: float, i_d: float, i_q: float, w: float, c: float, s: float,
    va: float, vb: float, h: float,
) -> tuple[float, float, float, float, float, float]:  # fmt: skip
    """Return the currents after `h` seconds under a held voltage, and what is induced midway.

    Parameters
    ----------
    c, s : cosine and sine of the rotor's electrical angle; those after `h` are returned too

    """
    half = 0.5 * h
    ct, st = cos_sin(half * w)
    c2, s2 = c * ct - s * st, s * ct + c * st
    c4, s4 = c2 * ct - s2 * st, s2 * ct + c2 * st
    dead, knee, share, straight, per_det = once(plant, r)
    a1, b1, _, _ = slope(plant, r, psi, i_d, i_q, w, c, s, va, vb,
                         dead, knee, share, straight, per_det)  # fmt: skip
    a2, b2, _, _ = slope(plant, r, psi, i_d + half * a1, i_q + half * b1, w, c2, s2, va, vb,
                         dead, knee, share, straight, per_det)  # fmt: skip
    a3, b3, ed, eq = slope(plant, r, psi, i_d + half * a2, i_q + half * b2, w, c2, s2, va, vb,
                           dead, knee, share, straight, per_det)  # fmt: skip
    a4, b4, _, _ = slope(plant, r, psi, i_d + h * a3, i_q + h * b3, w, c4, s4, va, vb,
                         dead, knee, share, straight, per_det)  # fmt: skip
    sixth = h * _SIXTH
    i_d += sixth * (a1 + 2.0 * (a2 + a3) + a4)
    i_q += sixth * (b1 + 2.0 * (b2 + b3) + b4)
    return i_d, i_q, ed, eq, c4, s4


@_jit
def warm(plant: Numbers, state: Numbers, r: float) -> None:
    """Warm the winding by its loss in one control period, and cool it."""
    loss = 1.5 * r * (state[I_D] * state[I_D] + state[I_Q] * state[I_Q])
    state[HEAT] += plant[TS] * (plant[HEATING] * loss - plant[COOLING] * state[HEAT])


@_jit
def integrate(plant: Numbers, state: Numbers, energised: bool, c: float, s: float) -> None:
    """Advance the windings by one control period.

    Parameters
    ----------
    c, s : cosine and sine of the rotor's electrical angle

    """
    h = plant[TS]
    i_d, i_q = state[I_D], state[I_Q]
    w = state[OMEGA] * plant[PAIRS]
    r, psi = plant[R] * (1.0 + COPPER_HEAT * state[HEAT]), magnet(plant, state)
    warm(plant, state, r)
    if not energised:  # the diodes return the current to the bus, and no more flows
        size = math.hypot(i_d, i_q)
        left = max(size - state[V_BUS] / 1.7320508 * h / plant[LD], 0.0)
        state[I_D] = i_d * left / size if size > 0.0 else 0.0
        state[I_Q] = i_q * left / size if size > 0.0 else 0.0
        state[CORE_D] = state[CORE_Q] = 0.0
        return
    state[CORE_D] = state[CORE_Q] = 0.0
    far = abs(w) * h > _FAR
    each = 0.5 if far else 1.0
    for n in range(2):  # a period in one, or in two halves
        if n == 0 or far:
            i_d, i_q, ed, eq, c, s = step(plant, r, psi, i_d, i_q, w, c, s, state[V_ALPHA],
                                          state[V_BETA], each * h)  # fmt: skip
            state[CORE_D] += each * plant[IRON] * ed
            state[CORE_Q] += each * plant[IRON] * eq
    if plant[OPEN_PHASE] >= 0.0:  # what would flow in the open phase cannot
        turned = state[THETA] * plant[PAIRS] - plant[OPEN_PHASE] * TAU / 3.0
        c, s = cos_sin(turned)
        along = i_d * c - i_q * s
        i_d, i_q = i_d - along * c, i_q + along * s
    state[I_D], state[I_Q] = i_d, i_q


@_jit
def turn(
    plant: Numbers, state: Numbers, released: bool, hand: float, per_mass: float, per_load: float
) -> None:
    """Advance the shaft by one control period; `hand` (rad/s) is what a hand does to it.

    It is pushed by the mean of the torques at the period's two ends: the last alone would come
    half a period early.
    Where it twists, in parts of the period, speeds first: the swing neither grows nor dies.
    """
    h = plant[TS]
    i_d, i_q = state[I_D], state[I_Q]
    flux_d, flux_q, _, _, _ = _fluxes(plant, magnet(plant, state), i_d, i_q)
    theta, omega = state[THETA], state[OMEGA]
    at_end = 1.5 * plant[PAIRS] * (flux_d * i_q - flux_q * i_d)
    torque = 0.5 * (state[TORQUE] + at_end)
    state[TORQUE] = at_end
    if plant[COGGING] != 0.0:
        torque -= plant[COGGING] * sin(plant[COGGING_ORDER] * theta)
    if plant[STIFFNESS] > 0.0:
        part, far, twist = h / SUBSTEPS, state[OMEGA_LOAD], state[TWIST]
        for _ in range(SUBSTEPS):
            through = _through(plant, twist, omega - far)
            pull = through - plant[LOAD] - plant[LOAD_SQUARE] * far * abs(far)
            far += per_load * (pull - pulled(plant, theta - twist))
            was, omega = omega, _pushed(plant, omega, torque - through, released, hand, per_mass)
            theta += 0.5 * part * (was + omega)
            twist += part * (omega - far)
        state[OMEGA_LOAD], state[TWIST] = far, twist
    else:
        torque -= plant[LOAD] + plant[LOAD_SQUARE] * omega * abs(omega)
        torque -= pulled(plant, theta)
        was, omega = omega, _pushed(plant, omega, torque, released, hand, per_mass)
        theta += 0.5 * h * (was + omega)
    state[THETA], state[OMEGA] = theta, omega


@_jit
def pulled(plant: Numbers, theta: float) -> float:
    """Return the torque that pulls backward at an angle: straight between rows, held beyond."""
    many = int(plant[PULL_ROWS])
    if many == 0:
        return 0.0
    if theta <= plant[PULLS]:
        return float(plant[PULLS + 1])
    for n in range(many - 1):
        at = PULLS + 2 * n
        if theta < plant[at + 2]:
            share = (theta - plant[at]) / (plant[at + 2] - plant[at])
            return float(plant[at + 1] + share * (plant[at + 3] - plant[at + 1]))
    return float(plant[PULLS + 2 * many - 1])


@_jit
def _through(plant: Numbers, twist: float, slip: float) -> float:
    """Return the torque that the shaft carries; within its play none, and it never pulls back."""
    if plant[PLAY] <= 0.0:
        return float(plant[STIFFNESS] * twist + plant[SHAFT_DAMPING] * slip)
    half = 0.5 * plant[PLAY]
    if twist > half:
        return max(float(plant[STIFFNESS] * (twist - half) + plant[SHAFT_DAMPING] * slip), 0.0)
    if twist < -half:
        return min(float(plant[STIFFNESS] * (twist + half) + plant[SHAFT_DAMPING] * slip), 0.0)
    return 0.0


@_jit
def _pushed(
    plant: Numbers, omega: float, torque: float, released: bool, hand: float, per_mass: float
) -> float:
    """Return the motor's speed after a torque has acted on it, with its friction and brake.

    Parameters
    ----------
    per_mass : s/(kg m2), how long it acts over the inertia

    """
    held = 0.0 if released and plant[BRAKE_STUCK] == 0.0 else plant[BRAKE]
    if hand != 0.0 and held == 0.0:
        return hand
    rub, goes = plant[COULOMB], omega if omega != 0.0 else torque
    if plant[STRIBECK] > 0.0:
        rub *= 1.0 + plant[STRIBECK] * exp(max(-abs(omega) / plant[STRIBECK_SPEED], LEAST_POWER))
    rub += plant[COULOMB_BACK] if goes < 0.0 else 0.0
    static = rub * plant[STICTION] + held
    pull = torque - plant[VISCOUS] * omega - math.copysign(rub + held, goes)
    new = omega + per_mass * pull
    sticks = abs(torque) <= static and new * omega <= 0.0
    return 0.0 if sticks else float(new)


@_jit
def hand_speed(t: float) -> float:
    """Return how fast a hand turns the shaft: a turn forward, a rest, a turn back; rad/s."""
    for start, side in ((0.2, 1.0), (1.4, -1.0)):
        u = (t - start) / 1.0
        if 0.0 < u < 1.0:
            wobble = 1.0 + 0.25 * math.sin(3.0 * TAU * u) - 0.2 * math.sin(5.0 * TAU * u)
            return side * TAU * (1.0 - math.cos(TAU * u)) * wobble
    return 0.0
