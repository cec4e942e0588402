"""Resistance, the dead time's voltage and the sensors' gain mismatch from direct current.

Currents along six directions at falling levels; nonlinear least squares of
v = R·i + V·f(i / i_k), f(x) = x / (1 + |x|^n)^(1/n) for each phase, with knee and exponent free,
sensor gains free with fixed sum, and offsets free. V/I alone, or two levels, are off by what
the dead time costs.
"""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.errors import InputError
from oarlock.experiments.common.checks import against_printed, voltage_limit
from oarlock.experiments.identify.evidence import VoltageLine, voltages
from oarlock.experiments.identify.phase_gains import sense_matrix
from oarlock.machine import Axis
from oarlock.quantities import measured
from oarlock.records import Ask, Check, Finding, Record

Array = NDArray[np.float64]
_TO_PHASES = np.array([[1.0, 0.0], [-0.5, math.sqrt(0.75)], [-0.5, -math.sqrt(0.75)]])
_FROM_PHASES = np.array(
    [[2.0 / 3.0, -1.0 / 3.0, -1.0 / 3.0], [0.0, 1.0 / math.sqrt(3.0), -1.0 / math.sqrt(3.0)]]
)


_MOST_DRIFT = 0.01
_MEDIAN = math.sqrt(4.0 * math.log(2.0))  # of the distance of two points, in deviations
_CURVE = 0.05  # of the dead time's voltage
_MOST_DEAD_TIME = 3.0  # of R times rated current; beyond, R hides under it


@dataclass(frozen=True, slots=True)
class _Points:
    """Means over each hold, in the stator frame."""

    current: Array  # (n, 2) measured alpha, beta, A
    voltage: Array  # (n, 2) commanded, V
    asked: Array  # (n,) A
    angle: Array  # (n,) rad
    noise: float  # V, standard error of one point's voltage
    drift: float  # of the voltage within a hold, of its size; the largest


@dataclass(frozen=True, slots=True)
class _Fit:
    parameters: Array  # R, V, ln i_k, ln n, gain_a - 1, gain_b - 1, offset alpha, beta
    covariance: Array
    residual: Array
    chi2: float


def estimate_resistance(record: Record, axis: Axis) -> Finding:
    """Return R, dead-time voltage and sensor gains from a record of direct-current holds.

    Parameters
    ----------
    record : columns id, iq, vd, vq, id_ref, theta_e; one row or several for each hold
    axis : for rated current, bus and the printed R

    Raises
    ------
    InputError : fewer than three directions or four levels

    """
    points = _points(record)
    directions = np.unique(np.round(points.angle, 6)).size
    levels = np.unique(np.round(points.asked, 6)).size
    if directions < 3 or levels < 4:
        cause = f"{directions} directions and {levels} levels; 3 and 4 are needed"
        raise InputError(cause, place=record.experiment, remedy="Repeat the whole experiment")
    fit = _fit(points, axis)
    R = float(fit.parameters[0])
    std = math.hypot(_formal(fit, 0), _spread(points, fit, axis))
    extra = {"knee": measured(float(np.exp(fit.parameters[2])), None, "A")}
    estimates = {
        "machine.R": measured(R, std, "ohm"),
        "inverter.dead_voltage": measured(float(fit.parameters[1]), 3.0 * _formal(fit, 1), "V"),
    }
    gains = {
        f"inverter.gain_{p}": measured(1.0 + float(fit.parameters[n]), _formal(fit, n), "1")
        for p, n in (("a", 4), ("b", 5))
    }
    # Sensing may know them better already.
    known = [axis.parameter(path) for path in gains]
    if all(p.adopted and p.std <= (gains[path].std or 0.0)
           for path, p in zip(gains, known, strict=True)):  # fmt: skip
        extra |= gains
    else:
        estimates |= gains
    return Finding(
        quantity="resistance",
        estimates=estimates,
        extra=extra,
        checks=tuple(_checks(record, points, fit, axis, R)),
        remark="line through dead time",
        evidence=_evidence(points, fit),
    )


