"""The firmware's controllers round the current's: speed and position, in float32 as it rounds.

The same order of operations stands in `control.single`, where it is written to be read.
"""

import numpy as np

from oarlock.jit import njit
from oarlock.simulate.elementary import PER_SQRT3, THIRD, cos_sin
from oarlock.simulate.layout import (
    A_REF,
    ANGLE,
    ASKED,
    F_OBSERVER,
    F_PAIRS,
    F_SECTIONS,
    F_ZERO,
    FRAME,
    FRAME_AT,
    FRAME_C,
    FRAME_S,
    KI_W,
    KP_W,
    KP_X,
    M_ALPHA,
    M_BETA,
    MA,
    MAX_CURRENT,
    MB,
    MC,
    MODE,
    MODE_CARRIED,
    MODE_FIXED,
    MODE_OFF,
    MODE_PATH,
    MODE_POSITION,
    MODE_SENSORLESS,
    MODE_SPEED,
    MODE_VOLTAGE,
    O_CARRIED,
    O_FOLLOWED,
    O_HELD,
    O_LOAD,
    O_SPEED,
    O_STEP,
    ON_ID,
    ON_IQ,
    ON_LOAD,
    ON_POSITION,
    ON_SPEED,
    ON_TORQUE,
    PUSH,
    R_D,
    R_Q,
    REF_D,
    REF_Q,
    REF_W,
    ROW_SAMPLE,
    S_SECTIONS,
    SECTION_SIZE,
    SEEN_SPEED,
    SEEN_THETA,
    SINCE,
    SPEED_M,
    SPEED_SECTIONS,
    SPEED_USED,
    SUM_W,
    TARGET,
    THETA_M,
    THETA_START,
    TORQUE_SECTIONS,
    TORQUE_TO_CURRENT,
    TRIP,
    TRIP_LIMIT_CURRENT,
    TRIP_OSCILLATION,
    W_ACCELERATION,
    W_E,
    W_EVERY,
    W_FRICTION,
    W_HOLD,
    W_LIMIT,
    W_PLAIN,
    W_REF,
    W_SHARE,
    W_TO,
    W_WEIGHT,
    WATCH,
    WATCH_AGE,
    WATCH_BEFORE,
    WATCH_COUNT,
    WATCH_LENGTH,
    WATCH_MEAN,
    WATCH_PEAK,
    WATCH_SIDE,
    WAVE_NOW,
    X_ASKED,
    X_LIMIT,
    X_REF,
    X_SPEED,
    X_TO,
    Y_D,
    Y_Q,
    Numbers,
    Row,
    Single,
    Whole,
)
from oarlock.simulate.observer import observe
from oarlock.simulate.profile import follow, ramp

_jit = njit(inline=True)
# The watch: half-cycles in a row, by what ratio each may fall short of the one before, from which
# share of the limit on, how alike their lengths, and over which time the slow mean is taken.
_HALVES, _GROWS, _SHARE, _ALIKE, _SLOW = 6, 0.97, 0.15, 1.4, 0.02


@_jit
def weighted(
    e: Single,
    p: Single,
    feed: Single,
    kp: Single,
    ki_t: Single,
    total: Single,
    limit: Single,
    follows: bool,
) -> tuple[Single, Single]:  # fmt: skip
    """One step of a PI whose proportional part sees another error than its integral; float32.

    While limited, the integral only moves back, or `follows`: it is set so that the sum just
    meets the limit.
    """
    push = np.float32(kp * p)
    summed = np.float32(total + np.float32(ki_t * e))
    u = np.float32(np.float32(push + summed) + feed)
    if -limit <= u <= limit:
        return u, summed
    held = limit if u > limit else np.float32(-limit)
    if follows:
        return held, np.float32(np.float32(held - push) - feed)
    outward = e > 0 if u > limit else e < 0
    return held, (total if outward else summed)


@_jit
def filtered(firm: Numbers, state: Numbers, x: Single, first: int, many: int) -> Single:
    """Pass one number through second-order sections, transposed direct form II in float32."""
    for n in range(first, first + many):
        at, kept = F_SECTIONS + SECTION_SIZE * n, S_SECTIONS + 2 * n
        if firm[at] > 0.0:
            one, two = np.float32(state[kept]), np.float32(state[kept + 1])
            y = np.float32(np.float32(np.float32(firm[at + 1]) * x) + one)
            state[kept] = np.float32(
                np.float32(
                    np.float32(np.float32(firm[at + 2]) * x)
                    - np.float32(np.float32(firm[at + 4]) * y)
                )
                + two
            )
            state[kept + 1] = np.float32(
                np.float32(np.float32(firm[at + 3]) * x) - np.float32(np.float32(firm[at + 5]) * y)
            )
            x = y
    return x


