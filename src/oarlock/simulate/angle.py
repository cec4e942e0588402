"""The firmware's angle and speed, made of the sensor's lines."""

import math

from oarlock.jit import njit
from oarlock.simulate.layout import (
    COSINE_AT,
    COUNTS_AT,
    F_COSINE,
    F_COUNTS,
    F_HALL,
    F_KIND,
    F_PAIRS,
    F_RATIO,
    F_SENSOR_PAIRS,
    F_SIDE,
    F_SINE,
    F_SKEW,
    HALL_AGE,
    HALL_AT,
    HALL_BEFORE,
    HALL_FROM,
    HALL_SPEED,
    HISTORY,
    HISTORY_AT,
    HISTORY_LENGTH,
    SEEN_SPEED,
    SEEN_THETA,
    SENSOR_ENCODER,
    SENSOR_HALL,
    SENSOR_NONE,
    SENSOR_RESOLVER,
    SINCE,
    SINE_AT,
    SPEED_M,
    TAU,
    THETA_LAST,
    THETA_M,
    W_EVERY,
    W_LAG,
    W_SLOPE,
    Numbers,
    Whole,
)

_jit = njit(inline=True)
_ILLEGAL = -9.0  # rad; what lies below marks a hall state that cannot be


@_jit
def _wrapped(angle: float) -> float:
    """Return an angle between -pi and pi."""
    return angle - TAU * math.floor((angle + math.pi) / TAU)


@_jit
def angle(firm: Numbers, state: Numbers, Ts: float, of_count: float) -> None:
    """Make the firmware's mechanical angle and speed of the sensor's lines.

    Parameters
    ----------
    of_count : rad that an encoder's count stands for, with its side

    """
    before, kind = state[THETA_M], int(firm[F_KIND])
    if kind == SENSOR_ENCODER and firm[F_COUNTS] > 0.0:
        state[THETA_M] = of_count * state[COUNTS_AT]
    elif kind == SENSOR_RESOLVER and firm[F_SENSOR_PAIRS] > 0.0:
        c = state[COSINE_AT] - firm[F_COSINE]
        s = (state[SINE_AT] - firm[F_SINE]) / firm[F_RATIO]
        s = (s - c * math.sin(firm[F_SKEW])) / math.cos(firm[F_SKEW])
        rounds = firm[F_SIDE] * math.atan2(s, c)
        last = before * firm[F_SENSOR_PAIRS]
        state[THETA_M] = (last + _wrapped(rounds - last)) / firm[F_SENSOR_PAIRS]
    elif kind == SENSOR_HALL:
        _hall_angle(firm, state, Ts)
    elif kind == SENSOR_NONE:
        state[THETA_M] = state[SEEN_THETA] / firm[F_PAIRS] if firm[F_PAIRS] > 0.0 else 0.0


@_jit
def speed(firm: Numbers, state: Numbers, meta: Whole, history: Numbers, Ts: float) -> None:
    """Measure the speed, once in each sample of the speed controller."""
    newest = (meta[HISTORY_AT] + 1) % HISTORY
    history[newest] = state[THETA_M]
    meta[HISTORY_AT] = newest
    meta[HISTORY_LENGTH] = min(meta[HISTORY_LENGTH] + 1, HISTORY)
    every = max(int(firm[W_EVERY]), 1)
    meta[SINCE] += 1
    if meta[SINCE] < every:
        return
    meta[SINCE] = 0
    kind, pairs = int(firm[F_KIND]), max(firm[F_PAIRS], 1.0)
    if kind == SENSOR_NONE:
        state[SPEED_M] = state[SEEN_SPEED] / pairs if firm[F_PAIRS] > 0.0 else 0.0
        return
    if kind == SENSOR_HALL:
        if _begins(firm, state[HALL_AT]) < _ILLEGAL:
            return  # an illegal state says nothing
        raw = state[HALL_SPEED] / pairs
    elif 3 <= int(firm[W_SLOPE]) <= meta[HISTORY_LENGTH]:
        raw = _slope(history, newest, int(firm[W_SLOPE])) / Ts
    else:
        raw = (state[THETA_M] - state[THETA_LAST]) / (every * Ts)
    state[THETA_LAST] = state[THETA_M]
    lag = firm[W_LAG]
    share = min(every * Ts / lag, 1.0) if lag > 0.0 else 1.0
    state[SPEED_M] += (raw - state[SPEED_M]) * share


@_jit
def _slope(history: Numbers, newest: int, many: int) -> float:
    """Return the least-squares slope (rad a sample) of the last angles."""
    middle, total = 0.5 * (many - 1), 0.0
    for i in range(many):
        at = history[(newest - many + 1 + i) % HISTORY] - history[newest]
        total += (i - middle) * at
    return total * 12.0 / (many * (float(many) * many - 1.0))


@_jit
def _begins(firm: Numbers, state: float) -> float:
    """Return where one of the eight hall states begins, rad, or what marks it as illegal."""
    for n in range(8):
        if state == n:
            return float(firm[F_HALL + n])
    return 2.0 * _ILLEGAL


@_jit
def _sector_end(firm: Numbers, start: float) -> float:
    """Return where the sector that begins at `start` ends: the next beginning, rad onwards."""
    best = TAU
    for n in range(8):
        if firm[F_HALL + n] > _ILLEGAL:
            ahead = firm[F_HALL + n] - start
            ahead -= TAU * math.floor(ahead / TAU)
            if 1e-6 < ahead < best:
                best = ahead
    return best


@_jit
def _hall_angle(firm: Numbers, state: Numbers, Ts: float) -> None:
    """Make angle and speed of the hall states and their table, interpolated by the last speed."""
    pairs = max(firm[F_PAIRS], 1.0)
    code, last = state[HALL_AT], state[HALL_BEFORE]
    state[HALL_AGE] += Ts
    start, before = _begins(firm, code), _begins(firm, last)
    if start < _ILLEGAL:
        return  # an illegal state says nothing: the angle stays
    width = _sector_end(firm, start)
    old = state[THETA_M] * pairs
    if code != last and before > _ILLEGAL:
        length = _sector_end(firm, before)
        ahead = _wrapped(start + 0.5 * width - before - 0.5 * length)
        side = math.copysign(1.0, ahead)
        edge = start if side > 0.0 else start + width
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
