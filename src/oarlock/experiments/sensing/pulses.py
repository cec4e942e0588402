"""Standing pulses along twelve directions: phase order, polarity, gains, saliency, polarity of d.

A square wave of voltage with no mean, too short to turn anything. The three true currents add
up to zero whatever the machine is, so the left null vector of the map from voltage to readings
holds the sensors' inverse gains; a gain error that all three share stays unseen. With the
sensors put right, the admittance in the stator frame must be symmetric and positive: if it is
not, sensors and outputs are exchanged. Its longest axis is d wherever Lq > Ld; larger pulses
along both ends tell north from south, since only with the magnet the iron saturates
[Jang, Sul, Ha, Ide and Sawamura 2003; Nakashima, Inagaki and Miki 2000].
"""

import itertools
import math
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from oarlock.drive.steps import Frame, Plan, Shape, Step, Target, Wave
from oarlock.errors import InputError
from oarlock.experiments.common.angles import wrap
from oarlock.experiments.common.gentle import gentle_gains
from oarlock.experiments.common.movement import Movement, abort_limits
from oarlock.machine import Axis
from oarlock.quantities import Estimate, measured
from oarlock.records import Check, Finding, Record

Array = NDArray[np.float64]
DIRECTIONS = 12
SALIENT = 1.25  # Lq/Ld from which the long axis tells the angle
_MOST_GAIN = 0.03
_MOST_TWIST = 0.12  # of the admittance: antisymmetric over symmetric part
_SURE = 4.0  # standard errors that the magnet's end must stand out
_CLARKE = np.array(
    [[2.0 / 3.0, -1.0 / 3.0, -1.0 / 3.0], [0.0, 1.0 / math.sqrt(3.0), -1.0 / math.sqrt(3.0)]]
)


@dataclass(frozen=True, slots=True, kw_only=True)
class StandingPulses:
    """Square waves along twelve directions, then single larger pulses along each."""

    name: ClassVar[str] = "standing pulses"
    amplitude: float = 0.3  # of rated current, of the square wave
    peak: float = 0.6  # of rated current, of the single pulses
    half: int = 8  # samples of half a square wave
    periods: int = 50
    repeats: int = 12  # of the single pulses

    def _volts(self, axis: Axis) -> float:
        m = axis.machine
        L = min(m.Ld.value, m.Lq.value)
        wanted = self.amplitude * m.rated_current.value * 2.0 * L / (self.half * axis.inverter.Ts)
        lost = 4.0 / 3.0 * axis.inverter.dead_voltage.value
        return min(wanted + lost, 0.6 * axis.inverter.v_max)

    def _pulse(self, axis: Axis) -> tuple[int, float]:
        """Return (samples, volts) of a single pulse."""
        m, Ts = axis.machine, axis.inverter.Ts
        flux = self.peak * m.rated_current.value * min(m.Ld.value, m.Lq.value)
        most = 0.5 * axis.inverter.v_max
        samples = min(max(math.ceil(flux / (most * Ts)), 4), 40)
        lost = 4.0 / 3.0 * axis.inverter.dead_voltage.value
        return samples, min(flux / (samples * Ts) + lost, most)

    def plan(self, axis: Axis) -> Plan:
        """Return the steps, limits and gains for this axis."""
        Ts, volts = axis.inverter.Ts, self._volts(axis)
        wave = Wave(
            shape=Shape.SQUARE, target=Target.V_D, amplitude=volts, frequency=0.5 / (self.half * Ts)
        )
        steps = []
        for n in range(DIRECTIONS):
            angle = math.tau * n / DIRECTIONS
            here = {"frame": Frame.VOLTAGE, "angle": angle, "wave": wave}
            # A quarter of a period first, so that the current swings about zero.
            steps.append(
                Step(duration=0.5 * self.half * Ts, i_d=-volts, frame=Frame.VOLTAGE, angle=angle,
                     record=False)
            )  # fmt: skip
            steps.append(Step(duration=4 * 2 * self.half * Ts, record=False, **here))  # type: ignore[arg-type]
            steps.append(Step(duration=self.periods * 2 * self.half * Ts, **here))  # type: ignore[arg-type]
            steps.append(Step(duration=0.003, frame=Frame.VOLTAGE, record=False))
        samples, push = self._pulse(axis)
        rest = max(0.003, 4 * samples * Ts)
        for _ in range(self.repeats):
            for n in range(DIRECTIONS):
                angle = math.tau * _order(n) / DIRECTIONS
                up = Step(duration=samples * Ts, i_d=push, frame=Frame.VOLTAGE, angle=angle,
                          record=False)  # fmt: skip
                down = Step(duration=2 * Ts, i_d=-push, frame=Frame.VOLTAGE, angle=angle)
                back = Step(duration=max(samples - 2, 1) * Ts, i_d=-push, frame=Frame.VOLTAGE,
                            angle=angle, record=False)  # fmt: skip
                still = Step(duration=rest, frame=Frame.VOLTAGE, record=False)
                steps += [up, down, back, still]
        steps = steps[:512]
        return Plan(
            name=self.name,
            steps=tuple(steps),
            channels=("t", "ia", "ib", "ic", "vd", "theta_e", "theta_m"),
            limits=abort_limits(
                axis,
                current=1.6 * self.peak * axis.machine.rated_current.value,
                turns=0.25,
                speed=0.25 * axis.machine.max_speed.value,
                seconds=sum(step.duration for step in steps),
            ),
            gains=gentle_gains(axis, 100.0),
        )

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""
        del axis
        return f"standing pulses, {DIRECTIONS} directions"

    def movement(self, axis: Axis) -> Movement:
        """Return what will move."""
        current = self.peak * axis.machine.rated_current.value
        return Movement(what="", speed=0.0, current=current, seconds=self.plan(axis).duration)

    def settings(self, axis: Axis) -> dict[str, Any]:
        """Return what the estimator must know, as plain values."""
        samples, volts = self._pulse(axis)
        return {
            "half": self.half,
            "rows_wave": self.periods * 2 * self.half,
            "volts": self._volts(axis),
            "pulse_samples": samples,
            "pulse_volts": volts,
            "side": axis.sensor.side.value,
        }


