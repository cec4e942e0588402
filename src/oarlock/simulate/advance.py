"""One compiled loop over the drive's samples: sense, watch, control, record, and let time pass."""

import math

import numpy as np

from oarlock.jit import njit
from oarlock.simulate.angle import angle, speed
from oarlock.simulate.current_controllers import currents
from oarlock.simulate.elementary import PER_SQRT3, THIRD, cos_sin
from oarlock.simulate.firmware import cascade, frame
from oarlock.simulate.layout import (
    AVERAGED,
    BRIDGE_SIZE,
    BUS,
    BUS_MADE_UP,
    BUS_NOW,
    BUS_RIPPLE,
    CLOCK,
    COUNT,
    EXPERIMENT_CLOCK,
    F_COUNTS,
    F_SIDE,
    FRAME_C,
    FRAME_S,
    HAND,
    I_D,
    I_Q,
    INERTIA,
    LATE_ALPHA,
    LATE_BETA,
    LINK,
    LOAD_INERTIA,
    MA,
    MAX_SPEED,
    MAX_TIME,
    MAX_TRAVEL,
    MODE,
    MODE_OFF,
    MODULATION,
    N_CHANNELS,
    OF_COUNT,
    OUTPUT_LATE,
    PER_BUS,
    PER_COUNT,
    PER_LOAD,
    PER_MASS,
    RECORD,
    RELEASE,
    ROW,
    ROW_SAMPLE,
    RUNNING,
    SAG_AT,
    SAG_TO,
    SAMPLES,
    SEED,
    SPEED_M,
    STIFFNESS,
    SUBSTEPS,
    SUMS,
    TAU,
    THETA,
    THETA_M,
    THETA_START,
    TRIP,
    TRIP_CURRENT,
    TRIP_LIMIT_SPEED,
    TRIP_LIMIT_TIME,
    TRIP_LIMIT_TRAVEL,
    TRIP_NONE,
    TRIP_OVER,
    TRIP_OVERCURRENT,
    TRIP_OVERVOLTAGE,
    TRIP_UNDERVOLTAGE,
    TRIP_VOLTAGE,
    TRUE_C,
    TRUE_S,
    TS,
    U_ALPHA,
    U_BETA,
    V_ALPHA,
    V_BETA,
    V_BUS,
    V_D_OUT,
    V_Q_OUT,
    W_E,
    WAVE_NOW,
    WIRE_A,
    WORK_SIZE,
    Numbers,
    Row,
    Whole,
)  # fmt: skip
from oarlock.simulate.link import charge, drawn
from oarlock.simulate.plant import hand_speed, integrate, turn
from oarlock.simulate.recorder import add_up, look, record
from oarlock.simulate.sense import currents as sense_currents
from oarlock.simulate.sense import read_sensor
from oarlock.simulate.switching import stay, switch
from oarlock.simulate.waves import wave

_jit, _part = njit(), njit(inline=True)


@_part
def _bus(plant: Numbers, meta: Whole) -> float:
    """Return the bus voltage now: its ripple, and the sag of some drives."""
    time = meta[CLOCK] * plant[TS]
    bus = plant[BUS]
    if plant[BUS_RIPPLE] != 0.0:
        bus *= 1.0 + plant[BUS_RIPPLE] * math.sin(2.0 * math.pi * 300.0 * time)
    began = meta[EXPERIMENT_CLOCK] * plant[TS]
    if meta[RUNNING] == 1 and plant[SAG_AT] >= 0.0 and began >= plant[SAG_AT]:
        bus = plant[SAG_TO]
    return float(bus)