def _points(record: Record) -> _Points:
    asked, angle = record["id_ref"], record["theta_e"]
    change = np.flatnonzero((np.diff(asked) != 0.0) | (np.diff(angle) != 0.0)) + 1
    parts = np.split(np.arange(asked.size), change)
    c, s = np.cos(angle), np.sin(angle)
    i = np.column_stack([record["id"] * c - record["iq"] * s, record["id"] * s + record["iq"] * c])
    v = np.column_stack([record["vd"] * c - record["vq"] * s, record["vd"] * s + record["vq"] * c])
    scatter = [np.var(v[part], axis=0, ddof=1).sum() / part.size for part in parts if part.size > 1]
    return _Points(
        current=np.array([i[part].mean(axis=0) for part in parts]),
        voltage=np.array([v[part].mean(axis=0) for part in parts]),
        asked=np.array([asked[part[0]] for part in parts]),
        angle=np.array([angle[part[0]] for part in parts]),
        drift=_drift(v, parts),
        noise=math.sqrt(0.5 * float(np.mean(scatter))) if scatter else 0.0,
    )


def _drift(v: Array, parts: list[NDArray[np.intp]]) -> float:
    """Return by how much (ratio) the voltage still moves within the holds, at most.

    A rotor that swings shows across the current, where its back-EMF is.
    """
    at = v[:, 0] + 1j * v[:, 1]
    held = [at[part] for part in parts if part.size >= 4]
    if not held:
        return 0.0
    moved = np.array([abs(hold[0] - hold[-1]) for hold in held])
    # What the last two differ by is noise, or nearly so: by then a hold has come to rest.
    noise = float(np.median([abs(hold[-1] - hold[-2]) for hold in held])) / _MEDIAN
    return max(float(moved.max()) - 5.0 * noise, 0.0) / max(float(np.abs(at).max()), 1e-12)


def _model(p: Array, current: Array) -> tuple[Array, Array]:
    """Return (voltage, true current), both (n, 2), for the measured current."""
    true = (current - p[6:8]) @ np.linalg.inv(sense_matrix(1.0 + p[4], 1.0 + p[5])).T
    x = true @ _TO_PHASES.T / np.exp(np.clip(p[2], -12.0, 6.0))
    n = 1.0 + np.exp(np.clip(p[3], -6.0, 3.0))
    size = np.abs(x)
    small, large = np.minimum(size, 1.0), np.maximum(size, 1.0)
    # Two forms of one function, so that no power overflows.
    shape = np.where(
        size <= 1.0, x / (1.0 + small**n) ** (1.0 / n), np.sign(x) / (1.0 + large**-n) ** (1.0 / n)
    )
    return p[0] * true + p[1] * shape @ _FROM_PHASES.T, true


def _fit(points: _Points, axis: Axis, *, keep: Array | None = None, knee: float = 0.0) -> _Fit:
    """Fit all points or those of `keep`; `knee` > 0 holds the exponent's logarithm there."""
    from scipy.optimize import least_squares

    current = points.current if keep is None else points.current[keep]
    voltage = points.voltage if keep is None else points.voltage[keep]
    rated = axis.rated
    start = np.array(
        [axis.machine.R.value, axis.inverter.dead_voltage.printed.value,
         math.log(0.03 * rated), 0.0, 0.0, 0.0, 0.0, 0.0]
    )  # fmt: skip
    count = axis.inverter.current_count
    # Weak beliefs keep what the data does not show near zero: gains 3 %, offsets 5 counts.
    belief = np.array([0.0, 0.0, 0.5, 0.7, 33.0, 33.0, 0.2 / count, 0.2 / count])
    noise = max(points.noise, 1e-4)

    def held(p: Array) -> Array:
        return np.where(np.arange(8) == 3, knee, p) if knee else p

    def misfit(p: Array) -> Array:
        p = held(p)
        residual = (voltage - _model(p, current)[0]) / noise
        return np.concatenate([residual.ravel(), belief * (p - start)])

    scale = np.array([start[0], start[1], 0.3, 0.5, 0.01, 0.01, count, count])
    found = least_squares(misfit, start, x_scale=scale, max_nfev=400)
    residual = voltage - _model(held(found.x), current)[0]
    free = max(residual.size - 8, 1)
    chi2 = float(np.sum((residual / noise) ** 2)) / free
    covariance = np.linalg.pinv(found.jac.T @ found.jac) * max(chi2, 1.0)
    return _Fit(held(found.x), covariance, residual, chi2)


