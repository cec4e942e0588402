"""The first forced spin: a held current at a turning angle, faster, then weaker till it falls out.

Does it turn, smoothly, which way, down to what current, and does its back-EMF fit the magnet?
"""

import itertools
import math
from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from oarlock.drive.steps import Frame, Plan, Step
from oarlock.errors import InputError
from oarlock.experiments.common.angles import wrapped
from oarlock.experiments.common.field import damping_crossover, field_ramp, forcing_current
from oarlock.experiments.common.gentle import gentle_gains
from oarlock.experiments.common.movement import Movement, abort_limits
from oarlock.experiments.common.speed import within_travel
from oarlock.experiments.sensing.evidence import Levels
from oarlock.machine import Axis, SensorKind
from oarlock.quantities import Estimate, Origin
from oarlock.quantities.display import digits
from oarlock.quantities.kinds import RPM
from oarlock.records import Check, Finding, Plain, Record
from oarlock.records.settings import number

Array = NDArray[np.float64]
_LEVELS = (1.0, 0.8, 0.6, 0.45, 0.33, 0.24, 0.17, 0.12)
_MOST_EMF = 0.30  # off the printed flux
_SLOWEST = 0.35  # of the speed wanted, below which the back-EMF says nothing


@dataclass(frozen=True, slots=True, kw_only=True)
class ForcedSpin:
    """Bring the field to a modest speed, hold it, and take the current away in steps."""

    name: ClassVar[str] = "forced spin"
    emf: float = 0.10  # of the phase voltage that the bus gives
    rise: float = 0.4  # s
    ramp: float = 0.8  # s
    hold: float = 0.3  # s, at each level of current

    def field(self, axis: Axis) -> float:
        """Return the field's speed, rad/s electrical."""
        m = axis.machine
        top = 0.2 * axis.top_speed * m.pole_pairs.value
        full = min(self.emf * axis.inverter.v_max / m.psi.value, top)
        return full * within_travel(axis, self._turns(axis, full), least=_SLOWEST)

    def _turns(self, axis: Axis, field: float) -> float:
        """Return how far the shaft goes, turns, at a field of so many rad/s electrical."""
        at_full = self.hold * len(_LEVELS) + 0.5 * self.ramp + 0.025 * self.ramp + 0.0075
        caught = 0.5 / axis.machine.pole_pairs.value
        return field * at_full / axis.machine.pole_pairs.value / math.tau + caught

    def plan(self, axis: Axis) -> Plan:
        """Return the steps, limits and gains for this axis."""
        current, fast = forcing_current(axis), self.field(axis)
        hold = Step(duration=self.rise / 10.0, frame=Frame.FIXED, angle=-0.5 * math.pi,
                    release=True, record=False)  # fmt: skip
        steps = [replace(hold, i_d=current * (n + 1) / 10.0) for n in range(10)]
        carried = replace(hold, i_d=current, frame=Frame.CARRIED)
        steps += field_ramp(carried, 0.0, 0.05 * fast, 0.3)
        steps += field_ramp(carried, 0.05 * fast, fast, self.ramp)
        held = replace(carried, duration=self.hold, turning=fast, record=True)
        steps += [replace(held, i_d=level * current) for level in _LEVELS]
        seconds = sum(step.duration for step in steps)
        turns = self._turns(axis, fast)
        recorded = len(_LEVELS) * self.hold / axis.inverter.Ts
        return Plan(
            name=self.name,
            steps=tuple(steps),
            channels=("t", "theta_e", "theta_m", "id_ref", "id", "vd", "vq", "hall"),
            decimation=max(math.ceil(recorded / 8000), 1),
            average=axis.sensor.kind is not SensorKind.HALL,
            limits=abort_limits(
                axis, current=current, turns=1.15 * turns + 2.0, seconds=seconds,
                speed=4.0 * fast / axis.machine.pole_pairs.value + 10.0,
            ),
            gains=gentle_gains(axis, damping_crossover(axis, current)),
        )  # fmt: skip

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""
        rpm = self.field(axis) / axis.machine.pole_pairs.value / RPM
        return f"forced spin to {rpm:.0f} rpm, current falling"

    def movement(self, axis: Axis) -> Movement:
        """Return what will move."""
        plan, fast = self.plan(axis), self.field(axis) / axis.machine.pole_pairs.value
        turns = self._turns(axis, self.field(axis))
        return Movement(
            what=f"turns {turns:.1f} turns forward",
            speed=fast,
            current=forcing_current(axis),
            seconds=plan.duration,
        )

    def settings(self, axis: Axis) -> dict[str, Plain]:
        """Return what the estimator must know, as plain values."""
        return {
            "field": self.field(axis),
            "current": forcing_current(axis),
            "kind": axis.sensor.kind.value,
            "R": axis.machine.R.value,
            "Ld": axis.machine.Ld.value,
        }


