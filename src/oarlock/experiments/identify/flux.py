"""Flux linkage from a steady spin, with what the spin says of the angle's zero.

At two speeds each way two currents along d of either sign are held: the currents' angle moves
the dead time's voltage onto d, Ld falls out of the pairs, and so does what saturation takes. What
is left on q grows with speed as the flux does; what is left on d, odd in speed, is the angle by
which the zero is off, and even in speed, the time by which the voltages come late.
"""

import math
from dataclasses import dataclass, replace
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from oarlock.control.dead_time import along_current
from oarlock.drive.steps import Frame, Plan, Step
from oarlock.errors import InputError
from oarlock.experiments.common.checks import against_printed, voltage_limit
from oarlock.experiments.common.gentle import gentle_gains
from oarlock.experiments.common.movement import Movement, abort_limits
from oarlock.experiments.common.speed import (
    MOST_SHARE,
    excursion,
    most_by_edges,
    no_load_speed,
    pace_by_edges,
    ramp,
    ramp_time,
    settling_by_edges,
    speed_loop,
    within_travel,
)
from oarlock.experiments.identify.between_edges import HOLDING, made_by_halls, seen_from_edges
from oarlock.machine import Axis, SensorKind
from oarlock.quantities import measured
from oarlock.quantities.display import digits
from oarlock.quantities.kinds import RPM
from oarlock.records import Ask, Check, Finding, Plain, Record
from oarlock.records.evidence import fitted
from oarlock.records.settings import number, numbers

Array = NDArray[np.float64]
_FLOOR = 0.001  # of the flux: what the model leaves out
_DEAD_DOUBT = 0.10  # of the dead time's voltage, as known from the R test
_DEAD_SHAPE = 0.04  # of it: how it falls near zero current is not the same in every inverter
_ROWS = 12000
_MOST_ZERO = math.radians(3.0)
_ZERO_MOVES = math.radians(0.3)  # below, the zero stays as Sensing found it
_MOST_STILL = 0.1  # of the speed asked for


