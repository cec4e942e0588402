"""One compiled loop: plant, inverter, current sense, controller, excitation, recorder.

One file, since a kernel's cache does not see changes in what it calls elsewhere. The plant
takes one RK4 step per control period with the stator voltage held, so that it turns in the
rotor frame as the rotor does. The controller is float32 and rounds as the firmware does.
"""

import math
from typing import Any

import numpy as np

from oarlock.jit import njit

# Plant: indices into `plant` (float64). SI, phase, peak.
(R, LD, LQ, LQ_SATURATED, I_SATURATION, PSI, PAIRS, INERTIA, VISCOUS, COULOMB, BRAKE) = range(11)
(V_DEAD, I_KNEE, BUS, BUS_RIPPLE, COUNT, FULL_SCALE, NOISE) = range(11, 18)
(OFFSET_A, OFFSET_B, OFFSET_C, GAIN_A, GAIN_B, GAIN_C, ENCODER_COUNTS, TS) = range(18, 26)
(SAG_AT, SAG_TO, LD_BEND, I_BEND) = range(26, 30)
# The shaft: static over sliding friction, extra friction backwards, cogging, load.
(STICTION, COULOMB_BACK, COGGING, COGGING_ORDER, LOAD, LOAD_SQUARE, BRAKE_STUCK, HAND) = range(
    30, 38
)
# Wiring: motor phase on each output, output on each current sensor, open phase (-1: none).
(WIRE_A, WIRE_B, WIRE_C, SENSE_A, SENSE_B, SENSE_C, OPEN_PHASE, CLIP_A) = range(38, 46)
# The position sensor and its faults.
(KIND, SENSOR_SIDE, SENSOR_ZERO, SENSOR_PAIRS, RUNOUT, RUNOUT_PHASE, HYSTERESIS) = range(46, 53)
(SINE_GAIN, COSINE_GAIN, SINE_OFFSET, COSINE_OFFSET, SKEW, SENSOR_NOISE) = range(53, 59)
(MISSING, SLIP, INDEX_WANDER, HALL_STEP, HALL_STUCK, HALL_SHORT, HALL_SPREAD) = range(59, 66)
HALL_EDGE = 66  # and five more: rad, electrical, of each hall's rise and fall
# A second mass on a shaft that twists (stiffness 0: one rigid mass); by what share friction is
# higher near standstill, and the speed over which that dies out.
(LOAD_INERTIA, STIFFNESS, SHAFT_DAMPING, STRIBECK, STRIBECK_SPEED) = range(72, 77)
PLANT_SIZE = 77
SENSOR_NONE, SENSOR_ENCODER, SENSOR_RESOLVER, SENSOR_HALL = 0, 1, 2, 3

# Firmware: indices into `firm` (float64 that hold float32 values).
(KP_D, KI_D, KP_Q, KI_Q, KP_W, KI_W, TORQUE_TO_CURRENT, DECOUPLE, F_LD, F_LQ, F_PSI) = range(11)
(TRIP_CURRENT, TRIP_VOLTAGE, MAX_CURRENT, MAX_SPEED, MAX_TRAVEL, MAX_TIME) = range(11, 17)
(DECIMATION, AVERAGE, F_PAIRS, F_OFFSET_A, F_OFFSET_B, F_OFFSET_C, F_UNSENSED) = range(17, 24)
(F_KIND, F_COUNTS, F_SENSOR_PAIRS, F_SIDE, F_ZERO, F_SINE, F_COSINE, F_RATIO, F_SKEW) = range(
    24, 33
)
F_HALL = 33  # and seven more: rad, electrical, where each state begins; below -9: illegal
(F_R, F_OBSERVER) = range(41, 43)
FIRM_SIZE = 43

# Continuous and controller state: indices into `state` (float64).
(I_D, I_Q, OMEGA, THETA, SUM_D, SUM_Q, SUM_W, V_ALPHA, V_BETA, THETA_START, V_BUS) = range(11)
(THETA_M, SPEED_M, SENSOR_AT, COUNTS_AT, INDEX_AT, SINE_AT, COSINE_AT, ROUND_AT) = range(11, 19)
(HALL_AT, HALL_AGE, HALL_FROM, HALL_SPEED, HALL_TURNS, HALL_BEFORE) = range(19, 25)
(FLUX_A, FLUX_B, SEEN_THETA, SEEN_SPEED, U_ALPHA, U_BETA, M_ALPHA, M_BETA) = range(25, 33)
(LATE_ALPHA, LATE_BETA, FRAME_AT, OMEGA_LOAD, TWIST) = range(33, 38)
STATE_SIZE = 38
_SUBSTEPS = 4  # of the shaft, where it twists

