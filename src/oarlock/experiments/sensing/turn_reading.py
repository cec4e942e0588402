"""What a forced turn says: direction, pole pairs, the zero, or the table of the halls."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.errors import InputError
from oarlock.experiments.common.angles import circular_mean, mean_angle, orders, wrap, wrapped
from oarlock.experiments.common.field import (
    stiffness,
)
from oarlock.experiments.sensing.evidence import HallRing, TurnError
from oarlock.experiments.sensing.halls import (
    HallTable,
    even_error,
    hall_table,
    left_error,
    left_ripple,
    moved_from,
)
from oarlock.experiments.sensing.turn import ForcedTurn, with_pairs
from oarlock.machine import Axis, SensorKind
from oarlock.quantities import Origin, measured
from oarlock.quantities.display import digits
from oarlock.records import Ask, Check, Finding, Record
from oarlock.records.evidence import Evidence
from oarlock.records.settings import number

Array = NDArray[np.float64]


_FOLLOWED = 0.5  # turned over commanded


_MOST_SUM = 0.06  # of the current: what the three may fail to add up to


_MOST_AGAINST = 0.1  # share of hall edges


@dataclass(frozen=True, slots=True)
class _Ways:
    """What was recorded on each way."""

    forward: slice
    back: slice


def read_turn(record: Record, axis: Axis) -> Finding:
    """Return direction and zero, or the hall table, from a forced turn.

    Parameters
    ----------
    record : columns theta_e (forced), theta_m or hall, id, ia, ib, ic
    axis : for sensor, pole pairs and what was printed

    """
    counted = number(record.settings, "pole_pairs", -1.0)  # where nobody had said them
    if counted > 0.0 and not axis.machine.pole_pairs.is_known:
        axis = with_pairs(axis, counted)
    ways = _ways(record, math.tau * axis.machine.pole_pairs.value)
    if axis.sensor.kind is SensorKind.HALL:
        return _halls(record, axis, ways)
    return _angle(record, axis, ways)


def _ways(record: Record, turn: float) -> _Ways:
    """Return the last whole turn (rad, electrical) of each way, where it has settled."""
    commanded = np.unwrap(record["theta_e"])
    falling = np.flatnonzero(np.diff(commanded) < 0.0)
    middle = int(falling[0]) + 1 if falling.size else record.rows
    starts = []
    for way in (slice(0, middle), slice(middle, record.rows)):
        part = commanded[way]
        left = np.abs(part - part[-1]) > turn if part.size else np.zeros(0, dtype=bool)
        starts.append(way.start + int(np.count_nonzero(left)))
    return _Ways(slice(starts[0], middle), slice(starts[1], record.rows))


def _field(record: Record, axis: Axis) -> Array:
    """Return the angle (rad, electrical, unwrapped) along which the current really flowed.

    The command is not met to the degree: dead time and the sensors' gains bend it six times and
    twice a round. What the sensors read, put right, tells where it pointed.
    """
    commanded = np.unwrap(record["theta_e"])
    if axis.inverter.unsensed or "ic" not in record.columns:
        return commanded
    a, b = axis.inverter.gain_a.value, axis.inverter.gain_b.value
    i_a, i_b, i_c = record["ia"] / a, record["ib"] / b, record["ic"] / (3.0 - a - b)
    measured = np.arctan2((i_b - i_c) / math.sqrt(3.0), (2.0 * i_a - i_b - i_c) / 3.0)
    off = wrapped(measured - commanded)
    shake = number(record.settings, "shake", 0.0)
    if shake > 0.0:  # over whole periods: the rotor does not follow what shakes it
        from scipy.ndimage import uniform_filter1d

        step = float(np.median(np.diff(record["t"])))
        width = max(round(1.0 / (shake * step)), 1)
        off = uniform_filter1d(off, width, mode="nearest")
    return commanded + off


def _current_checks(record: Record, axis: Axis) -> list[Check]:
    wanted = number(record.settings, "current")
    off = float(np.max(np.abs(record["id"] / wanted - 1.0)))
    found = [
        Check(
            code="current reached",
            passed=off <= 0.05,
            sentence=f"The current was held within {100 * off:.1f} % (5 % allowed)"
            + ("" if off <= 0.05 else ": is the supply too weak, a phase open?"),
        )
    ]
    if not axis.inverter.unsensed:
        found.append(_sum_check(record, wanted))
    return found


def _sum_check(record: Record, wanted: float) -> Check:
    phases = {p: record[f"i{p}"] for p in "abc"}
    missing = np.abs(sum(phases.values()))
    share = float(np.max(missing)) / wanted
    sentence = f"The three currents add up to nothing within {100 * share:.1f} % "
    sentence += f"({100 * _MOST_SUM:.0f} allowed)"
    if share > _MOST_SUM:
        # The one that stays short where the sum is most wrong has come to its end.
        at = missing > 0.7 * missing.max()
        flat = min(phases, key=lambda p: float(np.ptp(np.abs(phases[p][at]))))
        top = float(np.abs(phases[flat]).max())
        sentence += f": sensor {flat} stops at {digits(top, 2)} A, it is saturated"
    return Check(code="sum of three", passed=share <= _MOST_SUM, sentence=sentence)


def _angle(record: Record, axis: Axis, ways: _Ways) -> Finding:
    pairs = axis.machine.pole_pairs.value
    commanded, theta_m = _field(record, axis), record["theta_m"]
    slope, slope_std = _slope(commanded, theta_m, ways)
    followed = abs(slope) * pairs
    side = 1.0 if slope >= 0.0 else -1.0
    lag = side * pairs * theta_m - commanded
    parts = [lag[way] for way in (ways.forward, ways.back) if lag[way].size > 20]
    if not parts:
        raise InputError("too little of the turn was recorded", place=record.experiment,
                         remedy="Turn again")  # fmt: skip
    length = min(circular_mean(part)[1] for part in parts)
    means = np.array([mean_angle(part) for part in parts])
    zero = mean_angle(means)
    friction = 0.5 * abs(wrap(float(means[-1] - means[0])))
    residual = wrapped(lag - zero)
    std = _zero_std(residual, ways)
    current = number(record.settings, "current")
    breakaway = stiffness(axis, current) * math.sin(min(friction, 0.5 * math.pi))
    found_pairs = 1.0 / abs(slope) if slope else math.inf
    checks = [
        *_current_checks(record, axis),
        _followed(followed, length),
        _pairs_check(found_pairs, pairs, axis, length, followed),
        Check(
            code="friction",
            passed=friction < math.radians(40.0),
            sentence=f"Friction holds the two ways {2 * math.degrees(friction):.1f}° apart "
            "(80 allowed)",
        ),
        _residual_check(residual, ways),
    ]
    used = number(record.settings, "side", 1.0)
    estimates = {
        "sensor.side": measured(side * used, 0.0),
        "sensor.zero": measured(zero, std, "rad"),
    }
    if number(record.settings, "pole_pairs", 0.0) > 0.0:
        estimates["machine.pole_pairs"] = measured(pairs, 0.0)
    return Finding(
        quantity=ForcedTurn.name,
        estimates=estimates,
        headline="sensor.zero",
        extra={
            "pole pairs": measured(found_pairs, found_pairs * slope_std / max(abs(slope), 1e-12)),
            "breakaway": measured(breakaway, 0.05 * breakaway, "N m"),
            "friction": measured(friction, std, "rad"),
        },
        checks=tuple(checks),
        remark=f"{'forward' if side > 0 else 'reversed'}, friction ±{math.degrees(friction):.1f}°",
        evidence=_evidence(theta_m * side, residual, ways),
    )


def _slope(commanded: Array, theta_m: Array, ways: _Ways) -> tuple[float, float]:
    """Return how far the sensor turns for each commanded radian, both ways, and its std."""
    slopes = []
    for way in (ways.forward, ways.back):
        if commanded[way].size > 10 and np.ptp(commanded[way]) > 0.5:
            slopes.append(float(np.polyfit(commanded[way], theta_m[way], 1)[0]))
    if not slopes:
        return 0.0, math.inf
    return float(np.mean(slopes)), float(np.std(slopes)) + 1e-4 * abs(slopes[0])


def _followed(followed: float, length: float) -> Check:
    turned = followed > _FOLLOWED
    sentence = "The shaft followed the field on both ways"
    if followed < 0.02:
        sentence = "The shaft did not turn: brake on, blocked, or the sensor does not count"
    elif not turned and length < 0.9:
        sentence = (
            f"The shaft turned {100 * followed:.0f} % of what the field did: "
            "it slipped, or the load is too heavy"
        )
    return Check(code="followed", passed=followed > 0.02 and (turned or length > 0.9),
                 sentence=sentence)  # fmt: skip


def _pairs_check(found: float, pairs: float, axis: Axis, length: float, followed: float) -> Check:
    whole = abs(found - pairs) < 0.05 * pairs
    counted = axis.machine.pole_pairs.best.origin is Origin.ASSUMED
    said = "counted before" if counted else "entered"
    sentence = f"{found:.3f} pole pairs by this turn, {pairs:.0f} {said}"
    moved = followed > 0.02
    if not whole and moved:
        ratio = found / pairs
        if abs(ratio - 0.5) < 0.03:
            sentence += ": were poles entered for pole pairs?"
        elif abs(found - axis.sensor.pairs.value) < 0.1 and axis.sensor.pairs.value > 1:
            sentence += ": that is the sensor's. Were its pole pairs entered for the machine's?"
        elif (
            axis.sensor.kind is SensorKind.RESOLVER and abs(1.0 / ratio - round(1.0 / ratio)) < 0.05
        ):
            sentence += ": look at the sensor's pole pairs, and at the machine's"
    elif whole and length < 0.9:
        sentence += ", but the angle scatters: the shaft slipped"
    return Check(
        code="pole pairs", passed=not moved or (whole and length >= 0.9), sentence=sentence
    )


def _residual_check(residual: Array, ways: _Ways) -> Check:
    parts = [residual[way] for way in (ways.forward, ways.back) if residual[way].size > 20]
    worst = max(float(np.ptp(_smooth(part))) for part in parts)
    most = math.radians(25.0)
    return Check(
        code="angle over the turn",
        passed=worst <= most,
        sentence=f"Over the turn the angle strays by {math.degrees(worst):.1f}° "
        f"({math.degrees(most):.0f} allowed)",
        ask=Ask.LONGER,
    )


def _smooth(values: Array) -> Array:
    width = max(values.size // 200, 1)
    return np.convolve(values, np.ones(width) / width, mode="valid") if values.size else values


def _zero_std(residual: Array, ways: _Ways) -> float:
    """Return what the zero is uncertain by: agreement of the turn's eighths, and a floor."""
    means = []
    for way in (ways.forward, ways.back):
        part = residual[way]
        if part.size < 20:
            return math.radians(5.0)
        eighths = [float(np.mean(piece)) for piece in np.array_split(part, 8)]
        means.append(float(np.std(eighths)) / math.sqrt(8.0))
    return math.hypot(0.25 * math.hypot(means[0], means[1]), math.radians(0.02))