@dataclass(frozen=True, slots=True, kw_only=True)
class FluxSpin:
    """Steady speeds both ways, with current along d of either sign."""

    name: ClassVar[str] = "flux"
    may_grow: ClassVar[bool] = True
    levels: tuple[float, ...] = (0.3, 0.6)  # of the no-load speed
    currents: tuple[float, ...] = (0.4, -0.4, 0.18, -0.18)  # of rated, along d
    torque: float = 0.3  # of rated, while the speed changes
    settle: float = 0.15  # s
    hold: float = 0.2  # s, recorded
    crossover: float = math.tau * 5.0  # rad/s, of the speed controller

    def speeds(self, axis: Axis) -> tuple[float, ...]:
        """Return the speeds (rad/s, mechanical) of one way, as far as travel lets them."""
        top = self._top(axis)
        full = [level / max(self.levels) * top for level in self.levels]
        scale = within_travel(axis, excursion(self._steps(axis, full)))
        return tuple(scale * speed for speed in full)

    def _top(self, axis: Axis) -> float:
        return min(max(self.levels) * no_load_speed(axis), 0.5 * axis.top_speed)

    def _pace(self, axis: Axis) -> float:
        slowest = min(self.levels) / max(self.levels) * self._top(axis)
        return pace_by_edges(axis, self.crossover, slowest)

    def _steps(self, axis: Axis, speeds: Any) -> list[Step]:
        rated = axis.rated
        along = [share * rated for share in self.currents]
        turning = Step(duration=self.settle, frame=Frame.SPEED, release=True, record=False)
        at, slow = 0.0, settling_by_edges(self._pace(axis), self.crossover)
        # Halls hardly tell the angle where it turns round: current along d would turn the shaft.
        ramped = 0.0 if axis.sensor.kind is SensorKind.HALL else along[0]
        steps = [replace(turning, i_d=ramped, duration=0.1)]
        for way in (1.0, -1.0):
            for speed in speeds:
                seconds = ramp_time(axis, way * speed - at, self.torque) + 0.1
                steps += ramp(replace(turning, i_d=ramped), at, way * speed, seconds)
                at = way * speed
                if slow:
                    steps.append(replace(turning, i_d=along[0], speed=at, duration=slow))
                for i_d in along:
                    held = replace(turning, i_d=i_d, speed=at)
                    steps += [held, replace(held, duration=self.hold, record=True)]
        steps += ramp(turning, at, 0.0, ramp_time(axis, at, self.torque) + 0.1)
        return steps

    def scaled(self, factor: float) -> "FluxSpin":
        """Return it at another amplitude."""
        return replace(self, levels=tuple(factor * level for level in self.levels))

    def plan(self, axis: Axis) -> Plan:
        """Return the steps, limits and gains for this axis."""
        speeds = self.speeds(axis)
        steps = self._steps(axis, speeds)
        seconds = sum(step.duration for step in steps)
        recorded = sum(step.duration for step in steps if step.record) / axis.inverter.Ts
        rated = axis.rated
        angle = "hall" if axis.sensor.kind is SensorKind.HALL else "theta_e"
        return Plan(
            name=self.name,
            steps=tuple(steps),
            channels=("t", "theta_m", "id", "iq", "vd", "vq", "id_ref", angle),
            decimation=max(math.ceil(recorded / _ROWS), 1),
            average=True,
            limits=abort_limits(
                axis, current=MOST_SHARE * rated, turns=1.3 * excursion(steps) + 2.0,
                speed=1.25 * max(speeds) + 5.0, seconds=seconds,
            ),
            gains=gentle_gains(axis, HOLDING),
            speed=replace(speed_loop(axis, self._pace(axis)), limit=most_by_edges(axis)),
            decouple=True,
        )  # fmt: skip

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""
        return f"spin to ±{max(self.speeds(axis)) / RPM:.0f} rpm"

    def movement(self, axis: Axis) -> Movement:
        """Return what will move."""
        steps = self._steps(axis, self.speeds(axis))
        return Movement(
            what=f"turns up to {excursion(steps):.0f} turns, both ways",
            speed=max(self.speeds(axis)),
            current=max(*self.currents, self.torque + 0.2) * axis.rated,
            seconds=sum(step.duration for step in steps),
        )

    def settings(self, axis: Axis) -> dict[str, Plain]:
        """Return what the estimator must know, as plain values."""
        return {
            "speeds": list(self.speeds(axis)),
            "holds": len(self.currents),
            "zero": axis.sensor.zero.value,
        }


@dataclass(frozen=True, slots=True)
class _Points:
    """Means over each hold."""

    omega: Array  # rad/s, electrical
    i_d: Array
    i_q: Array
    v_d: Array
    v_q: Array
    along_d: Array  # of the current's direction, over which it may have swung
    along_q: Array
    asked: Array  # rad/s, electrical