# Discrete state: indices into `meta` (int64).
(RUNNING, ROW, ROW_SAMPLE, TRIP, RECORDED, CLOCK, BIN, EXPERIMENT_CLOCK, SEED) = range(9)
META_SIZE = 9

# One row of the step table.
(SAMPLES, MODE, ANGLE, REF_D, REF_Q, WAVE, TARGET, AMPLITUDE, FREQUENCY, PHASE, RECORD, REF_W) = (
    range(12)
)
RELEASE = 12
ROW_SIZE = 13
MODE_ROTOR, MODE_FIXED, MODE_SPEED, MODE_VOLTAGE, MODE_OFF, MODE_SENSORLESS = 0, 1, 2, 3, 4, 5
MODE_CARRIED = 6
WAVE_NONE, WAVE_SINE, WAVE_SQUARE, WAVE_STEP, WAVE_NOISE = 0, 1, 2, 3, 4
ON_VD, ON_VQ, ON_ID, ON_IQ, ON_TORQUE, ON_SPEED = 1, 2, 3, 4, 5, 6

TRIP_NONE, TRIP_OVERCURRENT, TRIP_UNDERVOLTAGE, TRIP_HEARTBEAT = 0, 1, 2, 3
TRIP_LIMIT_CURRENT, TRIP_LIMIT_SPEED, TRIP_LIMIT_TRAVEL, TRIP_LIMIT_TIME = 4, 5, 6, 7
TRIP_RECORDER_FULL = 8

CHANNELS = (
    "t", "ia", "ib", "ic", "id", "iq", "vd", "vq", "id_ref", "iq_ref", "theta_e", "theta_m",
    "speed", "vdc", "counts", "index", "sine", "cosine", "hall", "theta_observed",
)  # fmt: skip
N_CHANNELS = len(CHANNELS)
TAU = 2.0 * math.pi
SPEED_FILTER = 0.003  # s, of the speed that the firmware makes of the sensor's angle

_jit = njit()


@_jit
def _uniform(seed: int, clock: int, stream: int) -> float:
    """Return a uniform number in (0, 1) that depends on its three arguments alone."""
    x = np.uint64(seed) * np.uint64(0x9E3779B97F4A7C15) + np.uint64(clock)
    x = x * np.uint64(0xBF58476D1CE4E5B9) + np.uint64(stream)
    for _ in range(2):
        x ^= x >> np.uint64(30)
        x *= np.uint64(0xBF58476D1CE4E5B9)
        x ^= x >> np.uint64(27)
        x *= np.uint64(0x94D049BB133111EB)
        x ^= x >> np.uint64(31)
    return (float(x >> np.uint64(11)) + 0.5) / 9007199254740992.0


@_jit
def _normal(seed: int, clock: int, stream: int) -> float:
    u, v = _uniform(seed, clock, 2 * stream), _uniform(seed, clock, 2 * stream + 1)
    return math.sqrt(-2.0 * math.log(u)) * math.cos(2.0 * math.pi * v)


@_jit
def _d_axis(plant: Any, i_d: float) -> tuple[float, float]:
    """Return flux and incremental inductance along d: with the magnet it saturates, against not."""
    x, bend = i_d / plant[I_BEND], plant[LD_BEND]
    size = abs(x)
    log_cosh = size + math.log1p(math.exp(-2.0 * size)) - 0.6931471805599453
    flux = plant[PSI] + plant[LD] * (i_d - bend * plant[I_BEND] * log_cosh)
    return flux, plant[LD] * (1.0 - bend * math.tanh(x))


@_jit
def _slope(
    plant: Any, i_d: float, i_q: float, w: float, theta: float, va: float, vb: float
) -> tuple[float, float]:
    """Return di/dt in the rotor frame under a held stator voltage less the dead-time loss."""
    c, s = math.cos(theta), math.sin(theta)
    ia, ib_ = i_d * c - i_q * s, i_d * s + i_q * c
    pa, pb = ia, -0.5 * ia + 0.8660254037844386 * ib_
    pc = -pa - pb
    knee, lost = plant[I_KNEE], plant[V_DEAD]
    la, lb, lc = (
        lost * math.tanh(pa / knee),
        lost * math.tanh(pb / knee),
        lost * math.tanh(pc / knee),
    )
    va -= (2.0 * la - lb - lc) / 3.0
    vb -= (lb - lc) / 1.7320508075688772
    vd, vq = va * c + vb * s, vb * c - va * s
    bend = math.tanh(i_q / plant[I_SATURATION])
    more = plant[LQ] - plant[LQ_SATURATED]
    flux_q = plant[LQ_SATURATED] * i_q + more * plant[I_SATURATION] * bend
    inc_q = plant[LQ_SATURATED] + more * (1.0 - bend * bend)
    flux_d, inc_d = _d_axis(plant, i_d)
    return (
        (vd - plant[R] * i_d + w * flux_q) / inc_d,
        (vq - plant[R] * i_q - w * flux_d) / inc_q,
    )