def _evidence(position: Array, residual: Array, ways: _Ways) -> TurnError:
    grid = np.linspace(0.0, math.tau, 361)
    both = []
    for way in (ways.forward, ways.back):
        if residual[way].size <= 20:
            continue
        turn = position[way] % math.tau
        order = np.argsort(turn)
        both.append(np.interp(grid, turn[order], residual[way][order], period=math.tau))
    mean = np.mean(both, axis=0)
    wanted = tuple(range(1, 61))
    amplitude = np.abs(orders(grid[:-1], mean[:-1], wanted))
    return TurnError(curve=mean, grid=grid, forward=both[0], back=both[-1], mean=mean,
                     orders=amplitude)  # fmt: skip


def _halls(record: Record, axis: Axis, ways: _Ways) -> Finding:
    way = np.zeros(record.rows)
    way[ways.forward], way[ways.back] = 1.0, -1.0
    table = hall_table(record["hall"], _field(record, axis), way)
    checks = _current_checks(record, axis)
    changes = int(np.count_nonzero(np.diff(record["hall"])))
    expected = 12.0 * axis.machine.pole_pairs.value
    followed = changes / expected
    sentence = "The shaft followed the field on both ways"
    if followed < 0.05:
        sentence = "The halls did not change: shaft blocked, or lines dead"
    elif table is None:
        sentence = "Not every edge came on both ways: a line is stuck, or the shaft slipped"
    checks.append(Check(code="followed", passed=table is not None, sentence=sentence))
    if table is None:
        seen = Evidence(curve=record["hall"][::50])
        return Finding(quantity=ForcedTurn.name, estimates={}, checks=tuple(checks),
                       remark="no table", evidence=seen)  # fmt: skip
    worst, ripple = even_error(table)
    left, moved = left_error(table), moved_from(table, axis.sensor.hall_starts)
    # Cogging stands the same way at each edge and shifts them all, which the spread does not
    # show: this is what it leaves where it is 1 % of the rated torque.
    std = math.hypot(table.std, math.radians(0.75))
    checks += _hall_checks(table)
    estimates = {
        f"sensor.hall_{state}": measured(start, std if start >= 0.0 else 0.0, "rad")
        for state, start in enumerate(table.starts)
    }
    estimates |= {"sensor.side": measured(1.0, 0.0), "sensor.zero": measured(0.0, std, "rad")}
    return Finding(
        quantity=ForcedTurn.name,
        estimates=estimates,
        headline="sensor.hall_1",
        extra={
            "spread": measured(table.spread, None, "rad"),
            "friction": measured(table.play, None, "rad"),
            "even error": measured(worst, None, "rad"),
            "even ripple": measured(ripple, None),
            "left error": measured(left, None, "rad"),
            "left ripple": measured(left_ripple(table), None),
            **({"from before": measured(moved, None, "rad")} if moved is not None else {}),
        },
        checks=tuple(checks),
        remark=f"table within {math.degrees(left):.1f}°, even steps {math.degrees(worst):.1f}° off",
        evidence=_hall_evidence(table),
    )


def _hall_checks(table: HallTable) -> list[Check]:
    return [
        Check(
            code="spread over pole pairs",
            passed=table.spread < math.radians(6.0),
            sentence=f"Edges of the pole pairs spread {math.degrees(table.spread):.2f}° rms "
            "(6 allowed)",
        ),
        Check(
            code="steady",
            passed=table.against <= _MOST_AGAINST,
            sentence=f"{100 * table.against:.0f} % of the edges were met against the way "
            f"({100 * _MOST_AGAINST:.0f} allowed)"
            + ("" if table.against <= _MOST_AGAINST else ": the rotor swings about the field"),
        ),
        Check(
            code="friction",
            passed=-math.radians(0.25) <= table.play < math.radians(25.0),
            sentence=f"Friction and hysteresis hold the two ways "
            f"{2 * math.degrees(table.play):.1f}° apart (50 allowed)",
        ),
    ]


def _hall_evidence(table: HallTable) -> HallRing:
    starts = np.array([table.starts[s] for s in table.order])
    return HallRing(curve=starts, edges=table.edges[:, 1], ways=table.edges[:, 2], starts=starts,
                    order=tuple(table.order))  # fmt: skip
