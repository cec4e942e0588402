"""What standing pulses say: phase order, current sensors, saliency, and where the magnet points."""

import itertools
import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.errors import InputError
from oarlock.experiments.common.angles import wrap
from oarlock.experiments.sensing.evidence import PulseAnswer
from oarlock.experiments.sensing.first_look import Winding
from oarlock.experiments.sensing.pulses import DIRECTIONS, StandingPulses
from oarlock.machine import Axis
from oarlock.quantities import Estimate, measured
from oarlock.records import Ask, Check, Finding, Record
from oarlock.records.settings import number

Array = NDArray[np.float64]


SALIENT = 1.25  # Lq/Ld from which the long axis tells the angle


_MOVED, _MOVED_EL = 3.0, 6.0  # degrees of the shaft, and electrical, whichever is more
_MOST_GAIN = 0.03


_MOST_TWIST = 0.12  # of the admittance: antisymmetric over symmetric part


_SURE = 4.0  # standard errors that the magnet's end must stand out


_CLARKE = np.array(
    [[2.0 / 3.0, -1.0 / 3.0, -1.0 / 3.0], [0.0, 1.0 / math.sqrt(3.0), -1.0 / math.sqrt(3.0)]]
)


@dataclass(frozen=True, slots=True)
class _Answer:
    """How the three readings answer a voltage in the stator frame."""

    map: Array  # (3, 2), A for each volt
    std: float  # of one of its entries


def read_pulses(record: Record, axis: Axis) -> Finding:
    """Return sensor gains and, from a salient machine, the electrical zero.

    Parameters
    ----------
    record : columns ia, ib, ic, theta_e, theta_m as `StandingPulses` asks for
    axis : for sensors and pole pairs

    Raises
    ------
    InputError : the record is shorter than one round of directions

    """
    rows = int(number(record.settings, "rows_wave"))
    if record.rows < DIRECTIONS * rows:
        raise InputError("not every direction was recorded", place=record.experiment,
                         remedy="Repeat the pulses")  # fmt: skip
    answer = _answer(record, rows)
    size = np.asarray(np.linalg.norm(answer.map, axis=1), dtype=np.float64)
    strength = np.asarray(np.linalg.svd(answer.map, compute_uv=False), dtype=np.float64)
    if axis.inverter.unsensed or size.min() < 0.15 * size.max() or strength[1] < 0.1 * strength[0]:
        gains, gain_std = np.ones(3), math.inf
    else:
        gains, gain_std = _gains(answer)
    order, side, admittance = _arrange(answer.map / gains[:, None])
    gains = side * gains
    long, ratio, twist, angle_std = _saliency(admittance, answer.std)
    checks = _checks(axis, size, strength, gains, order, twist, admittance)
    estimates: dict[str, Estimate] = {}
    if math.isfinite(gain_std):
        for phase, gain in zip("ab", gains, strict=False):
            estimates[f"inverter.gain_{phase}"] = measured(float(gain), gain_std, "1")
    if "look_R" in record.settings:
        looked = (number(record.settings, f"look_{name}") for name in ("R", "Ld", "Lq"))
        estimates |= Winding(*looked).estimates()
    extra = {"saliency": measured(ratio, None, "1")}
    if all(check.passed for check in checks):
        checks.append(_moved(record, axis))
        extra |= _zero(record, axis, rows, gains, long, ratio, angle_std)
    remark = f"order a b c, Lq/Ld {ratio:.2f}"
    return Finding(
        quantity=StandingPulses.name,
        estimates=estimates,
        extra=extra,
        checks=tuple(checks),
        remark=remark,
        evidence=_evidence(gains, admittance),
    )


def _answer(record: Record, rows: int) -> _Answer:
    """Fit the triangle of current along each direction, then one linear map through all."""
    half = int(number(record.settings, "half"))
    period = 2 * half
    phase = math.tau * np.arange(rows) / period
    carrier = np.column_stack([np.cos(phase), np.sin(phase), np.ones(rows)])
    inverse = np.linalg.pinv(carrier)
    readings = np.column_stack([record[name] for name in ("ia", "ib", "ic")])
    phasors, angles, noise = [], [], []
    for n in range(DIRECTIONS):
        part = slice(n * rows, (n + 1) * rows)
        found = inverse @ readings[part]
        cycle = readings[part].reshape(-1, period, 3)
        noise.append(float(np.mean(np.var(cycle, axis=0))))
        phasors.append(found[0] - 1j * found[1])
        angles.append(float(record["theta_e"][part][0]))
    table = np.array(phasors)
    # One common phase, that of an inductance behind the drive's delay of one sample: the
    # triangle of current lags the square wave by a quarter of a period.
    turn = np.exp(-0.5j * np.angle(np.sum(table**2)))
    if (turn * np.conj(-np.exp(1j * math.tau / period))).real < 0.0:
        turn = -turn
    real = np.real(table * turn)
    unit = np.column_stack([np.cos(angles), np.sin(angles)])
    found, *_ = np.linalg.lstsq(unit, real, rcond=None)
    made = found.T / number(record.settings, "volts")
    std = math.sqrt(2.0 * float(np.mean(noise)) / rows / (DIRECTIONS / 2.0))
    return _Answer(made, std / number(record.settings, "volts"))