@_jit
def _integrate(plant: Any, state: Any, energised: bool) -> None:
    """Advance the plant by one control period."""
    h = plant[TS]
    i_d, i_q, theta = state[I_D], state[I_Q], state[THETA] * plant[PAIRS]
    w = state[OMEGA] * plant[PAIRS]
    if not energised:  # the diodes return the current to the bus, and no more flows
        size = math.hypot(i_d, i_q)
        left = max(size - state[V_BUS] / 1.7320508 * h / plant[LD], 0.0)
        state[I_D] = i_d * left / size if size > 0.0 else 0.0
        state[I_Q] = i_q * left / size if size > 0.0 else 0.0
        return
    va, vb = state[V_ALPHA], state[V_BETA]
    a1, b1 = _slope(plant, i_d, i_q, w, theta, va, vb)
    t2 = theta + 0.5 * h * w
    a2, b2 = _slope(plant, i_d + 0.5 * h * a1, i_q + 0.5 * h * b1, w, t2, va, vb)
    a3, b3 = _slope(plant, i_d + 0.5 * h * a2, i_q + 0.5 * h * b2, w, t2, va, vb)
    a4, b4 = _slope(plant, i_d + h * a3, i_q + h * b3, w, theta + h * w, va, vb)
    i_d += h / 6.0 * (a1 + 2.0 * a2 + 2.0 * a3 + a4)
    i_q += h / 6.0 * (b1 + 2.0 * b2 + 2.0 * b3 + b4)
    if plant[OPEN_PHASE] >= 0.0:  # what would flow in the open phase cannot
        turned = state[THETA] * plant[PAIRS] - plant[OPEN_PHASE] * TAU / 3.0
        c, s = math.cos(turned), math.sin(turned)
        along = i_d * c - i_q * s
        i_d, i_q = i_d - along * c, i_q + along * s
    state[I_D], state[I_Q] = i_d, i_q


@_jit
def _turn(plant: Any, state: Any, released: bool, hand: float) -> None:
    """Advance the shaft by one control period; `hand` (rad/s) is what a hand does to it.

    Where it twists, in parts of the period, speeds first: the swing neither grows nor dies.
    """
    h = plant[TS]
    i_d, i_q = state[I_D], state[I_Q]
    bend = math.tanh(i_q / plant[I_SATURATION])
    more = plant[LQ] - plant[LQ_SATURATED]
    flux_q = plant[LQ_SATURATED] * i_q + more * plant[I_SATURATION] * bend
    flux_d, _ = _d_axis(plant, i_d)
    omega = state[OMEGA]
    torque = 1.5 * plant[PAIRS] * (flux_d * i_q - flux_q * i_d)
    torque -= plant[COGGING] * math.sin(plant[COGGING_ORDER] * state[THETA])
    if plant[STIFFNESS] > 0.0:
        part = h / _SUBSTEPS
        for _ in range(_SUBSTEPS):
            slip = state[OMEGA] - state[OMEGA_LOAD]
            through = plant[STIFFNESS] * state[TWIST] + plant[SHAFT_DAMPING] * slip
            far = state[OMEGA_LOAD]
            pull = through - plant[LOAD] - plant[LOAD_SQUARE] * far * abs(far)
            state[OMEGA_LOAD] = far + part / plant[LOAD_INERTIA] * pull
            _turn_mass(plant, state, torque - through, released, hand, part)
            state[TWIST] += part * (state[OMEGA] - state[OMEGA_LOAD])
        return
    torque -= plant[LOAD] + plant[LOAD_SQUARE] * omega * abs(omega)
    _turn_mass(plant, state, torque, released, hand, h)