@_part
def _watch(
    firm: Numbers, table: Row, rows: int, state: Numbers, meta: Whole, work: Numbers, Ts: float
) -> bool:
    """Trip, go on to the next row, or end; return whether it still runs."""
    ma, mb, mc = work[MA], work[MA + 1], work[MA + 2]
    high = max(abs(ma), max(abs(mb), abs(mc))) > firm[TRIP_CURRENT]
    if high and table[meta[ROW], MODE] != MODE_OFF:
        meta[TRIP] = TRIP_OVERCURRENT
    elif work[BUS_NOW] < firm[TRIP_VOLTAGE]:
        meta[TRIP] = TRIP_UNDERVOLTAGE
    elif firm[TRIP_OVER] > 0.0 and work[BUS_NOW] > firm[TRIP_OVER]:
        meta[TRIP] = TRIP_OVERVOLTAGE
    elif abs(state[SPEED_M]) > firm[MAX_SPEED]:
        meta[TRIP] = TRIP_LIMIT_SPEED
    elif abs(state[THETA_M] - state[THETA_START]) > firm[MAX_TRAVEL]:
        meta[TRIP] = TRIP_LIMIT_TRAVEL
    elif meta[EXPERIMENT_CLOCK] * Ts > firm[MAX_TIME]:
        meta[TRIP] = TRIP_LIMIT_TIME
    if meta[TRIP] != TRIP_NONE:
        meta[RUNNING] = 3
        return False
    if meta[ROW_SAMPLE] >= table[meta[ROW], SAMPLES]:
        meta[ROW] += 1
        meta[ROW_SAMPLE] = 0
        if meta[ROW] >= rows:
            meta[RUNNING] = 2
            return False
    return True


@_part
def _apply(
    plant: Numbers, state: Numbers, work: Numbers, out: Numbers, v_alpha: float, v_beta: float
) -> None:
    """Have the command computed now applied in the next period, each output where it is wired.

    The observer sees a voltage when the current that it led to is sampled. A bridge that is late by
    part of a period still gives the one before for that part.
    """
    late = plant[OUTPUT_LATE]
    state[LATE_ALPHA], state[LATE_BETA] = state[U_ALPHA], state[U_BETA]
    state[U_ALPHA], state[U_BETA] = v_alpha, v_beta
    v_alpha += late * (state[LATE_ALPHA] - v_alpha)
    v_beta += late * (state[LATE_BETA] - v_beta)
    scale = 1.0 if plant[BUS_MADE_UP] > 0.0 else work[BUS_NOW] * work[PER_BUS]
    for j in range(3):
        turned = j * TAU / 3.0
        out[int(plant[WIRE_A + j])] = v_alpha * math.cos(turned) + v_beta * math.sin(turned)
    state[V_ALPHA] = scale * THIRD * (2.0 * out[0] - out[1] - out[2])
    state[V_BETA] = scale * PER_SQRT3 * (out[1] - out[2])


@_part
def _windings(
    plant: Numbers, state: Numbers, meta: Whole, edges: Numbers, reach: Row, bridge: Numbers,
    gates: bool, c: float, s: float,
) -> None:  # fmt: skip
    """Advance the windings by one control period, under the bridge that the plant has."""
    if gates and plant[MODULATION] > AVERAGED:
        switch(plant, state, meta, edges, reach, bridge)
        return
    integrate(plant, state, gates, c, s)
    if plant[MODULATION] > AVERAGED:
        stay(state, meta, reach)


@_part
def _pass(
    plant: Numbers, state: Numbers, meta: Whole, edges: Numbers, reach: Row, bridge: Numbers,
    work: Numbers, supply: float, gates: bool, released: bool, hand: float,
) -> None:  # fmt: skip
    """Let one control period pass: in the windings, for the shaft, on the link."""
    i_d, i_q, theta = state[I_D], state[I_Q], state[THETA]
    _windings(plant, state, meta, edges, reach, bridge, gates, work[TRUE_C], work[TRUE_S])
    turn(plant, state, released, hand, work[PER_MASS], work[PER_LOAD])
    if plant[LINK] > 0.0:
        charge(plant, state, supply, drawn(plant, state, i_d, i_q, theta, gates))


@_part
def _supplied(plant: Numbers, state: Numbers, meta: Whole, work: Numbers) -> float:
    """Return the supply's voltage now; what the bus has is measured."""
    supply = _bus(plant, meta)
    if plant[LINK] <= 0.0:
        state[V_BUS] = supply
    work[BUS_NOW] = state[V_BUS]
    return supply


@_part
def _divide(plant: Numbers, firm: Numbers, work: Numbers) -> None:
    """Work out what is the same in all samples and takes a division."""
    work[PER_COUNT], work[PER_BUS] = 1.0 / plant[COUNT], 1.0 / plant[BUS]
    work[OF_COUNT] = firm[F_SIDE] * TAU / firm[F_COUNTS] if firm[F_COUNTS] > 0.0 else 0.0
    part = plant[TS]
    if plant[STIFFNESS] > 0.0:
        part *= 1.0 / SUBSTEPS
        work[PER_LOAD] = part / plant[LOAD_INERTIA]
    work[PER_MASS] = part / plant[INERTIA]


