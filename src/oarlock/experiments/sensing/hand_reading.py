"""What a turn by hand says of the sensor: its kind, its counts, its lines and its ellipse."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.experiments.sensing.evidence import Circle, Counts, HallStates
from oarlock.experiments.sensing.halls import legal_order, transitions
from oarlock.experiments.sensing.hand import TurnByHand
from oarlock.machine import Axis, SensorKind
from oarlock.quantities import measured
from oarlock.records import Check, Finding, Record
from oarlock.records.settings import number

Array = NDArray[np.float64]


_ALONE = 0.15  # s, before anybody is asked to turn the shaft


_MOST_ECCENTRIC = 0.10  # sine over cosine, and offsets over amplitude


_MOST_SKEW = math.radians(10.0)


_INDEX_PLAY = 2.0  # counts


_WHOLE = 0.25  # of a round or a pole pair, by which a turn by hand may miss a whole number


def read_hand(record: Record, axis: Axis) -> Finding:
    """Return what the sensor's lines say of the sensor.

    Parameters
    ----------
    record : columns t, theta_m and the sensor's lines; the shaft went one turn and came back
    axis : which sensor it is

    """
    kind = axis.sensor.kind
    if kind is SensorKind.RESOLVER:
        return _resolver(record, axis)
    if kind is SensorKind.ENCODER:
        return _encoder(record, axis)
    return _halls(record, axis)


@dataclass(frozen=True, slots=True, kw_only=True)
class Ellipse:
    """sine = ratio * size * sin(phase + skew) + sine_offset; cosine = size * cos(phase) + ..."""

    size: float
    ratio: float
    skew: float  # rad
    sine_offset: float
    cosine_offset: float
    scatter: float  # rms distance of the points from it, across it
    std: Array  # (4,): of ratio, skew, both offsets


def fit_ellipse(sine: Array, cosine: Array) -> Ellipse:
    """Fit an ellipse to sine and cosine by geometric least squares.

    The start is the algebraic fit with the constraint of an ellipse [Halir and Flusser 1998];
    each point's own phase is taken from the ellipse before.
    """
    p = _algebraic(sine, cosine)
    for _ in range(12):
        ratio, skew, size, o_s, o_c = p
        phase = _phase(sine, cosine, ratio, skew, o_s, o_c)
        # Linear in size*ratio*cos(skew), size*ratio*sin(skew), size and both offsets.
        one, none = np.ones_like(phase), np.zeros_like(phase)
        top = np.column_stack([np.sin(phase), np.cos(phase), none, one, none])
        low = np.column_stack([none, none, np.cos(phase), none, one])
        found, *_ = np.linalg.lstsq(
            np.vstack([top, low]), np.concatenate([sine, cosine]), rcond=None
        )
        along, across, size, o_s, o_c = (float(v) for v in found)
        new = np.array(
            [math.hypot(along, across) / size, math.atan2(across, along), size, o_s, o_c]
        )
        done = float(np.abs(new - p).max()) < 1e-10
        p = new
        if done:
            break
    ratio, skew, size, o_s, o_c = (float(v) for v in p)
    phase = _phase(sine, cosine, ratio, skew, o_s, o_c)
    off = np.hypot(
        sine - ratio * size * np.sin(phase + skew) - o_s, cosine - size * np.cos(phase) - o_c
    )
    scatter = float(np.sqrt(np.mean(off**2)))
    # Distances only: the phase takes up what lies along the ellipse.
    each = 2.0 * scatter / size / math.sqrt(max(sine.size / 8.0, 1.0))
    return Ellipse(
        size=size,
        ratio=ratio,
        skew=skew,
        sine_offset=o_s,
        cosine_offset=o_c,
        scatter=scatter,
        std=np.array([each, each, each * size, each * size]),
    )


_CIRCLE = Ellipse(
    size=1.0, ratio=1.0, skew=0.0, sine_offset=0.0, cosine_offset=0.0, scatter=0.0, std=np.zeros(4)
)


def _phase(s: Array, c: Array, ratio: float, skew: float, o_s: float, o_c: float) -> Array:
    y, x = (s - o_s) / ratio, c - o_c
    return np.asarray(np.arctan2((y - x * math.sin(skew)) / math.cos(skew), x))


def _algebraic(sine: Array, cosine: Array) -> Array:
    """Return (ratio, skew, size, sine offset, cosine offset) of the conic through the points."""
    x, y = cosine, sine
    table = np.column_stack([x * x, x * y, y * y, x, y])
    (a, b, c, d, e), *_ = np.linalg.lstsq(table, np.ones_like(x), rcond=None)
    matrix = np.array([[2.0 * a, b], [b, 2.0 * c]])
    if 4.0 * a * c - b * b <= 0.0:  # no ellipse: leave it to the checks
        return np.array(
            [1.0, 0.0, max(float(np.ptp(x)), 1e-3) / 2, float(y.mean()), float(x.mean())]
        )
    o_c, o_s = (float(v) for v in np.linalg.solve(matrix, [-d, -e]))
    level = 1.0 + a * o_c**2 + b * o_c * o_s + c * o_s**2
    shape = np.linalg.inv(np.array([[a, b / 2.0], [b / 2.0, c]]) / level)
    size, height = math.sqrt(shape[0, 0]), math.sqrt(shape[1, 1])
    skew = math.asin(min(max(shape[0, 1] / (size * height), -1.0), 1.0))
    return np.array([height / size, skew, size, o_s, o_c])


def _resolver(record: Record, axis: Axis) -> Finding:
    sine, cosine = record["sine"], record["cosine"]
    spread = {"sine": float(np.ptp(sine)), "cosine": float(np.ptp(cosine))}
    largest = max(spread.values())
    turned = largest > 0.1
    missing = [name for name, value in spread.items() if turned and value < 0.2 * largest]
    clipped = max(float(np.mean(np.abs(line) > 0.985)) for line in (sine, cosine))
    ellipse = fit_ellipse(sine, cosine) if turned and not missing else _CIRCLE
    correct = {
        "sensor.sine_ratio": measured(ellipse.ratio, float(ellipse.std[0])),
        "sensor.skew": measured(ellipse.skew, float(ellipse.std[1]), "rad"),
        "sensor.sine_offset": measured(ellipse.sine_offset, float(ellipse.std[2])),
        "sensor.cosine_offset": measured(ellipse.cosine_offset, float(ellipse.std[3])),
    }
    phase = np.unwrap(
        _phase(
            sine, cosine, ellipse.ratio, ellipse.skew, ellipse.sine_offset, ellipse.cosine_offset
        )
    )
    rounds = float(np.ptp(phase)) / math.tau
    off_centre = math.hypot(ellipse.sine_offset, ellipse.cosine_offset) / ellipse.size
    held = _Held(missing=missing, turned=turned, clipped=clipped, off_centre=off_centre)
    counts = number(record.settings, "pairs", 1.0) == 0.0 and turned and not missing
    whole = max(round(rounds), 1)
    if counts:
        correct["sensor.pairs"] = measured(float(whole), 0.0)
    checks = _line_checks(record, axis, ellipse, held, rounds, float(whole) if counts else None)
    around = np.linspace(0.0, math.tau, 121)
    pick = np.linspace(0, sine.size - 1, min(sine.size, 360)).astype(int)
    return Finding(
        quantity=TurnByHand.name,
        estimates=correct if turned and not missing else {},
        extra={"rounds": measured(rounds, 0.05)},
        checks=tuple(checks),
        remark=f"ellipse {100 * abs(ellipse.ratio - 1):.1f} %, {rounds:.1f} rounds",
        evidence=Circle(
            curve=sine[pick],
            sine=(sine[pick] - ellipse.sine_offset) / ellipse.size,
            cosine=(cosine[pick] - ellipse.cosine_offset) / ellipse.size,
            fit_sine=ellipse.ratio * np.sin(around + ellipse.skew),
            fit_cosine=np.cos(around),
            offset=(ellipse.sine_offset / ellipse.size, ellipse.cosine_offset / ellipse.size),
        ),
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class _Held:
    """What the two lines of a resolver show."""

    missing: list[str]  # lines that stay still while the other moves
    turned: bool
    clipped: float  # share of the samples at the converter's ends
    off_centre: float  # of the ellipse, over its size


def _line_checks(
    record: Record,
    axis: Axis,
    ellipse: Ellipse,
    held: _Held,
    rounds: float,
    counted: float | None,
) -> list[Check]:
    worst = max(abs(ellipse.ratio - 1.0), held.off_centre)
    still = bool(held.missing) or not held.turned
    return [
        Check(
            code="both lines",
            passed=not held.missing,
            sentence=f"The {held.missing[0]} is missing: look at its two wires"
            if held.missing
            else "Sine and cosine are both there",
        ),
        _alone(record),
        Check(
            code="range",
            passed=held.clipped < 0.002
            and (bool(held.missing) or not held.turned or ellipse.size > 0.15),
            sentence=f"Amplitude {100 * ellipse.size:.0f} % of the converter's range "
            + (
                "and clipped: lower the excitation"
                if held.clipped >= 0.002
                else "(15 to 98 allowed)"
            ),
        ),
        _rounds(rounds, axis.sensor.pairs.value, axis, bool(held.missing))
        if counted is None
        else _counted_rounds(rounds, counted),
        Check(
            code="ellipse",
            passed=bool(held.missing)
            or (worst < _MOST_ECCENTRIC and abs(ellipse.skew) < _MOST_SKEW),
            sentence=f"Sine {100 * (ellipse.ratio - 1):+.1f} % of cosine, "
            f"{90 + math.degrees(ellipse.skew):.1f}° between them, "
            f"{100 * held.off_centre:.1f} % off centre",
        ),
        Check(
            code="scatter",
            passed=still or ellipse.scatter < 0.02 * ellipse.size,
            sentence=f"Points lie {100 * ellipse.scatter / ellipse.size:.2f} % about the ellipse "
            "(2 allowed)",
        ),
    ]


def _alone(record: Record) -> Check:
    """Whether the shaft stood still before anybody touched it: gates off, brake open."""
    early = record["theta_m"][record["t"] < _ALONE]
    moved = float(np.ptp(early)) if early.size else 0.0
    if not np.ptp(record["theta_m"]) and "hall" in record.columns:
        early = record["hall"][record["t"] < _ALONE]
        moved = float(np.ptp(early)) if early.size else 0.0
    still = moved < math.radians(1.5)
    return Check(
        code="no load drives it",
        passed=still,
        sentence="The shaft stays where it is with the brake open"
        if still
        else "The shaft turns by itself with the gates off: the load drives it",
    )


def _counted_rounds(rounds: float, counted: float) -> Check:
    """Whether one turn by hand gave a whole number of rounds, where nobody said how many."""
    whole = abs(rounds - counted) < _WHOLE
    sentence = f"{rounds:.1f} rounds of the sensor in a turn"
    sentence += f": {counted:.0f} pole pairs" if whole else ": turn it once, from mark to mark"
    return Check(code="rounds a turn", passed=whole, sentence=sentence)


def _rounds(rounds: float, pairs: float, axis: Axis, missing: bool) -> Check:
    whole = round(rounds)
    fits = abs(rounds - pairs) < 0.25
    sentence = f"{rounds:.1f} rounds of the sensor in a turn, {pairs:.0f} expected"
    if not fits and rounds < 0.25:
        sentence = "The sensor's angle did not turn: was the shaft turned, is the brake open?"
    elif not fits and whole == axis.machine.pole_pairs.value:
        sentence += ": as many as the machine has pole pairs. Enter them as the sensor's"
    elif not fits and abs(rounds - 0.5 * pairs) < 0.25:
        sentence += ": half of them. Were poles entered for pole pairs?"
    return Check(code="rounds a turn", passed=missing or fits, sentence=sentence)


def _encoder(record: Record, axis: Axis) -> Finding:
    counts, index, expected = record["counts"], record["index"], axis.sensor.counts.value
    far = float(np.ptp(counts))
    back = abs(float(counts[-1] - counts[0]))
    marks = index[np.flatnonzero(np.diff(index) != 0.0) + 1]
    play = float(np.ptp(marks - expected * np.round(marks / expected))) if marks.size > 1 else 0.0
    turned = far > 0.05 * expected
    share = far / expected
    sentence = f"{far:.0f} counts in the turn, {expected:.0f} expected"
    if not turned:
        sentence = "The counter did not move: was the shaft turned, is the brake open?"
    elif abs(share - 4.0) < 0.2 or abs(share - 0.25) < 0.02:
        sentence += ": lines entered for counts, or counts for lines?"
    lost = 1.5 + 0.001 * expected
    pick = np.linspace(0, counts.size - 1, min(counts.size, 400)).astype(int)
    return Finding(
        quantity=TurnByHand.name,
        estimates={},
        extra={"counts a turn": measured(far, 0.02 * expected)},
        checks=(
            _alone(record),
            Check(code="counts a turn", passed=abs(share - 1.0) < 0.1, sentence=sentence),
            Check(
                code="counts come back",
                passed=back <= 0.03 * expected + lost,
                sentence=f"Back at the mark {back:.0f} counts are left "
                f"({0.03 * expected + lost:.0f} allowed)",
            ),
            Check(
                code="index",
                passed=play <= _INDEX_PLAY,
                sentence=f"The index wanders by {play:.0f} counts: pulses are lost, or it is noisy"
                if play > _INDEX_PLAY
                else f"The index came back within {play:.0f} counts",
            ),
        ),
        remark=f"{far:.0f} counts in a turn",
        evidence=Counts(curve=counts[pick], t=record["t"][pick], counts=counts[pick]),
    )


def _halls(record: Record, axis: Axis) -> Finding:
    codes = record["hall"]
    states = sorted({int(code) for code in codes})
    edges = transitions(codes)
    order, step, illegal = legal_order(states)
    pairs = axis.machine.pole_pairs.value
    known = set(order) | {(y, x) for x, y in order}
    jumps = [(a, b) for _, a, b in edges if (a, b) not in known]
    # One turn forward and back: half of all edges belong to one turn.
    turned = len(edges) / 2.0
    found = turned / 6.0
    stuck = _stuck_line(codes)
    counts = number(record.settings, "pole_pairs", 1.0) == 0.0
    pairs = max(round(found), 1) if counts else pairs
    fits = abs(found - pairs) < (_WHOLE if counts else 0.5)
    sentence = f"{turned:.0f} edges in a turn: {found:.1f} pole pairs"
    if not counts:
        sentence += f", {pairs:.0f} entered"
    elif not fits:
        sentence += ". Turn it once, from mark to mark"
    if turned < 3:
        sentence = "No edges came: was the shaft turned, is the brake open?"
    elif not fits and abs(2.0 * found - pairs) < 0.6:
        sentence += ". Were poles entered for pole pairs?"
    pick = np.linspace(0, codes.size - 1, min(codes.size, 400)).astype(int)
    return Finding(
        quantity=TurnByHand.name,
        estimates={"machine.pole_pairs": measured(float(pairs), 0.0)} if counts else {},
        extra={"pole pairs by edges": measured(found, 0.2)},
        checks=(
            Check(
                code="hall lines",
                passed=not stuck,
                sentence=stuck or "All three lines change",
            ),
            _alone(record),
            Check(
                code="legal states",
                passed=bool(stuck) or not illegal,
                sentence=f"State {illegal[0]:03b} came up, which no rotor position gives: "
                "shorted lines, or a loose wire"
                if illegal
                else f"Six states, halls {math.degrees(step):.0f}° apart",
            ),
            Check(
                code="order of states",
                passed=bool(stuck or illegal) or not jumps,
                sentence=f"{jumps[0][0]:03b} was followed by {jumps[0][1]:03b}: edges are missed"
                if jumps and not (stuck or illegal)
                else "States follow one another without a gap",
            ),
            Check(
                code="pole pairs by edges",
                passed=bool(stuck or illegal) or fits,
                sentence=sentence,
            ),
        ),
        remark=f"{turned:.0f} edges in a turn, {found:.0f} pole pairs",
        evidence=HallStates(curve=codes[pick], t=record["t"][pick], states=codes[pick]),
    )


def _stuck_line(codes: Array) -> str:
    bits = [(codes.astype(int) >> n) & 1 for n in range(3)]
    still = [n for n in range(3) if np.ptp(bits[n]) == 0]
    if len(still) == 3:
        return ""  # nothing turned: said elsewhere
    if still:
        level = "high" if bits[still[0]][0] else "low"
        return f"Hall line {still[0] + 1} stays {level}: stuck, or its wire is open"
    for a, b in ((0, 1), (1, 2), (0, 2)):
        if np.array_equal(bits[a], bits[b]):
            return f"Hall lines {a + 1} and {b + 1} always agree: they touch"
    return ""