@_jit
def _turn_mass(
    plant: Any, state: Any, torque: float, released: bool, hand: float, h: float
) -> None:
    """Advance the motor's mass by `h` seconds under a torque, with its friction and brake."""
    omega = state[OMEGA]
    held = 0.0 if released and plant[BRAKE_STUCK] == 0.0 else plant[BRAKE]
    if hand != 0.0 and held == 0.0:
        state[THETA] += 0.5 * h * (omega + hand)
        state[OMEGA] = hand
        return
    rub = plant[COULOMB]
    if plant[STRIBECK] > 0.0:
        rub *= 1.0 + plant[STRIBECK] * math.exp(-abs(omega) / plant[STRIBECK_SPEED])
    if omega < 0.0 or (omega == 0.0 and torque < 0.0):
        rub += plant[COULOMB_BACK]
    static = rub * plant[STICTION] + held
    if omega == 0.0 and abs(torque) <= static:
        return
    side = math.copysign(1.0, omega) if omega != 0.0 else math.copysign(1.0, torque)
    pull = torque - plant[VISCOUS] * omega - side * (rub + held)
    new = omega + h / plant[INERTIA] * pull
    if omega != 0.0 and new * omega <= 0.0 and abs(torque) <= static:
        new = 0.0
    state[THETA] += 0.5 * h * (omega + new)
    state[OMEGA] = new


@_jit
def _hand_speed(t: float) -> float:
    """Return how fast a hand turns the shaft: a turn forward, a rest, a turn back; rad/s."""
    for start, side in ((0.2, 1.0), (1.4, -1.0)):
        u = (t - start) / 1.0
        if 0.0 < u < 1.0:
            wobble = 1.0 + 0.25 * math.sin(3.0 * TAU * u) - 0.2 * math.sin(5.0 * TAU * u)
            return side * TAU * (1.0 - math.cos(TAU * u)) * wobble
    return 0.0


@_jit
def _hall_code(plant: Any, electrical: float, mechanical: float) -> int:
    """Return the three hall lines as a number 0 to 7; pole pairs differ, smoothly over a turn."""
    code = 0
    for n in range(3):
        own = mechanical * (n + 1)
        rise = plant[HALL_EDGE + 2 * n] + plant[HALL_SPREAD] * math.sin(own)
        fall = plant[HALL_EDGE + 2 * n + 1] + plant[HALL_SPREAD] * math.sin(own + 2.0)
        at = electrical - n * plant[HALL_STEP]
        at -= TAU * math.floor((at - rise) / TAU)
        if at < math.pi + fall:
            code += 1 << n
    if plant[HALL_SHORT] > 0.0:  # the first two lines touch
        low = 1 if (code & 3) == 3 else 0
        code = (code & 4) + 3 * low
    if plant[HALL_STUCK] >= 0.0:
        code |= 1 << int(plant[HALL_STUCK])
    return code


@_jit
def _read_sensor(plant: Any, state: Any, seed: int, clock: int) -> None:
    """Bring the sensor's lines up to date: counts, index, sine, cosine, halls."""
    true = state[THETA]
    at = plant[SENSOR_SIDE] * (true * (1.0 - plant[SLIP]) - plant[SENSOR_ZERO])
    at += plant[RUNOUT] * math.sin(true + plant[RUNOUT_PHASE])
    h = plant[HYSTERESIS]
    at = min(max(state[SENSOR_AT], at - h), at + h)
    state[SENSOR_AT] = at
    turn = math.floor(at / TAU)
    kind = int(plant[KIND])
    if kind == SENSOR_ENCODER:
        state[COUNTS_AT] = math.floor(at / TAU * plant[ENCODER_COUNTS]) - plant[MISSING] * turn
        if turn != state[ROUND_AT]:
            edge = max(turn, state[ROUND_AT]) * (plant[ENCODER_COUNTS] - plant[MISSING])
            wander = plant[INDEX_WANDER] * _normal(seed, clock, 11)
            state[INDEX_AT] = edge + math.floor(wander + 0.5)
    state[ROUND_AT] = turn
    if kind == SENSOR_RESOLVER:
        phase = at * plant[SENSOR_PAIRS]
        s = plant[SINE_GAIN] * math.sin(phase + plant[SKEW]) + plant[SINE_OFFSET]
        c = plant[COSINE_GAIN] * math.cos(phase) + plant[COSINE_OFFSET]
        noise = plant[SENSOR_NOISE]
        step = 1.0 / 2048.0
        s = math.floor((s + noise * _normal(seed, clock, 12)) / step + 0.5) * step
        c = math.floor((c + noise * _normal(seed, clock, 13)) / step + 0.5) * step
        state[SINE_AT] = min(max(s, -1.0), 1.0 - step)
        state[COSINE_AT] = min(max(c, -1.0), 1.0 - step)
    electrical = at * plant[PAIRS]
    state[HALL_BEFORE] = state[HALL_AT]
    state[HALL_AT] = _hall_code(plant, electrical - TAU * math.floor(electrical / TAU), at)


@_jit
def _wrapped(angle: float) -> float:
    """Return an angle between -pi and pi."""
    return angle - TAU * math.floor((angle + math.pi) / TAU)