def estimate_flux(record: Record, axis: Axis) -> Finding:
    """Return the flux linkage from steady speeds.

    Parameters
    ----------
    record : columns t, theta_m, id, iq, vd, vq, id_ref
    axis : for pole pairs, R, inductances and dead-time voltage

    Raises
    ------
    InputError : fewer than two speeds or only one way

    """
    if made_by_halls(record, axis):
        record = seen_from_edges(record, axis.machine.pole_pairs.value)
    points = _points(record, axis)
    if np.unique(np.sign(points.omega)).size < 2 or points.omega.size < 4:
        remedy = "Spin both ways, at two speeds each"
        raise InputError(f"{points.omega.size} steady holds of one way", place=record.experiment,
                         remedy=remedy)  # fmt: skip
    m = axis.machine
    fit = _fit(points, axis)
    psi, std, residual = fit.psi, fit.std, fit.residual
    top = float(np.abs(points.omega).max())
    zero, zero_std, late = _zero(points, axis, psi, fit.held)
    estimates = {"machine.psi": measured(psi, std, "Wb")}
    # A load pulls the zero of a forced turn aside, and shows here alone. Halls have no zero.
    sure = abs(zero) > 3.0 * zero_std and axis.sensor.kind is not SensorKind.HALL
    if sure and _ZERO_MOVES < abs(zero) <= _MOST_ZERO:
        refined = axis.sensor.zero.value + zero
        estimates["sensor.zero"] = measured(refined, zero_std, "rad")
    return Finding(
        quantity="flux",
        estimates=estimates,
        extra={
            "Ld while turning": measured(fit.Ld, fit.Ld_std, "H"),
            "zero off by": measured(zero, zero_std, "rad"),
            "voltage late by": measured(late, None, "s"),
            "Kt": measured(1.5 * m.pole_pairs.value * psi, 1.5 * m.pole_pairs.value * std, "N m/A"),
        },
        checks=tuple(_checks(record, axis, points, psi, zero, zero_std, residual)),
        remark=f"zero {'moved by' if 'sensor.zero' in estimates else 'right to'} "
        f"{math.degrees(abs(zero)):.1f}°",
        evidence=fitted(points.omega, fit.emf, np.array([-top, top]),
                        np.array([-psi * top, psi * top]), residual),
    )  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class _Fit:
    """What the voltages along q say."""

    psi: float  # Wb
    std: float
    Ld: float  # H
    Ld_std: float
    residual: Array  # V
    emf: Array  # V, without what the other terms explain
    held: Array  # of a voltage held in the stator while the rotor turns


def _fit(points: _Points, axis: Axis) -> _Fit:
    m, inv = axis.machine, axis.inverter
    dead = along_current(inv.dead_voltage.value)
    half = 0.5 * points.omega * inv.Ts
    held = np.sinc(half / math.pi)  # of a voltage held in the stator while the rotor turns
    # q: psi, Ld, and the dead time's voltage with what is known of it
    y = points.v_q * held - m.R.value * points.i_q
    bent = points.omega * (points.i_d**2 + points.i_q**2)
    X = np.column_stack([points.omega, points.omega * points.i_d, points.along_q, bent])
    scatter = max(float(np.std(y)) * 1e-3, 1e-6)
    belief = _DEAD_DOUBT * max(dead, 1e-6)
    rows = np.vstack([X / scatter, [0.0, 0.0, 1.0 / belief, 0.0]])
    target = np.append(y / scatter, dead / belief)
    found, *_ = np.linalg.lstsq(rows, target, rcond=None)
    psi, Ld = float(found[0]), float(found[1])
    residual = y - X @ found
    # Without the dead time: what the belief in it costs.
    others = X[:, [0, 1, 3]]
    plain, *_ = np.linalg.lstsq(others, y - dead * X[:, 2], rcond=None)
    shaped, *_ = np.linalg.lstsq(others, _DEAD_SHAPE * dead * X[:, 2], rcond=None)
    free = max(y.size - 4, 1)
    chi = float(np.sum(residual**2)) / free
    cov = np.linalg.pinv(X.T @ X) * chi
    top = float(np.abs(points.omega).max())
    std = math.sqrt(
        max(float(cov[0, 0]), 0.0) + (0.5 * (psi - float(plain[0]))) ** 2 + (_FLOOR * psi) ** 2
        + float(shaped[0]) ** 2 + (m.R.std * float(np.mean(np.abs(points.i_q))) / top) ** 2
    )  # fmt: skip
    return _Fit(
        psi=psi,
        std=std,
        Ld=Ld,
        Ld_std=math.sqrt(max(float(cov[1, 1]), 0.0)),
        residual=residual,
        emf=y - X[:, 1:] @ found[1:],
        held=held,
    )