@_jit
def frame(firm: Numbers, state: Numbers, meta: Whole, row: Row, work: Numbers, Ts: float) -> None:
    """Work out the frame of this sample, and the currents in it."""
    mode, ma, mb, mc = int(row[MODE]), work[MA], work[MB], work[MC]
    m_alpha, m_beta = (2.0 * ma - mb - mc) * THIRD, (mb - mc) * PER_SQRT3
    state[M_ALPHA], state[M_BETA] = m_alpha, m_beta
    if firm[F_OBSERVER] > 0.0 and mode != MODE_OFF:
        observe(firm, state, Ts)
    w_e = state[SPEED_M] * firm[F_PAIRS]
    at = state[THETA_M] * firm[F_PAIRS] - firm[F_ZERO]
    if mode in (MODE_FIXED, MODE_VOLTAGE, MODE_CARRIED):
        w_e = np.float64(row[REF_W])
        at = np.float64(row[ANGLE]) + w_e * meta[ROW_SAMPLE] * Ts
        if mode == MODE_CARRIED:  # on from where the frame is
            at = state[FRAME_AT] + w_e * Ts
    elif mode == MODE_SENSORLESS:
        at, w_e = state[SEEN_THETA], state[SEEN_SPEED]
    state[FRAME_AT] = at
    c, s = cos_sin(at)
    work[FRAME], work[W_E], work[FRAME_C], work[FRAME_S] = at, w_e, c, s
    work[Y_D] = np.float32(m_alpha * c + m_beta * s)
    work[Y_Q] = np.float32(m_beta * c - m_alpha * s)


@_jit
def cascade(firm: Numbers, state: Numbers, meta: Whole, row: Row, work: Numbers, Ts: float) -> None:
    """Work out both current references; the speed controller's new output counts next sample."""
    mode, target, added = int(row[MODE]), int(row[TARGET]), work[WAVE_NOW]
    work[R_D] = np.float32(row[REF_D] + (added if target == ON_ID else 0.0))
    more = added if target == ON_IQ else 0.0
    push = added * firm[TORQUE_TO_CURRENT] if target == ON_TORQUE else 0.0
    follows = mode in (MODE_POSITION, MODE_PATH)
    closed = mode in (MODE_SPEED, MODE_SENSORLESS) or follows
    if closed:
        push += state[PUSH]
    push = np.float64(filtered(firm, state, np.float32(push), 0, TORQUE_SECTIONS))
    if target == ON_LOAD:
        push += added * firm[TORQUE_TO_CURRENT]
    work[R_Q] = np.float32(row[REF_Q] + more + push)
    at = state[THETA_M] - state[THETA_START]
    if follows:
        follow(state, meta, row, Ts)
    else:
        state[X_REF] = state[X_TO] = at
        _ramp(state, row, added if target == ON_SPEED else 0.0, Ts)
        state[W_TO] = state[W_REF]
    work[X_ASKED] = state[X_REF] + (added if target == ON_POSITION else 0.0)
    if closed:
        if meta[SINCE] == 0:  # the speed has just been measured
            _speed(firm, state, row, work, at, Ts)
        if firm[WATCH] > 0.0:
            _watch(firm, state, meta, work, Ts)
    square = work[Y_D] * work[Y_D] + work[Y_Q] * work[Y_Q]
    if square > firm[MAX_CURRENT] * firm[MAX_CURRENT]:
        meta[TRIP] = TRIP_LIMIT_CURRENT


@_jit
def _ramp(state: Numbers, row: Row, added: float, Ts: float) -> None:
    """Bring the speed asked for to the row's, at once or at its acceleration."""
    if int(row[MODE]) not in (MODE_SPEED, MODE_SENSORLESS):
        state[W_PLAIN] = state[W_REF] = state[ASKED] = state[O_FOLLOWED] = state[SPEED_M]
        state[A_REF] = state[O_CARRIED] = state[O_HELD] = 0.0
        return
    state[W_PLAIN], state[A_REF] = ramp(row, state[W_PLAIN], state[A_REF], Ts)
    state[W_REF] = state[W_PLAIN] + added