@_jit
def _angle(plant: Any, firm: Any, state: Any) -> None:
    """Make the firmware's mechanical angle and speed of the sensor's lines."""
    Ts, before = plant[TS], state[THETA_M]
    kind = int(firm[F_KIND])
    if kind == SENSOR_ENCODER and firm[F_COUNTS] > 0.0:
        state[THETA_M] = firm[F_SIDE] * TAU * state[COUNTS_AT] / firm[F_COUNTS]
    elif kind == SENSOR_RESOLVER and firm[F_SENSOR_PAIRS] > 0.0:
        c = state[COSINE_AT] - firm[F_COSINE]
        s = (state[SINE_AT] - firm[F_SINE]) / firm[F_RATIO]
        s = (s - c * math.sin(firm[F_SKEW])) / math.cos(firm[F_SKEW])
        rounds = firm[F_SIDE] * math.atan2(s, c)
        last = before * firm[F_SENSOR_PAIRS]
        state[THETA_M] = (last + _wrapped(rounds - last)) / firm[F_SENSOR_PAIRS]
    elif kind == SENSOR_HALL:
        _hall_angle(plant, firm, state)
        return
    elif kind == SENSOR_NONE:
        state[THETA_M] = state[SEEN_THETA] / firm[F_PAIRS] if firm[F_PAIRS] > 0.0 else 0.0
        state[SPEED_M] = state[SEEN_SPEED] / firm[F_PAIRS] if firm[F_PAIRS] > 0.0 else 0.0
        return
    raw = (state[THETA_M] - before) / Ts
    state[SPEED_M] += (raw - state[SPEED_M]) * min(Ts / SPEED_FILTER, 1.0)


@_jit
def _sector_end(firm: Any, start: float) -> float:
    """Return where the sector that begins at `start` ends: the next beginning, rad onwards."""
    best = TAU
    for n in range(8):
        if firm[F_HALL + n] > -9.0:
            ahead = firm[F_HALL + n] - start
            ahead -= TAU * math.floor(ahead / TAU)
            if 1e-6 < ahead < best:
                best = ahead
    return best


@_jit
def _hall_angle(plant: Any, firm: Any, state: Any) -> None:
    """Make angle and speed of the hall states and their table, interpolated by the last speed."""
    Ts, pairs = plant[TS], max(firm[F_PAIRS], 1.0)
    code, last = int(state[HALL_AT]), int(state[HALL_BEFORE])
    state[HALL_AGE] += Ts
    start = firm[F_HALL + code]
    if start < -9.0:
        return  # an illegal state says nothing: the angle stays
    width = _sector_end(firm, start)
    old = state[THETA_M] * pairs
    if code != last and firm[F_HALL + last] > -9.0:
        ahead = _wrapped(start + 0.5 * width - firm[F_HALL + last]
                         - 0.5 * _sector_end(firm, firm[F_HALL + last]))  # fmt: skip
        side = math.copysign(1.0, ahead)
        edge = start if side > 0.0 else start + width
        length = _sector_end(firm, firm[F_HALL + last])
        same = side * state[HALL_SPEED] >= 0.0
        fresh = side * length / max(state[HALL_AGE], Ts)
        state[HALL_SPEED] = fresh if same and state[HALL_AGE] < 0.5 else 0.0
        state[HALL_FROM], state[HALL_AGE] = edge, 0.0
        if not same:
            state[HALL_SPEED] = side * 1e-3
    if abs(state[HALL_SPEED]) * state[HALL_AGE] > 2.0 * width:
        state[HALL_SPEED] *= 0.98  # the next edge is overdue
    into = state[HALL_FROM] + state[HALL_SPEED] * state[HALL_AGE]
    middle = start + 0.5 * width
    if abs(state[HALL_SPEED]) < 1.0:
        into = middle
    off = min(max(_wrapped(into - middle), -0.5 * width), 0.5 * width)
    at = middle + off
    state[THETA_M] = (old + _wrapped(at - old)) / pairs
    state[SPEED_M] += (state[HALL_SPEED] / pairs - state[SPEED_M]) * min(Ts / SPEED_FILTER, 1.0)