def _points(record: Record, axis: Axis) -> _Points:
    t, pairs = record["t"], axis.machine.pole_pairs.value
    step = float(np.median(np.diff(t))) if t.size > 2 else 0.0
    if step <= 0.0:
        raise InputError("too few rows", place=record.experiment, remedy="Record the holds")
    i_ref = record["id_ref"]
    cut = np.flatnonzero((np.diff(t) > 3.0 * step) | (np.diff(i_ref) != 0.0)) + 1
    parts = [p for p in np.split(np.arange(t.size), cut) if p.size > 20]
    speeds = [float(np.polyfit(t[p] - t[p[0]], record["theta_m"][p], 1)[0]) for p in parts]
    asked = numbers(record.settings, "speeds")
    holds = int(number(record.settings, "holds", 1))
    wanted = np.repeat([way * speed for way in (1.0, -1.0) for speed in asked], holds)
    fits = wanted.size == len(parts)
    size = np.maximum(np.hypot(record["id"], record["iq"]), 1e-9)
    i_d, i_q, v_d, v_q, along_d, along_q = (
        np.array([float(column[p].mean()) for p in parts])
        for column in (record["id"], record["iq"], record["vd"], record["vq"],
                       record["id"] / size, record["iq"] / size)
    )  # fmt: skip
    omega = pairs * np.array(speeds)
    return _Points(omega, i_d, i_q, v_d, v_q, along_d, along_q,
                   pairs * wanted if fits else omega)  # fmt: skip


def _zero(points: _Points, axis: Axis, psi: float, held: Array) -> tuple[float, float, float]:
    """Return by how much (rad, and its std) the zero must grow, and how late voltages come (s)."""
    m = axis.machine
    y = points.v_d * held - m.R.value * points.i_d + points.omega * m.Lq.value * points.i_q
    X = np.column_stack([points.omega * psi, points.along_d, points.omega**2 * psi])
    found, *_ = np.linalg.lstsq(X, y, rcond=None)
    residual = y - X @ found
    chi = float(np.sum(residual**2)) / max(y.size - 3, 1)
    std = math.sqrt(max(float((np.linalg.pinv(X.T @ X) * chi)[0, 0]), 0.0))
    # A wrong Lq shows as well: the torque's current is odd in speed as the zero's voltage is not.
    lost = 0.02 * m.Lq.value * float(np.mean(np.abs(points.i_q))) / psi
    return float(found[0]), math.hypot(std, lost, math.radians(0.03)), float(found[2])


def _checks(
    record: Record, axis: Axis, points: _Points, psi: float, zero: float, zero_std: float,
    residual: Array,
) -> list[Check]:  # fmt: skip
    reached = float(np.min(points.omega / points.asked)) if np.all(points.asked != 0.0) else 1.0
    still = reached < _MOST_STILL
    emf = psi * float(np.abs(points.omega).max())
    rms = float(np.sqrt(np.mean(residual**2)))
    wide = axis.sensor.kind is SensorKind.HALL
    most = _MOST_ZERO if not wide else 2.0 * _MOST_ZERO
    ask = Ask.NOTHING
    slow = "" if reached > 0.95 else ": the rotor is locked, or a load holds it"
    if reached < -0.5:
        slow = ": it turned the other way, is the sensor's direction right?"
    elif not still and slow:
        slow, ask = ": too little torque to get there", Ask.WEAKER
    return [
        Check(
            code="speed reached",
            passed=reached > 0.95,
            sentence=f"The shaft reached {100 * reached:.0f} % of the speed asked for "
            f"(95 needed){slow}",
            ask=ask,
        ),
        voltage_limit(record, axis),
        Check(
            code="zero",
            passed=abs(zero) <= most,
            sentence=f"Spinning puts the zero within {math.degrees(zero):+.1f}° "
            f"±{2 * math.degrees(zero_std):.1f} of Sensing's ({math.degrees(most):.0f}° allowed)"
            + ("" if abs(zero) <= most else ": find it again, unloaded; wrong pole pairs?"),
        ),
        Check(
            code="residual",
            passed=rms <= 0.01 * emf,
            sentence=f"Holds lie {digits(rms, 2)} V rms about the line, "
            f"{100 * rms / emf:.1f} % of the largest (1 % allowed)",
        ),
        *against_printed(axis, "machine.psi", psi, 0.5, 2.0),
    ]  # fmt: skip