def read_spin(record: Record, axis: Axis) -> Finding:
    """Return how the shaft followed, at what current it fell out, and its back-EMF.

    Parameters
    ----------
    record : columns theta_e, theta_m, id_ref, vd, vq, hall as `ForcedSpin` asks for

    Raises
    ------
    InputError : nothing was recorded at the first level of current

    """
    field, whole = number(record.settings, "field"), number(record.settings, "current")
    levels = [record["id_ref"] > 0.999 * level * whole for level in _LEVELS]
    parts = [levels[0], *(b & ~a for a, b in itertools.pairwise(levels))]
    if np.count_nonzero(parts[0]) < 20:
        raise InputError("nothing was recorded at full current", place=record.experiment)
    emf = [_emf(record, axis, part, field) for part in parts if np.count_nonzero(part) > 20]
    full = emf[0]
    turning = [value > 0.5 * full for value in emf]
    seen = _followed(record, axis, parts[0])
    fell = next((n for n, on in enumerate(turning) if not on), len(turning))
    least = whole * _LEVELS[max(fell - 1, 0)]
    ratio = full / axis.machine.psi.value
    ripple = _ripple(record, axis, parts[0])
    follows = turning[0] and ratio > 0.35 and (seen is None or abs(abs(seen) - 1.0) < 0.1)
    checks = [
        Check(code="it turns", passed=follows, sentence=_turns(follows, seen, ratio)),
        *_while_turning(full, ratio, ripple, least, whole, follows=follows),
    ]
    estimate = Estimate(value=full, std=0.15 * full, unit="Wb", origin=Origin.MEASURED)
    return Finding(
        quantity=ForcedSpin.name,
        estimates={},
        extra={
            "back-EMF flux": estimate,
            "least current": Estimate(value=least, std=None, unit="A", origin=Origin.MEASURED),
            "ripple": Estimate(value=ripple, std=None, unit="rad", origin=Origin.MEASURED),
        },
        checks=tuple(checks),
        remark=f"turns down to {digits(least, 2)} A" if follows else "does not turn",
        evidence=Levels(
            curve=np.array(emf),
            level=whole * np.array(_LEVELS[: len(emf)]),
            emf=np.array(emf),
        ),
    )


def _while_turning(
    full: float, ratio: float, ripple: float, least: float, whole: float, *, follows: bool
) -> list[Check]:
    return [
        Check(
            code="back-EMF",
            passed=not follows or abs(ratio - 1.0) < _MOST_EMF,
            sentence=f"Back-EMF says {1e3 * full:.3g} mWb, {ratio:.2f} times the magnet flux in "
            f"use (±{100 * _MOST_EMF:.0f} % allowed)" + _hint(ratio, follows=follows),
        ),
        Check(
            code="smooth",
            passed=not follows or ripple < math.radians(40.0),
            sentence=f"The shaft swings by ±{math.degrees(ripple):.0f}° electrical behind the "
            "field (40 allowed)",
        ),
        Check(
            code="falls out late",
            passed=not follows or least < 0.7 * whole,
            sentence=f"It still turns with {digits(least, 2)} A of {digits(whole, 2)} A",
        ),
    ]


def _emf(record: Record, axis: Axis, part: NDArray[np.bool_], field: float) -> float:
    """Return the size of back-EMF over speed (Wb) in the later half of a level of current."""
    rows = np.flatnonzero(part)
    rows = rows[rows.size // 2 :]
    i = float(np.mean(record["id"][rows]))
    lost = 4.0 / 3.0 * axis.inverter.dead_voltage.value
    v_d = float(np.mean(record["vd"][rows])) - axis.machine.R.value * i - lost
    # What the held current's own flux induces turns with the field, a quarter ahead.
    v_q = float(np.mean(record["vq"][rows])) - field * axis.machine.Ld.value * i
    return math.hypot(v_d, v_q) / field


def _followed(record: Record, axis: Axis, part: NDArray[np.bool_]) -> float | None:
    """Return electrical angle turned over commanded by the sensor, or None without one."""
    commanded = np.unwrap(record["theta_e"][part])
    span = float(np.ptp(commanded))
    if axis.sensor.kind is SensorKind.NONE or span <= 0.0:
        return None
    if axis.sensor.kind is SensorKind.HALL:
        edges = int(np.count_nonzero(np.diff(record["hall"][part])))
        return edges * math.tau / 6.0 / span
    theta = record["theta_m"][part]
    turned = float(theta[-1] - theta[0])
    return axis.machine.pole_pairs.value * turned / float(commanded[-1] - commanded[0])


def _ripple(record: Record, axis: Axis, part: NDArray[np.bool_]) -> float:
    if axis.sensor.kind in (SensorKind.HALL, SensorKind.NONE) or not axis.sensor.is_found:
        return 0.0
    behind = axis.machine.pole_pairs.value * record["theta_m"][part] - record["theta_e"][part]
    off = wrapped(behind - np.angle(np.mean(np.exp(1j * behind))))
    return float(np.std(off)) * math.sqrt(2.0)


def _turns(follows: bool, seen: float | None, ratio: float) -> str:
    if follows:
        return "It turns with the field"
    if seen is not None and abs(seen) < 0.1:
        return "It does not turn: brake on, blocked, or the current is too weak"
    if ratio < 0.35:
        return "No back-EMF: it does not turn, or a phase is open"
    turned = f"{seen:.2f}" if seen is not None else "?"
    return f"It turns {turned} of what the field does: pole pairs wrong, or it slipped"


def _hint(ratio: float, *, follows: bool) -> str:
    if not follows or abs(ratio - 1.0) < _MOST_EMF:
        return ""
    for value, name in ((math.sqrt(3.0), "line to line"), (math.sqrt(2.0), "RMS for peak"),
                        (2.0, "poles for pole pairs")):  # fmt: skip
        if abs(ratio / value - 1.0) < 0.12 or abs(ratio * value - 1.0) < 0.12:
            return f": {name}?"
    return ""