@_jit
def _observe(plant: Any, firm: Any, state: Any) -> None:
    """Follow the rotor by its flux: active flux from the voltage model, then a tracking loop.

    The stator flux is the integral of v - R i, drawn to the magnet's size by the observer's
    gain; less Lq i it lies along d whatever the saliency (Boldea, Paicu and Andreescu 2008;
    Lee, Hong, Nam, Ortega, Praly and Astolfi 2010).
    """
    Ts, Lq, psi = plant[TS], firm[F_LQ], firm[F_PSI]
    a0, b0 = state[FLUX_A] - Lq * state[M_ALPHA], state[FLUX_B] - Lq * state[M_BETA]
    c, s = math.cos(state[SEEN_THETA]), math.sin(state[SEEN_THETA])
    i_d = state[M_ALPHA] * c + state[M_BETA] * s
    most = max(psi + (firm[F_LD] - Lq) * i_d, 0.2 * psi)
    pull = 0.5 * firm[F_OBSERVER] * (1.0 - (a0 * a0 + b0 * b0) / (most * most))
    state[FLUX_A] += Ts * (state[LATE_ALPHA] - firm[F_R] * state[M_ALPHA] + pull * a0)
    state[FLUX_B] += Ts * (state[LATE_BETA] - firm[F_R] * state[M_BETA] + pull * b0)
    a, b = state[FLUX_A] - Lq * state[M_ALPHA], state[FLUX_B] - Lq * state[M_BETA]
    wide = firm[F_OBSERVER]
    seen = state[SEEN_THETA] + Ts * state[SEEN_SPEED]
    c, s = math.cos(seen), math.sin(seen)
    miss = math.atan2(b * c - a * s, a * c + b * s)
    state[SEEN_THETA] = seen + 2.0 * wide * Ts * miss
    state[SEEN_SPEED] += wide * wide * Ts * miss


@_jit
def _sensed(plant: Any, true: float, gain: float, offset: float, noise: float, most: float) -> Any:
    """Return one phase current as the converter reports it, A."""
    count = plant[COUNT]
    reading = round((true * gain + offset + noise) / count) * count
    return min(max(reading, -most), most - count)


@_jit
def _line(plant: Any, phase: Any, n: int) -> Any:
    """Return the true current that sensor `n` sits on; `phase` holds the motor's three."""
    return phase[int(plant[WIRE_A + int(plant[SENSE_A + n])])]


@_jit
def _wave(row: Any, k: int, seed: int, clock: int, Ts: float) -> Any:
    kind = int(row[WAVE])
    if kind == 0:
        return 0.0
    phase = row[FREQUENCY] * k * Ts + row[PHASE] / (2.0 * math.pi)
    if kind == 1:
        return row[AMPLITUDE] * math.sin(2.0 * math.pi * (phase - math.floor(phase)))
    if kind == 2:
        return row[AMPLITUDE] if phase - math.floor(phase) < 0.5 else -row[AMPLITUDE]
    if kind == 3:
        return row[AMPLITUDE]
    return row[AMPLITUDE] * (2.0 * _uniform(seed, clock, 97) - 1.0)


@_jit
def _control(e: Any, kp: Any, ki_ts: Any, total: Any, limit: Any) -> tuple[Any, Any]:
    """One PI step in float32, limited, holding its integral while limited."""
    summed = np.float32(total + np.float32(ki_ts * e))
    u = np.float32(np.float32(kp * e) + summed)
    if u > limit:
        return limit, (total if e > 0 else summed)
    if u < -limit:
        return np.float32(-limit), (total if e < 0 else summed)
    return u, summed


