"""The recorder: rows of channels, bins of them, and sums over a whole row of the step table."""

import math

import numpy as np

from oarlock.jit import njit
from oarlock.simulate.layout import (
    AVERAGE,
    BIN,
    BUS_NOW,
    COSINE_AT,
    COUNTS_AT,
    CUT,
    DECIMATION,
    EXPERIMENT_CLOCK,
    FRAME,
    FREQUENCY,
    HALL_AT,
    HALL_CHANNEL,
    HISTORY,
    HISTORY_AT,
    HISTORY_LENGTH,
    INDEX_AT,
    MA,
    OMEGA,
    PHASE,
    R_D,
    R_Q,
    RECORDED,
    RING,
    ROW,
    ROW_SAMPLE,
    SAMPLES,
    SEEN_THETA,
    SINE_AT,
    SPEED_M,
    SUM_COS,
    SUM_FIRST,
    SUM_LEAST,
    SUM_MOST,
    SUM_SIN,
    SUM_X,
    SUM_XX,
    SUMMED,
    SUMS_EACH,
    SUMS_HEAD,
    TAU,
    THETA_M,
    TORQUE,
    TRIP,
    TRIP_RECORDER_FULL,
    V_D_OUT,
    V_Q_OUT,
    W_REF,
    X_ASKED,
    Y_D,
    Y_Q,
    Numbers,
    Row,
    Whole,
)  # fmt: skip

_jit = njit(inline=True)


@_jit
def look(
    state: Numbers, meta: Whole, work: Numbers, history: Numbers, values: Numbers, Ts: float
) -> None:
    """Fill in every channel's value of this sample."""
    values[0] = meta[EXPERIMENT_CLOCK] * Ts
    values[1], values[2], values[3] = work[MA], work[MA + 1], work[MA + 2]
    values[4], values[5], values[6], values[7] = work[Y_D], work[Y_Q], work[V_D_OUT], work[V_Q_OUT]
    values[8], values[9], values[10] = work[R_D], work[R_Q], work[FRAME]
    values[11], values[12], values[13] = state[THETA_M], state[SPEED_M], work[BUS_NOW]
    values[14], values[15] = state[COUNTS_AT], state[INDEX_AT]
    values[16], values[17] = state[SINE_AT], state[COSINE_AT]
    values[18], values[19] = state[HALL_AT], state[SEEN_THETA]
    values[20], values[21], values[22] = state[W_REF], work[X_ASKED], work[R_Q]
    newest, values[23] = meta[HISTORY_AT], 0.0
    if meta[HISTORY_LENGTH] > 1:
        values[23] = history[newest] - history[(newest - 1) % HISTORY]
    values[24], values[25] = state[OMEGA], state[TORQUE]


@_jit
def record(
    firm: Numbers, meta: Whole, values: Numbers, sums: Numbers, columns: Whole, trace: Row
) -> None:
    """Add this sample to the current bin, and write the bin where it is full."""
    every = int(firm[DECIMATION])
    if every > 1 and not _filled(firm, meta, values, sums, columns, every):
        return
    if meta[RECORDED] >= trace.shape[0] and firm[RING] <= 0.0:
        meta[TRIP] = TRIP_RECORDER_FULL
        return
    at = meta[RECORDED] % trace.shape[0]
    for j in range(columns.size):
        trace[at, j] = sums[j] if every > 1 else values[columns[j]]
    meta[RECORDED] += 1
    if every > 1:
        sums[:] = 0.0


@_jit
def _filled(
    firm: Numbers, meta: Whole, values: Numbers, sums: Numbers, columns: Whole, every: int
) -> bool:
    """Add this sample to the current bin; return whether that is full."""
    averaged = firm[AVERAGE] > 0.0
    for j in range(columns.size):
        channel = columns[j]
        if averaged and channel != HALL_CHANNEL:
            sums[j] += values[channel] / every
        elif averaged:  # the mean of hall states is none: the one in the middle
            if meta[BIN] == every // 2:
                sums[j] = values[channel]
        elif meta[BIN] == 0:
            sums[j] = values[channel]
    meta[BIN] = (meta[BIN] + 1) % every
    return bool(meta[BIN] == 0)


@_jit
def add_up(
    meta: Whole,
    row: Row,
    work: Numbers,
    values: Numbers,
    columns: Whole,
    totals: Numbers,
    Ts: float,
) -> None:
    """Add this sample to the row's sums: of each channel, less its first value, and times a sine.

    The sine's phase is that of the row's own wave, so that a whole number of its cycles gives the
    complex gain at its frequency.
    """
    at, k = meta[SUMMED], meta[ROW_SAMPLE]
    if at >= totals.shape[0]:
        meta[TRIP] = TRIP_RECORDER_FULL
        return
    phase = np.float64(row[FREQUENCY]) * k * Ts
    phase = TAU * (phase - math.floor(phase)) + np.float64(row[PHASE])
    c, s = math.cos(phase), math.sin(phase)
    into = totals[at]
    into[0], into[1] = meta[ROW], into[1] + 1.0
    into[2] += work[CUT]
    for j in range(columns.size):
        x, first = values[columns[j]], SUMS_HEAD + SUMS_EACH * j
        if k == 0:
            into[first + SUM_FIRST], into[first + SUM_LEAST], into[first + SUM_MOST] = x, x, x
        less = x - into[first + SUM_FIRST]
        into[first + SUM_X] += less
        into[first + SUM_XX] += less * less
        into[first + SUM_COS] += less * c
        into[first + SUM_SIN] += less * s
        into[first + SUM_LEAST] = min(into[first + SUM_LEAST], x)
        into[first + SUM_MOST] = max(into[first + SUM_MOST], x)
    if k + 1 >= int(row[SAMPLES]):
        meta[SUMMED] += 1