def _formal(fit: _Fit, i: int) -> float:
    return math.sqrt(max(float(fit.covariance[i, i]), 0.0))


def _spread(points: _Points, fit: _Fit, axis: Axis) -> float:
    """Return how far R moves when the assumptions do: the model's own error."""
    order = np.unique(np.round(points.asked, 9))
    high = points.asked > order[1] + 1e-9
    others = [_fit(points, axis, keep=high), _fit(points, axis, knee=1.4)]
    moved = [abs(float(other.parameters[0] - fit.parameters[0])) for other in others]
    return 0.5 * max(*moved, 0.002 * float(fit.parameters[0]))


def _checks(record: Record, points: _Points, fit: _Fit, axis: Axis, R: float) -> list[Check]:
    size = np.hypot(*points.current.T)
    off = float(np.max(np.abs(size / points.asked - 1.0)))
    phases = np.abs(points.current @ _TO_PHASES.T).max(axis=0)
    weakest = float(phases.min() / phases.max())
    ratio = float(fit.parameters[1]) / (R * axis.rated)
    rms = float(np.sqrt(np.mean(fit.residual**2)))
    # The curve by which dead time turns its sign is another one in each bridge.
    curve = _CURVE * abs(float(fit.parameters[1]))
    allowed = max(0.004 * float(np.abs(points.voltage).max()), curve, 3.0 * points.noise)
    worst = max(abs(float(fit.parameters[4])), abs(float(fit.parameters[5])))
    share = ": high levels decide" if ratio > 0.5 else ""
    return [
        Check(
            code="current reached",
            passed=off <= 0.05,
            sentence=f"Every level was reached within {100 * off:.1f} % (5 % allowed)",
        ),
        voltage_limit(record, axis),
        Check(
            code="settled",
            passed=points.drift <= _MOST_DRIFT,
            sentence=f"Within a hold the voltage moves by {100 * points.drift:.1f} % "
            f"({100 * _MOST_DRIFT:g} allowed)"
            + ("" if points.drift <= _MOST_DRIFT else ": it had not settled"),
            ask=Ask.LONGER,
        ),
        Check(
            code="open phase",
            passed=weakest > 0.5,
            sentence="All three phases carried current"
            if weakest > 0.5
            else "One phase hardly carried current: is it open?",
        ),
        Check(
            code="residual",
            passed=rms <= allowed,
            sentence=f"Points lie {1e3 * rms:.0f} mV rms about the fit "
            f"({1e3 * allowed:.0f} allowed)",
        ),
        Check(
            code="sensor gains",
            passed=worst < 0.05,
            sentence=f"Phase sensors differ by up to {100 * worst:.2f} %; an error that all "
            "three share can't be seen",
        ),
        Check(
            code="dead time",
            passed=ratio <= _MOST_DEAD_TIME,
            sentence=f"Dead time takes {float(fit.parameters[1]):.2f} V, {ratio:.2f} of R × rated "
            f"current ({_MOST_DEAD_TIME:g} allowed){share}",
        ),
        *against_printed(axis, "machine.R", R, 0.5, 2.0),
    ]


def _evidence(points: _Points, fit: _Fit) -> VoltageLine:
    """Return the points and the fitted line along each direction, for plotting."""
    unit = np.column_stack([np.cos(points.angle), np.sin(points.angle)])
    i = np.sum(points.current * unit, axis=1)
    grid = np.linspace(0.0, 1.05 * float(i.max()), 120)
    lines = [
        np.sum(_model(fit.parameters, grid[:, None] * u)[0] * u, axis=1)
        for u in np.unique(np.round(unit, 9), axis=0)
    ]
    return voltages(
        i, np.sum(points.voltage * unit, axis=1), grid, np.mean(lines, axis=0),
        np.sum(fit.residual * unit, axis=1), R=float(fit.parameters[0]),
    )  # fmt: skip
