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
(SAG_AT, SAG_TO) = range(26, 28)
PLANT_SIZE = 28

# Firmware: indices into `firm` (float64 that hold float32 values).
(KP_D, KI_D, KP_Q, KI_Q, KP_W, KI_W, TORQUE_TO_CURRENT, DECOUPLE, F_LD, F_LQ, F_PSI) = range(11)
(TRIP_CURRENT, TRIP_VOLTAGE, MAX_CURRENT, MAX_SPEED, MAX_TRAVEL, MAX_TIME) = range(11, 17)
(DECIMATION, AVERAGE, F_PAIRS) = range(17, 20)
FIRM_SIZE = 20

# Continuous and controller state: indices into `state` (float64).
(I_D, I_Q, OMEGA, THETA, SUM_D, SUM_Q, SUM_W, V_ALPHA, V_BETA, THETA_START, V_BUS) = range(11)
STATE_SIZE = 11

# Discrete state: indices into `meta` (int64).
(RUNNING, ROW, ROW_SAMPLE, TRIP, RECORDED, CLOCK, BIN, EXPERIMENT_CLOCK, SEED) = range(9)
META_SIZE = 9

# One row of the step table.
(SAMPLES, MODE, ANGLE, REF_D, REF_Q, WAVE, TARGET, AMPLITUDE, FREQUENCY, PHASE, RECORD, REF_W) = (
    range(12)
)
ROW_SIZE = 12
MODE_ROTOR, MODE_FIXED, MODE_SPEED = 0, 1, 2
WAVE_NONE, WAVE_SINE, WAVE_SQUARE, WAVE_STEP, WAVE_NOISE = 0, 1, 2, 3, 4
ON_VD, ON_VQ, ON_ID, ON_IQ, ON_TORQUE, ON_SPEED = 1, 2, 3, 4, 5, 6

TRIP_NONE, TRIP_OVERCURRENT, TRIP_UNDERVOLTAGE, TRIP_HEARTBEAT = 0, 1, 2, 3
TRIP_LIMIT_CURRENT, TRIP_LIMIT_SPEED, TRIP_LIMIT_TRAVEL, TRIP_LIMIT_TIME = 4, 5, 6, 7
TRIP_RECORDER_FULL = 8

CHANNELS = (
    "t", "ia", "ib", "ic", "id", "iq", "vd", "vq", "id_ref", "iq_ref", "theta_e", "theta_m",
    "speed", "vdc",
)  # fmt: skip
N_CHANNELS = len(CHANNELS)

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
    flux_d = plant[LD] * i_d + plant[PSI]
    return (
        (vd - plant[R] * i_d + w * flux_q) / plant[LD],
        (vq - plant[R] * i_q - w * flux_d) / inc_q,
    )


@_jit
def _integrate(plant: Any, state: Any, energised: bool) -> None:
    """Advance the plant by one control period."""
    h = plant[TS]
    i_d, i_q, theta = state[I_D], state[I_Q], state[THETA] * plant[PAIRS]
    w = state[OMEGA] * plant[PAIRS]
    va, vb = state[V_ALPHA], state[V_BETA]
    if not energised:
        size = math.hypot(i_d, i_q)
        if size < 1e-9:
            va, vb = 0.0, 0.0
        else:  # the diodes return the current to the bus
            c, s = math.cos(theta), math.sin(theta)
            push = min(state[V_BUS] / 1.7320508, size * plant[LD] / h)
            va = -push * (i_d * c - i_q * s) / size
            vb = -push * (i_d * s + i_q * c) / size
    a1, b1 = _slope(plant, i_d, i_q, w, theta, va, vb)
    t2 = theta + 0.5 * h * w
    a2, b2 = _slope(plant, i_d + 0.5 * h * a1, i_q + 0.5 * h * b1, w, t2, va, vb)
    a3, b3 = _slope(plant, i_d + 0.5 * h * a2, i_q + 0.5 * h * b2, w, t2, va, vb)
    a4, b4 = _slope(plant, i_d + h * a3, i_q + h * b3, w, theta + h * w, va, vb)
    i_d += h / 6.0 * (a1 + 2.0 * a2 + 2.0 * a3 + a4)
    i_q += h / 6.0 * (b1 + 2.0 * b2 + 2.0 * b3 + b4)
    if not energised and math.hypot(i_d, i_q) < 0.05:
        i_d, i_q = 0.0, 0.0
    state[I_D], state[I_Q] = i_d, i_q
    bend = math.tanh(i_q / plant[I_SATURATION])
    more = plant[LQ] - plant[LQ_SATURATED]
    flux_q = plant[LQ_SATURATED] * i_q + more * plant[I_SATURATION] * bend
    torque = 1.5 * plant[PAIRS] * ((plant[LD] * i_d + plant[PSI]) * i_q - flux_q * i_d)
    hold = plant[COULOMB] + plant[BRAKE]
    omega = state[OMEGA]
    if omega == 0.0 and abs(torque) <= hold:
        return
    side = math.copysign(1.0, omega) if omega != 0.0 else math.copysign(1.0, torque)
    new = omega + h / plant[INERTIA] * (torque - plant[VISCOUS] * omega - side * hold)
    if omega != 0.0 and new * omega <= 0.0 and abs(torque) <= hold:
        new = 0.0
    state[THETA] += 0.5 * h * (omega + new)
    state[OMEGA] = new


