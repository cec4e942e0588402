"""What the sensors say: three currents as the converter reports them, and the position sensor."""

import math

from oarlock.jit import njit
from oarlock.simulate.elementary import cos_sin, sin
from oarlock.simulate.layout import (
    CLIP_A,
    CORE_D,
    CORE_Q,
    COSINE_AT,
    COSINE_GAIN,
    COSINE_OFFSET,
    COUNT,
    COUNTS_AT,
    ENCODER_COUNTS,
    F_OFFSET_A,
    F_UNSENSED,
    FULL_SCALE,
    GAIN_A,
    HALL_AT,
    HALL_BEFORE,
    HALL_EDGE,
    HALL_SHORT,
    HALL_SPREAD,
    HALL_STEP,
    HALL_STUCK,
    HYSTERESIS,
    I_D,
    I_Q,
    INDEX_AT,
    INDEX_WANDER,
    KIND,
    MA,
    MISSING,
    NOISE,
    OFFSET_A,
    PAIRS,
    PER_COUNT,
    ROUND_AT,
    RUNOUT,
    RUNOUT_PHASE,
    SENSE_A,
    SENSOR_AT,
    SENSOR_ENCODER,
    SENSOR_NOISE,
    SENSOR_PAIRS,
    SENSOR_RESOLVER,
    SENSOR_SIDE,
    SENSOR_ZERO,
    SINE_AT,
    SINE_GAIN,
    SINE_OFFSET,
    SKEW,
    SLIP,
    TAU,
    THETA,
    TRUE_C,
    TRUE_S,
    WIRE_A,
    Numbers,
)
from oarlock.simulate.noise import normal

_jit = njit(inline=True)
_PER_TAU = 1.0 / TAU


@_jit
def _hall_code(plant: Numbers, electrical: float, mechanical: float) -> int:
    """Return the three hall lines as a number 0 to 7; pole pairs differ, smoothly over a turn."""
    code = 0
    for n in range(3):
        rise, fall = plant[HALL_EDGE + 2 * n], plant[HALL_EDGE + 2 * n + 1]
        if plant[HALL_SPREAD] != 0.0:
            own = mechanical * (n + 1)
            rise += plant[HALL_SPREAD] * sin(own)
            fall += plant[HALL_SPREAD] * sin(own + 2.0)
        at = electrical - n * plant[HALL_STEP]
        at -= TAU * math.floor((at - rise) * _PER_TAU)
        if at < math.pi + fall:
            code += 1 << n
    if plant[HALL_SHORT] > 0.0:  # the first two lines touch
        low = 1 if (code & 3) == 3 else 0
        code = (code & 4) + 3 * low
    if plant[HALL_STUCK] >= 0.0:
        code |= 1 << int(plant[HALL_STUCK])
    return code


@_jit
def read_sensor(plant: Numbers, state: Numbers, seed: int, clock: int) -> None:
    """Bring the sensor's lines up to date: counts, index, sine, cosine, halls."""
    true = state[THETA]
    at = plant[SENSOR_SIDE] * (true * (1.0 - plant[SLIP]) - plant[SENSOR_ZERO])
    if plant[RUNOUT] != 0.0:
        at += plant[RUNOUT] * sin(true + plant[RUNOUT_PHASE])
    h = plant[HYSTERESIS]
    at = min(max(state[SENSOR_AT], at - h), at + h)
    state[SENSOR_AT] = at
    turns = at * _PER_TAU
    turn = math.floor(turns)
    kind = int(plant[KIND])
    if kind == SENSOR_ENCODER:
        state[COUNTS_AT] = math.floor(turns * plant[ENCODER_COUNTS]) - plant[MISSING] * turn
        if turn != state[ROUND_AT]:
            edge = max(turn, state[ROUND_AT]) * (plant[ENCODER_COUNTS] - plant[MISSING])
            wander = plant[INDEX_WANDER] * normal(seed, clock, 11)
            state[INDEX_AT] = edge + math.floor(wander + 0.5)
    state[ROUND_AT] = turn
    if kind == SENSOR_RESOLVER:
        phase = at * plant[SENSOR_PAIRS]
        s = plant[SINE_GAIN] * sin(phase + plant[SKEW]) + plant[SINE_OFFSET]
        along, _ = cos_sin(phase)
        c = plant[COSINE_GAIN] * along + plant[COSINE_OFFSET]
        noise = plant[SENSOR_NOISE]
        step = 1.0 / 2048.0
        s = math.floor((s + noise * normal(seed, clock, 12)) / step + 0.5) * step
        c = math.floor((c + noise * normal(seed, clock, 13)) / step + 0.5) * step
        state[SINE_AT] = min(max(s, -1.0), 1.0 - step)
        state[COSINE_AT] = min(max(c, -1.0), 1.0 - step)
    electrical = at * plant[PAIRS]
    state[HALL_BEFORE] = state[HALL_AT]
    within = electrical - TAU * math.floor(electrical * _PER_TAU)
    state[HALL_AT] = _hall_code(plant, within, at)


@_jit
def _sensed(
    true: float, gain: float, offset: float, noise: float, most: float, count: float,
    per_count: float,
) -> float:  # fmt: skip
    """Return one phase current as the converter reports it, A."""
    reading = round((true * gain + offset + noise) * per_count) * count
    return float(min(max(reading, -most), most - count))


@_jit
def _line(plant: Numbers, phase: Numbers, n: int) -> float:
    """Return the true current that sensor `n` sits on; `phase` holds the motor's three."""
    return float(phase[int(plant[WIRE_A + int(plant[SENSE_A + n])])])


@_jit
def currents(
    plant: Numbers,
    firm: Numbers,
    state: Numbers,
    work: Numbers,
    phase: Numbers,
    seed: int,
    clock: int,
) -> None:
    """Read the three currents as the firmware has them, its offsets taken off."""
    theta_e = state[THETA] * plant[PAIRS]
    c, s = cos_sin(theta_e)
    i_d, i_q = state[I_D] + state[CORE_D], state[I_Q] + state[CORE_Q]
    work[TRUE_C], work[TRUE_S] = c, s
    alpha, beta = i_d * c - i_q * s, i_d * s + i_q * c
    phase[0], phase[1] = alpha, -0.5 * alpha + 0.8660254037844386 * beta
    phase[2] = -phase[0] - phase[1]
    count, per_count = plant[COUNT], work[PER_COUNT]
    for n in range(3):
        most = min(plant[FULL_SCALE], plant[CLIP_A]) if n == 0 else plant[FULL_SCALE]
        noise = plant[NOISE] * normal(seed, clock, n + 1)
        true = _line(plant, phase, n)
        reading = _sensed(true, plant[GAIN_A + n], plant[OFFSET_A + n], noise, most, count,
                          per_count)  # fmt: skip
        work[MA + n] = reading - firm[F_OFFSET_A + n]
    unsensed = int(firm[F_UNSENSED])
    if unsensed > 0:
        work[MA + unsensed - 1] = -(work[MA + unsensed % 3] + work[MA + (unsensed + 1) % 3])