def _order(n: int) -> int:
    """Return the n-th direction: opposite ends one after the other, so that pushes cancel."""
    return n // 2 + (DIRECTIONS // 2 if n % 2 else 0)


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
    rows = int(record.settings["rows_wave"])
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
    extra = {"saliency": measured(ratio, None, "1")}
    evidence = _evidence(answer, gains, admittance)
    if all(check.passed for check in checks):
        checks.append(_moved(record))
        extra |= _zero(record, axis, rows, gains, long, ratio, angle_std, evidence)
    remark = f"order a b c, Lq/Ld {ratio:.2f}"
    return Finding(
        quantity=StandingPulses.name,
        estimates=estimates,
        extra=extra,
        checks=tuple(checks),
        remark=remark,
        evidence=evidence,
    )


def _answer(record: Record, rows: int) -> _Answer:
    """Fit the triangle of current along each direction, then one linear map through all."""
    half = int(record.settings["half"])
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
    made = found.T / float(record.settings["volts"])
    std = math.sqrt(2.0 * float(np.mean(noise)) / rows / (DIRECTIONS / 2.0))
    return _Answer(made, std / float(record.settings["volts"]))


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


def _moved(record: Record) -> Check:
    moved = float(np.ptp(record["theta_m"]))
    most = math.radians(3.0)
    return Check(
        code="shaft at rest",
        passed=moved <= most,
        sentence=f"The shaft moved {math.degrees(moved):.1f}° under the pulses "
        f"({math.degrees(most):.0f}° allowed)",
    )


def _zero(
    record: Record,
    axis: Axis,
    rows: int,
    gains: Array,
    long: float,
    ratio: float,
    angle_std: float,
    evidence: dict[str, Array],
) -> dict[str, Estimate]:
    """Return the electrical zero from the long axis and the magnet's end, where both are clear."""
    start = DIRECTIONS * rows
    angle, along = _peaks(record, start, gains)
    if angle.size < DIRECTIONS:
        return {}
    evidence |= {"pulse_angle": angle, "pulse_current": along}
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
    theta_m = float(np.mean(record["theta_m"][:start]))
    # The sensor's direction may have been found since the record was taken.
    theta_m *= axis.sensor.side.value / float(record.settings.get("side", 1.0))
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


def _evidence(answer: _Answer, gains: Array, admittance: Array) -> dict[str, Array]:
    angle = np.arange(DIRECTIONS) * math.tau / DIRECTIONS
    unit = np.column_stack([np.cos(angle), np.sin(angle)])
    around = np.linspace(0.0, math.tau, 73)
    ring = np.column_stack([np.cos(around), np.sin(around)])
    return {
        "tips": unit @ admittance.T,
        "ellipse": ring @ admittance.T,
        "gains": gains / np.median(np.abs(gains)),
        "fitted": np.linalg.norm(ring @ admittance.T, axis=1),
    }