@_part
def _samples(
    plant: Numbers, firm: Numbers, table: Row, rows: int, lines: Numbers, state: Numbers,
    meta: Whole, history: Numbers, columns: Whole, trace: Row, sums: Numbers, totals: Numbers,
    edges: Numbers, reach: Row, values: Numbers, work: Numbers, phase: Numbers, out: Numbers,
    bridge: Numbers, n: int,
) -> None:  # fmt: skip
    """Advance by `n` samples, in arrays that stand ready."""
    Ts = plant[TS]
    _divide(plant, firm, work)
    for _ in range(n):
        clock, seed = meta[CLOCK], meta[SEED]
        supply = _supplied(plant, state, meta, work)
        sense_currents(plant, firm, state, work, phase, seed, clock)
        read_sensor(plant, state, seed, clock)
        angle(firm, state, Ts, work[OF_COUNT])
        speed(firm, state, meta, history, Ts)
        running = meta[RUNNING] == 1
        if running:
            running = _watch(firm, table, rows, state, meta, work, Ts)
        v_alpha, v_beta, hand = 0.0, 0.0, 0.0
        gates, released = False, False
        if running:
            row = table[meta[ROW]]
            released, gates = row[RELEASE] > 0.0, int(row[MODE]) != MODE_OFF
            if not gates and plant[HAND] > 0.0:
                hand = hand_speed(meta[EXPERIMENT_CLOCK] * Ts)
            work[WAVE_NOW] = wave(row, lines, meta[ROW_SAMPLE], seed, clock, Ts)
            frame(firm, state, meta, row, work, Ts)
            cascade(firm, state, meta, row, work, Ts)
            currents(firm, state, row, work, Ts)
            lead = 1.5 * Ts * work[W_E]  # that the rotor is further on when it is applied
            ct, st = cos_sin(lead)
            c = work[FRAME_C] * ct - work[FRAME_S] * st
            s = work[FRAME_S] * ct + work[FRAME_C] * st
            v_d, v_q = work[V_D_OUT], work[V_Q_OUT]
            v_alpha, v_beta = v_d * c - v_q * s, v_d * s + v_q * c
            if row[RECORD] > 0.0 or row[SUMS] > 0.0:
                look(state, meta, work, history, values, Ts)
            if row[RECORD] > 0.0:
                record(firm, meta, values, sums, columns, trace)
            if row[SUMS] > 0.0:
                add_up(meta, row, work, values, columns, totals, Ts)
            meta[ROW_SAMPLE] += 1
            meta[EXPERIMENT_CLOCK] += 1
        _pass(plant, state, meta, edges, reach, bridge, work, supply, gates, released, hand)
        _apply(plant, state, work, out, v_alpha, v_beta)
        meta[CLOCK] += 1


@_jit
def advance(
    plant: Numbers, firm: Numbers, table: Row, rows: int, lines: Numbers, state: Numbers,
    meta: Whole, history: Numbers, columns: Whole, trace: Row, sums: Numbers, totals: Numbers,
    edges: Numbers, reach: Row, n: int,
) -> None:  # fmt: skip
    """Advance the drive by `n` control periods; every array is changed in place.

    Parameters
    ----------
    plant, firm, state, meta : see `layout`
    table : float32, (rows, 18), the steps being played
    lines : float64, (lines, 3), of the multisine
    history : float64, (256,), the last angles
    columns : int64, (channels,), which quantities to record
    trace : float32, (capacity, channels)
    sums : float64, (channels,), what the recorder has added up in its current bin
    totals : float64, (rows, 3 + 7 channels), sums over whole rows
    edges, reach : float64 (rows, 7) and float32 (rows, 6), of a bridge that switches; see `layout`
    n : samples

    """
    values, work = np.zeros(N_CHANNELS), np.zeros(WORK_SIZE)
    phase, out, bridge = np.zeros(3), np.zeros(3), np.zeros(BRIDGE_SIZE)
    _samples(plant, firm, table, rows, lines, state, meta, history, columns, trace, sums, totals,
             edges, reach, values, work, phase, out, bridge, n)  # fmt: skip