@_jit
def advance(
    plant: Any, firm: Any, table: Any, rows: int, state: Any, meta: Any, columns: Any, record: Any,
    sums: Any, n: int,
) -> None:  # fmt: skip
    """Advance the drive by `n` control periods; every array is changed in place.

    Parameters
    ----------
    plant, firm, state, meta : see the index names above
    table : float32, (rows, 13), the steps being played
    columns : int64, (channels,), which quantities to record
    record : float32, (capacity, channels)
    sums : float64, (channels known,), what the recorder has added up in its current bin
    n : samples

    """
    Ts = plant[TS]
    ts32 = np.float32(Ts)
    values = np.zeros(N_CHANNELS)
    phase, out = np.zeros(3), np.zeros(3)
    for _ in range(n):
        clock, seed = meta[CLOCK], meta[SEED]
        time = clock * Ts
        bus = plant[BUS] * (1.0 + plant[BUS_RIPPLE] * math.sin(2.0 * math.pi * 300.0 * time))
        running = meta[RUNNING] == 1
        if running and plant[SAG_AT] >= 0.0 and meta[EXPERIMENT_CLOCK] * Ts >= plant[SAG_AT]:
            bus = plant[SAG_TO]
        state[V_BUS] = bus
        theta_e = state[THETA] * plant[PAIRS]
        c, s = math.cos(theta_e), math.sin(theta_e)
        alpha, beta = state[I_D] * c - state[I_Q] * s, state[I_D] * s + state[I_Q] * c
        phase[0], phase[1] = alpha, -0.5 * alpha + 0.8660254037844386 * beta
        phase[2] = -phase[0] - phase[1]
        ma = _sensed(
            plant, _line(plant, phase, 0), plant[GAIN_A], plant[OFFSET_A],
            plant[NOISE] * _normal(seed, clock, 1), min(plant[FULL_SCALE], plant[CLIP_A]),
        ) - firm[F_OFFSET_A]  # fmt: skip
        mb = _sensed(
            plant, _line(plant, phase, 1), plant[GAIN_B], plant[OFFSET_B],
            plant[NOISE] * _normal(seed, clock, 2), plant[FULL_SCALE],
        ) - firm[F_OFFSET_B]  # fmt: skip
        mc = _sensed(
            plant, _line(plant, phase, 2), plant[GAIN_C], plant[OFFSET_C],
            plant[NOISE] * _normal(seed, clock, 3), plant[FULL_SCALE],
        ) - firm[F_OFFSET_C]  # fmt: skip
        if firm[F_UNSENSED] == 1.0:
            ma = -mb - mc
        elif firm[F_UNSENSED] == 2.0:
            mb = -ma - mc
        elif firm[F_UNSENSED] == 3.0:
            mc = -ma - mb
        _read_sensor(plant, state, seed, clock)
        _angle(plant, firm, state)
        theta_m = state[THETA_M]
        if running:
            high = max(abs(ma), max(abs(mb), abs(mc))) > firm[TRIP_CURRENT]
            if high and table[meta[ROW], MODE] != MODE_OFF:
                meta[TRIP] = TRIP_OVERCURRENT
            elif bus < firm[TRIP_VOLTAGE]:
                meta[TRIP] = TRIP_UNDERVOLTAGE
            elif abs(state[SPEED_M]) > firm[MAX_SPEED]:
                meta[TRIP] = TRIP_LIMIT_SPEED
            elif abs(theta_m - state[THETA_START]) > firm[MAX_TRAVEL]:
                meta[TRIP] = TRIP_LIMIT_TRAVEL
            elif meta[EXPERIMENT_CLOCK] * Ts > firm[MAX_TIME]:
                meta[TRIP] = TRIP_LIMIT_TIME
            elif meta[ROW_SAMPLE] >= table[meta[ROW], SAMPLES]:
                meta[ROW] += 1
                meta[ROW_SAMPLE] = 0
                if meta[ROW] >= rows:
                    running = False
                    meta[RUNNING] = 2
            if meta[TRIP] != TRIP_NONE:
                running = False
                meta[RUNNING] = 3
        v_alpha, v_beta = 0.0, 0.0
        gates, released, hand = False, False, 0.0
        if running:
            row = table[meta[ROW]]
            k = meta[ROW_SAMPLE]
            mode = int(row[MODE])
            released = row[RELEASE] > 0.0
            gates = mode != MODE_OFF
            if not gates and plant[HAND] > 0.0:
                hand = _hand_speed(meta[EXPERIMENT_CLOCK] * Ts)
            wave = _wave(row, k, seed, clock, Ts)
            target = int(row[TARGET])
            m_alpha, m_beta = (2.0 * ma - mb - mc) / 3.0, (mb - mc) / 1.7320508075688772
            state[M_ALPHA], state[M_BETA] = m_alpha, m_beta
            if firm[F_OBSERVER] > 0.0 and gates:
                _observe(plant, firm, state)
            turning = mode in (MODE_FIXED, MODE_VOLTAGE, MODE_CARRIED)
            w_e = state[SPEED_M] * firm[F_PAIRS]
            frame = theta_m * firm[F_PAIRS] - firm[F_ZERO]
            if turning:
                w_e = float(row[REF_W])
                frame = float(row[ANGLE]) + w_e * k * Ts
                if mode == MODE_CARRIED:  # on from where the frame is
                    frame = state[FRAME_AT] + w_e * Ts
            elif mode == MODE_SENSORLESS:
                frame, w_e = state[SEEN_THETA], state[SEEN_SPEED]
            state[FRAME_AT] = frame
            fc, fs = math.cos(frame), math.sin(frame)
            y_d = np.float32(m_alpha * fc + m_beta * fs)
            y_q = np.float32(m_beta * fc - m_alpha * fs)
            r_d = np.float32(row[REF_D] + (wave if target == ON_ID else 0.0))
            more = wave if target == ON_IQ else 0.0
            if target == ON_TORQUE:
                more = wave * firm[TORQUE_TO_CURRENT]
            if mode in (MODE_SPEED, MODE_SENSORLESS):
                wanted = row[REF_W] + (wave if target == ON_SPEED else 0.0)
                miss = np.float32(wanted - w_e / max(firm[F_PAIRS], 1.0))
                most = np.float32(firm[MAX_CURRENT] * 0.9)
                push, kept = _control(
                    miss, np.float32(firm[KP_W]), np.float32(np.float32(firm[KI_W]) * ts32),
                    np.float32(state[SUM_W]), most,
                )  # fmt: skip
                state[SUM_W] = kept
                more += float(push)
            r_q = np.float32(row[REF_Q] + more)
            if math.hypot(float(y_d), float(y_q)) > firm[MAX_CURRENT]:
                meta[TRIP] = TRIP_LIMIT_CURRENT
            v_max = np.float32(bus / 1.7320508075688772)
            v_d, v_q = 0.0, 0.0
            if mode == MODE_VOLTAGE:
                v_d, v_q = float(r_d), float(r_q)
            elif gates:
                u_d, sum_d = _control(
                    np.float32(r_d - y_d), np.float32(firm[KP_D]),
                    np.float32(np.float32(firm[KI_D]) * ts32), np.float32(state[SUM_D]), v_max,
                )  # fmt: skip
                room = np.float32(math.sqrt(max(float(v_max) ** 2 - float(u_d) ** 2, 0.0)))
                u_q, sum_q = _control(
                    np.float32(r_q - y_q), np.float32(firm[KP_Q]),
                    np.float32(np.float32(firm[KI_Q]) * ts32), np.float32(state[SUM_Q]), room,
                )  # fmt: skip
                state[SUM_D], state[SUM_Q] = sum_d, sum_q
                v_d, v_q = float(u_d), float(u_q)
            if firm[DECOUPLE] > 0.0 and gates and not turning:
                v_d -= w_e * firm[F_LQ] * float(y_q)
                v_q += w_e * (firm[F_LD] * float(y_d) + firm[F_PSI])
            if gates:
                v_d += wave if target == ON_VD else 0.0
                v_q += wave if target == ON_VQ else 0.0
            size = math.hypot(v_d, v_q)
            if size > float(v_max):
                v_d, v_q = v_d * float(v_max) / size, v_q * float(v_max) / size
            lead = 1.5 * Ts * w_e
            lc, ls = math.cos(frame + lead), math.sin(frame + lead)
            v_alpha, v_beta = v_d * lc - v_q * ls, v_d * ls + v_q * lc
            if row[RECORD] > 0.0:
                values[0] = meta[EXPERIMENT_CLOCK] * Ts
                values[1], values[2], values[3] = ma, mb, mc
                values[4], values[5], values[6], values[7] = y_d, y_q, v_d, v_q
                values[8], values[9], values[10] = r_d, r_q, frame
                values[11], values[12], values[13] = theta_m, state[SPEED_M], bus
                values[14], values[15] = state[COUNTS_AT], state[INDEX_AT]
                values[16], values[17] = state[SINE_AT], state[COSINE_AT]
                values[18], values[19] = state[HALL_AT], state[SEEN_THETA]
                every = int(firm[DECIMATION])
                averaged = firm[AVERAGE] > 0.0
                for j in range(N_CHANNELS):
                    if averaged and j != 18:
                        sums[j] += values[j] / every
                    elif averaged:  # the mean of hall states is none: the one in the middle
                        if meta[BIN] == every // 2:
                            sums[j] = values[j]
                    elif meta[BIN] == 0:
                        sums[j] = values[j]
                meta[BIN] += 1
                if meta[BIN] == every:
                    if meta[RECORDED] < record.shape[0]:
                        for j in range(columns.size):
                            record[meta[RECORDED], j] = sums[columns[j]]
                        meta[RECORDED] += 1
                    else:
                        meta[TRIP] = TRIP_RECORDER_FULL
                    meta[BIN] = 0
                    sums[:] = 0.0
            meta[ROW_SAMPLE] += 1
            meta[EXPERIMENT_CLOCK] += 1
        _integrate(plant, state, gates)
        _turn(plant, state, released, hand)
        # The command computed in this period is applied in the next one, each output to the
        # phase that it is wired to; the observer sees it when its current is sampled.
        state[LATE_ALPHA], state[LATE_BETA] = state[U_ALPHA], state[U_BETA]
        state[U_ALPHA], state[U_BETA] = v_alpha, v_beta
        scale = bus / plant[BUS]
        for j in range(3):
            turned = j * TAU / 3.0
            out[int(plant[WIRE_A + j])] = v_alpha * math.cos(turned) + v_beta * math.sin(turned)
        state[V_ALPHA] = scale * (2.0 * out[0] - out[1] - out[2]) / 3.0
        state[V_BETA] = scale * (out[1] - out[2]) / 1.7320508075688772
        meta[CLOCK] += 1