@_jit
def _speed(firm: Numbers, state: Numbers, row: Row, work: Numbers, at: float, Ts: float) -> None:
    """One step of the speed controller, and in position mode of the one round it.

    A profile is asked for as it is: the reference's lag is left to plain speed.
    """
    mode, pairs = int(row[MODE]), max(firm[F_PAIRS], 1.0)
    seen = work[W_E] / pairs if mode == MODE_SENSORLESS else state[SPEED_M]
    y = filtered(firm, state, np.float32(seen), TORQUE_SECTIONS, SPEED_SECTIONS)
    state[SPEED_USED] = y
    asked, ahead = np.float32(state[W_REF]), np.float32(0.0)
    if mode in (MODE_POSITION, MODE_PATH):
        asked = np.float32(np.float32(firm[KP_X]) * np.float32(work[X_ASKED] - at))
        ahead = np.float32(np.float32(firm[X_SPEED]) * np.float32(state[W_REF]))
        most = np.float32(firm[X_LIMIT])
        if most > 0.0:
            asked = min(max(asked, np.float32(-most)), most)
        turning = ahead
    else:
        if firm[W_SHARE] < 1.0:
            before = np.float32(state[ASKED])
            moved = np.float32(np.float32(firm[W_SHARE]) * np.float32(asked - before))
            asked = np.float32(before + moved)
        state[ASKED] = turning = asked
    e = np.float32(np.float32(asked + ahead) - y)
    p = np.float32(np.float32(np.float32(np.float32(firm[W_WEIGHT]) * asked) + ahead) - y)
    feed = np.float32(np.float32(firm[W_ACCELERATION]) * np.float32(state[A_REF]))
    known = np.float32(0.0)
    if turning != 0.0:
        known = np.float32(firm[W_FRICTION])
        known = known if turning > 0.0 else np.float32(-known)
    feed = np.float32(np.float32(feed + known) - _load(firm, state, y))
    limit = np.float32(firm[W_LIMIT] if firm[W_LIMIT] > 0.0 else firm[MAX_CURRENT] * 0.9)
    period = np.float32(Ts * max(int(firm[W_EVERY]), 1))
    push, kept = weighted(
        e, p, feed, np.float32(firm[KP_W]), np.float32(np.float32(firm[KI_W]) * period),
        np.float32(state[SUM_W]), limit, firm[W_HOLD] > 0.0,
    )  # fmt: skip
    state[SUM_W], state[PUSH] = kept, push
    state[O_HELD] = np.float32(push - known)  # friction that is known is no load


@_jit
def _load(firm: Numbers, state: Numbers, y: Single) -> Single:
    """One step of the load observer: the current that pushes from outside, as it sees it."""
    held, carried = np.float32(state[O_HELD]), np.float32(state[O_CARRIED])
    pushed = np.float32(np.float32(firm[O_STEP]) * np.float32(held + carried))
    followed = np.float32(np.float32(state[O_FOLLOWED]) + pushed)
    missed = np.float32(y - followed)
    state[O_FOLLOWED] = np.float32(followed + np.float32(np.float32(firm[O_SPEED]) * missed))
    state[O_CARRIED] = np.float32(carried + np.float32(np.float32(firm[O_LOAD]) * missed))
    return np.float32(state[O_CARRIED])


@_jit
def _watch(firm: Numbers, state: Numbers, meta: Whole, work: Numbers, Ts: float) -> None:
    """Trip where the torque asked for swings wider with every half-cycle."""
    state[WATCH_MEAN] += (work[R_Q] - state[WATCH_MEAN]) * min(Ts / _SLOW, 1.0)
    swing = work[R_Q] - state[WATCH_MEAN]
    state[WATCH_AGE] += Ts
    side = 1.0 if swing >= 0.0 else -1.0
    if side == state[WATCH_SIDE]:
        state[WATCH_PEAK] = max(state[WATCH_PEAK], abs(swing))
    else:
        _half_cycle(firm, state, meta, swing, side)


@_jit
def _half_cycle(firm: Numbers, state: Numbers, meta: Whole, swing: float, side: float) -> None:
    """Hold a half-cycle of the torque asked for against the one before."""
    limit = firm[W_LIMIT] if firm[W_LIMIT] > 0.0 else firm[MAX_CURRENT] * 0.9
    length, before = state[WATCH_AGE], state[WATCH_LENGTH]
    alike = before < _ALIKE * length and length < _ALIKE * before
    grows = state[WATCH_PEAK] >= _GROWS * state[WATCH_BEFORE]
    if alike and grows and state[WATCH_PEAK] > _SHARE * limit:
        state[WATCH_COUNT] += 1.0
    else:
        state[WATCH_COUNT] = 0.0
    if state[WATCH_COUNT] >= _HALVES:
        meta[TRIP] = TRIP_OSCILLATION
    state[WATCH_BEFORE], state[WATCH_LENGTH] = state[WATCH_PEAK], length
    state[WATCH_PEAK], state[WATCH_AGE], state[WATCH_SIDE] = abs(swing), 0.0, side