def _gains(answer: _Answer) -> tuple[Array, float]:
    """Return each sensor's gain over the mean of the three, sign included, and its std."""
    u, strength, _ = np.linalg.svd(answer.map)
    null = u[:, 2]
    gains = 1.0 / np.where(np.abs(null) < 1e-6, 1e-6, null)
    gains /= np.mean(np.abs(gains))
    if np.sum(np.sign(gains)) < 0:
        gains = -gains
    return gains, math.hypot(1.6 * answer.std / float(strength[1]), 2e-4)


def _arrange(readings: Array) -> tuple[tuple[int, ...], float, Array]:
    """Return which reading belongs to which output, their sign, and the admittance (2, 2)."""
    best: tuple[float, tuple[int, ...], float, Array] | None = None
    for order, side in itertools.product(itertools.permutations(range(3)), (1.0, -1.0)):
        made = side * _CLARKE @ readings[list(order)]
        symmetric = 0.5 * (made + made.T)
        twist = abs(made[0, 1] - made[1, 0])
        if np.linalg.eigvalsh(symmetric)[0] <= 0.0:
            twist += 10.0 * float(np.abs(made).max())
        if best is None or twist < best[0] - 1e-12:
            best = (twist, order, side, made)
    if best is None:
        raise InputError("no order of phases fits", place=StandingPulses.name)
    return best[1:]


def _saliency(admittance: Array, std: float) -> tuple[float, float, float, float]:
    """Return (long axis rad, ratio of the axes, twist, std of the long axis)."""
    symmetric = 0.5 * (admittance + admittance.T)
    values, vectors = np.linalg.eigh(symmetric)
    ratio = float(values[1] / max(values[0], 1e-12 * values[1]))
    long = math.atan2(vectors[1, 1], vectors[0, 1])
    twist = abs(admittance[0, 1] - admittance[1, 0]) / float(np.trace(symmetric))
    gap = max(float(values[1] - values[0]), 1e-12)
    return long, ratio, float(twist), std / gap


_NAMES = "abc"


def _checks(
    axis: Axis,
    size: Array,
    strength: Array,
    gains: Array,
    order: tuple[int, ...],
    twist: float,
    admittance: Array,
) -> list[Check]:
    """Return the checks in the order in which they explain a fault."""
    weak = int(np.argmin(size))
    dead = size[weak] < 0.15 * size.max()
    lame = dead and strength[1] < 0.1 * strength[0]
    mute = bool(dead and not lame and _NAMES[weak] != axis.inverter.unsensed)
    flipped = [_NAMES[n] for n in range(3) if gains[n] < 0.0]
    exchanged = "".join(_NAMES[n] for n in order)
    swapped = [_NAMES[n] for n in range(3) if order[n] != n]
    # One that is off shifts the mean of all; against the middle one it stands alone.
    sizes = np.abs(gains) / np.median(np.abs(gains))
    worst = int(np.argmax(np.abs(sizes - 1.0)))
    off = float(sizes[worst] - 1.0)
    judged = not lame and not mute
    bent = judged and (twist > _MOST_TWIST or np.linalg.det(admittance) <= 0.0)
    return [
        Check(
            code="open phase",
            passed=not lame,
            sentence=f"Phase {_NAMES[weak]} carries no current, whichever way the voltage points: "
            "it is open" if lame else "All three phases carry current",
        ),
        Check(
            code="sensor without signal",
            passed=not mute,
            sentence=f"Sensor {_NAMES[weak]} reads nothing while the others do: look at its plug"
            if mute
            else "Every sensor answers",
        ),
        Check(
            code="polarity of the sensors",
            passed=not judged or not flipped,
            sentence=f"Sensor {' and '.join(flipped)} reads the wrong way round: turn it, or "
            "negate its scale" if judged and flipped else "All sensors have one polarity",
        ),
        Check(
            code="phase order",
            passed=not judged or (order == (0, 1, 2) and not bent),
            sentence=_order_sentence(exchanged, swapped, bent=bool(bent)) if judged
            else "Order cannot be told",
        ),
        Check(
            code="sensor gains",
            passed=not judged or abs(off) <= _MOST_GAIN,
            sentence=f"Sensor {_NAMES[worst]} reads {100 * abs(off):.1f} % "
            f"{'high' if off > 0 else 'low'} ({100 * _MOST_GAIN:.0f} allowed); an error that all "
            "share can't be seen",
        ),
    ]  # fmt: skip