@_jit
def _sensed(plant: Any, true: float, gain: float, offset: float, noise: float) -> Any:
    """Return one phase current as the converter reports it, A."""
    count = plant[COUNT]
    reading = round((true * gain + offset + noise) / count) * count
    return min(max(reading, -plant[FULL_SCALE]), plant[FULL_SCALE] - count)


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
    table : float32, (rows, 12), the steps being played
    columns : int64, (channels,), which quantities to record
    record : float32, (capacity, channels)
    sums : float64, (14,), what the recorder has added up in its current bin
    n : samples

    """
    Ts = plant[TS]
    ts32 = np.float32(Ts)
    values = np.zeros(14)
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
        pa, pb = alpha, -0.5 * alpha + 0.8660254037844386 * beta
        ma = _sensed(
            plant, pa, plant[GAIN_A], plant[OFFSET_A], plant[NOISE] * _normal(seed, clock, 1)
        )
        mb = _sensed(
            plant, pb, plant[GAIN_B], plant[OFFSET_B], plant[NOISE] * _normal(seed, clock, 2)
        )
        mc = _sensed(
            plant, -pa - pb, plant[GAIN_C], plant[OFFSET_C], plant[NOISE] * _normal(seed, clock, 3)
        )
        step = 2.0 * math.pi / plant[ENCODER_COUNTS]
        theta_m = math.floor(state[THETA] / step) * step
        if running:
            if max(abs(ma), max(abs(mb), abs(mc))) > firm[TRIP_CURRENT]:
                meta[TRIP] = TRIP_OVERCURRENT
            elif bus < firm[TRIP_VOLTAGE]:
                meta[TRIP] = TRIP_UNDERVOLTAGE
            elif abs(state[OMEGA]) > firm[MAX_SPEED]:
                meta[TRIP] = TRIP_LIMIT_SPEED
            elif abs(state[THETA] - state[THETA_START]) > firm[MAX_TRAVEL]:
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
        if running:
            row = table[meta[ROW]]
            k = meta[ROW_SAMPLE]
            wave = _wave(row, k, seed, clock, Ts)
            target = int(row[TARGET])
            fixed = int(row[MODE]) == MODE_FIXED
            frame = float(row[ANGLE]) if fixed else theta_m * firm[F_PAIRS]
            fc, fs = math.cos(frame), math.sin(frame)
            m_alpha, m_beta = (2.0 * ma - mb - mc) / 3.0, (mb - mc) / 1.7320508075688772
            y_d = np.float32(m_alpha * fc + m_beta * fs)
            y_q = np.float32(m_beta * fc - m_alpha * fs)
            r_d = np.float32(row[REF_D] + (wave if target == ON_ID else 0.0))
            more = wave if target == ON_IQ else 0.0
            if target == ON_TORQUE:
                more = wave * firm[TORQUE_TO_CURRENT]
            if int(row[MODE]) == MODE_SPEED:
                wanted = row[REF_W] + (wave if target == ON_SPEED else 0.0)
                miss = np.float32(wanted - state[OMEGA])
                most = np.float32(firm[MAX_CURRENT] * 0.9)
                out, kept = _control(
                    miss, np.float32(firm[KP_W]), np.float32(np.float32(firm[KI_W]) * ts32),
                    np.float32(state[SUM_W]), most,
                )  # fmt: skip
                state[SUM_W] = kept
                more += float(out)
            r_q = np.float32(row[REF_Q] + more)
            if math.hypot(float(y_d), float(y_q)) > firm[MAX_CURRENT]:
                meta[TRIP] = TRIP_LIMIT_CURRENT
            v_max = np.float32(bus / 1.7320508075688772)
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
            w_e = state[OMEGA] * firm[F_PAIRS]
            if firm[DECOUPLE] > 0.0 and not fixed:
                v_d -= w_e * firm[F_LQ] * float(y_q)
                v_q += w_e * (firm[F_LD] * float(y_d) + firm[F_PSI])
            v_d += wave if target == ON_VD else 0.0
            v_q += wave if target == ON_VQ else 0.0
            size = math.hypot(v_d, v_q)
            if size > float(v_max):
                v_d, v_q = v_d * float(v_max) / size, v_q * float(v_max) / size
            lead = 0.0 if fixed else 1.5 * Ts * w_e
            lc, ls = math.cos(frame + lead), math.sin(frame + lead)
            v_alpha, v_beta = v_d * lc - v_q * ls, v_d * ls + v_q * lc
            if row[RECORD] > 0.0:
                values[0] = meta[EXPERIMENT_CLOCK] * Ts
                values[1], values[2], values[3] = ma, mb, mc
                values[4], values[5], values[6], values[7] = y_d, y_q, v_d, v_q
                values[8], values[9], values[10] = r_d, r_q, frame
                values[11], values[12], values[13] = theta_m, state[OMEGA], bus
                every = int(firm[DECIMATION])
                averaged = firm[AVERAGE] > 0.0
                for j in range(14):
                    if averaged:
                        sums[j] += values[j] / every
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
        _integrate(plant, state, running or meta[RUNNING] == 1)
        # The command computed in this period is applied in the next one.
        scale = bus / plant[BUS]
        state[V_ALPHA], state[V_BETA] = v_alpha * scale, v_beta * scale
        meta[CLOCK] += 1