def _order_sentence(exchanged: str, swapped: list[str], *, bent: bool) -> str:
    if swapped:
        return (
            f"Sensors and outputs are exchanged: {' '.join(exchanged)} where a b c should be; "
            f"swap {' and '.join(swapped)}"
        )
    if bent:
        return "The currents do not point where the voltage does: sensors and outputs disagree"
    return "Each output's current is read by its own sensor: a b c"


def _moved(record: Record, axis: Axis) -> Check:
    moved = float(np.ptp(record["theta_m"]))
    pairs = axis.machine.pole_pairs
    most = math.radians(max(_MOVED, _MOVED_EL / pairs.value if pairs.is_known else 0.0))
    return Check(
        code="shaft at rest",
        passed=moved <= most,
        sentence=f"The shaft moved {math.degrees(moved):.1f}° under the pulses "
        f"({math.degrees(most):.0f}° allowed)",
        ask=Ask.WEAKER,
    )


def _zero(
    record: Record,
    axis: Axis,
    rows: int,
    gains: Array,
    long: float,
    ratio: float,
    angle_std: float,
) -> dict[str, Estimate]:
    """Return the electrical zero from the long axis and the magnet's end, where both are clear."""
    start = DIRECTIONS * rows
    angle, along = _peaks(record, start, gains)
    if angle.size < DIRECTIONS:
        return {}
    # Along d both ends differ by saturation alone; first harmonic of the peak over direction.
    basis = np.column_stack(
        [np.ones_like(angle), np.cos(angle), np.sin(angle), np.cos(2 * angle), np.sin(2 * angle),
         np.cos(4 * angle), np.sin(4 * angle), np.cos(6 * angle), np.sin(6 * angle)]
    )  # fmt: skip
    found, *_ = np.linalg.lstsq(basis, along, rcond=None)
    residual = along - basis @ found
    std = float(np.std(residual)) * math.sqrt(2.0 / angle.size)
    first = complex(found[1], found[2])
    north = math.cos(math.atan2(first.imag, first.real) - long) * abs(first)
    told = {"polarity": measured(north / max(std, 1e-12), None, "1")}
    if ratio < SALIENT or abs(north) < _SURE * std:
        return told
    d_axis = long if north > 0.0 else long + math.pi
    if not axis.machine.pole_pairs.is_known:
        return told
    theta_m = float(np.mean(record["theta_m"][:start]))
    # The sensor's direction may have been found since the record was taken.
    theta_m *= axis.sensor.side.value / number(record.settings, "side", 1.0)
    zero = wrap(axis.machine.pole_pairs.value * theta_m - d_axis)
    # What dead time and cross-saturation bend the long axis by.
    std = math.hypot(angle_std, math.radians(0.5))
    return told | {
        "sensor.zero": measured(zero, std, "rad"),
        "d axis": measured(d_axis, std, "rad"),
    }


def _peaks(record: Record, start: int, gains: Array) -> tuple[Array, Array]:
    """Return (angle, peak current along it) of each single pulse."""
    table = np.column_stack([record[f"i{p}"][start:] for p in "abc"]) / gains
    angle = record["theta_e"][start:]
    pairs = angle.size // 2
    # The second row of each pair is sampled when the pulse has just ended.
    peak = table[: 2 * pairs].reshape(pairs, 2, 3)[:, 1, :] @ _CLARKE.T
    at = angle[: 2 * pairs].reshape(pairs, 2)[:, 1]
    return at, np.asarray(peak[:, 0] * np.cos(at) + peak[:, 1] * np.sin(at))


def _evidence(gains: Array, admittance: Array) -> PulseAnswer:
    angle = np.arange(DIRECTIONS) * math.tau / DIRECTIONS
    unit = np.column_stack([np.cos(angle), np.sin(angle)])
    around = np.linspace(0.0, math.tau, 73)
    ring = np.column_stack([np.cos(around), np.sin(around)])
    return PulseAnswer(
        curve=np.linalg.norm(ring @ admittance.T, axis=1),
        tips=unit @ admittance.T,
        ellipse=ring @ admittance.T,
        gains=gains / np.median(np.abs(gains)),
    )
