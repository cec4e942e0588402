"""Inertia and friction from speeds that rise and fall both ways."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.errors import InputError
from oarlock.experiments.identify.between_edges import made_by_halls, seen_from_edges, torque_doubt
from oarlock.experiments.identify.mechanics_checks import mechanics_checks
from oarlock.experiments.identify.soundness import is_foreign
from oarlock.experiments.identify.two_terminals import accuracy
from oarlock.machine import Axis, SensorKind
from oarlock.quantities import measured
from oarlock.quantities.display import digits
from oarlock.quantities.kinds import RPM
from oarlock.records import Ask, Check, Finding, Record
from oarlock.records.evidence import Fitted, fitted
from oarlock.records.settings import number, numbers

Array = NDArray[np.float64]


Rows = NDArray[np.int_]


_STRETCH = 0.25  # s, at most, of one cluster


_WATER = 0.5  # of the residual that a square of speed must explain to be taken in


_STILL = 0.05  # rad: less is no turning
_SMOOTHED = 0.02  # s
_SLOW = 0.2  # of the top speed: a slow plateau
_CREPT = 0.14  # of a breakaway torque: cogging and where it stood move it so much


PAPER = 0.05  # standard uncertainty of a flux that a datasheet prints, where it says none


_FLOORS = (0.002, 0.004, 0.003)  # of J, of the friction at top speed as B, of Tc


@dataclass(frozen=True, slots=True)
class _Stretch:
    """One stretch of one direction, integrated twice and free of its own start."""

    y: Array  # N m s2
    X: Array  # (n, 5)
    rows: Rows  # into the record
    fast: float  # rad/s, mean size


def estimate_mechanics(record: Record, axis: Axis) -> Finding:
    """Return inertia, viscous and Coulomb friction, breakaway and load torque.

    Parameters
    ----------
    record : columns t, theta_m, iq, and id where it is not zero
    axis : for the torque: pole pairs, flux, inductances

    Raises
    ------
    InputError : the shaft did not turn both ways

    """
    by_edges = made_by_halls(record, axis)
    if by_edges:
        record = seen_from_edges(record, axis.machine.pole_pairs.value)
    t, theta, torque = record["t"], record["theta_m"], _torque(record, axis)
    smoothing = _smoothing(record, axis)
    speed = _speed(t, theta, smoothing)
    wanted = number(record.settings, "speed", 0.0) or float(np.abs(speed).max())
    top = float(np.quantile(np.abs(speed), 0.98))
    if float(np.ptp(theta)) < _STILL:
        return _did_not_turn(record, 0.0, 1.0)
    if top < 0.1 * wanted:
        return _did_not_turn(record, top, wanted)
    least = (0.16 if axis.sensor.kind is SensorKind.HALL else 0.06) * top
    parts = _stretches(t, theta, torque, speed, least)
    ways = {float(np.sign(part.X[-1, 2])) for part in parts}
    if len(parts) < 4 or len(ways) < 2:
        remedy = "Turn it both ways, with plateaus at two speeds at least"
        raise InputError("too few stretches of steady direction", place=record.experiment,
                         remedy=remedy)  # fmt: skip
    found, cov = _chosen(parts)
    spread = _without(parts, found, 1.5 * _slowest(t, speed, least))
    J, B, Tc, TL, Q = (float(v) for v in found)
    scale = _torque_doubt(record, axis)
    lost = torque_doubt(axis, top) if by_edges else 0.0
    std = _uncertainty(found, cov, spread, scale, top, lost)
    estimates = {
        "machine.inertia": measured(J, std[0], "kg m2"),
        "mechanics.viscous": measured(B, std[1], "N m s/rad"),
        "mechanics.coulomb": measured(Tc, std[2], "N m"),
        "mechanics.load_torque": measured(TL, std[3], "N m"),
    }
    if Q != 0.0:
        estimates["mechanics.load_square"] = measured(Q, std[4], "N m s2/rad2")
    breakaway = _breakaway(record, t, theta, torque)
    if breakaway > 0.0:
        estimates["mechanics.breakaway"] = measured(breakaway, _CREPT * breakaway, "N m")
    model = _modelled(parts, found, t, theta, smoothing)
    misfit = np.where(np.isfinite(model), (speed - model) / RPM, 0.0)
    return Finding(
        quantity="inertia",
        estimates=estimates,
        extra={"time constant": measured(J / B if B > 0.0 else math.inf, None, "s")},
        checks=tuple(mechanics_checks(record, axis, found, spread, top, wanted, std, misfit)),
        remark=_remark(Tc, TL, std[3], on_paper=scale >= PAPER and "iq" in record.columns),
        evidence=_evidence(t, speed, model, misfit),
    )


def _remark(Tc: float, TL: float, load_std: float, *, on_paper: bool) -> str:
    remark = "flux from paper, ±5 %; " if on_paper else ""
    remark += f"friction {digits(Tc, 2)} N·m"
    return remark + (f", load {digits(TL, 2)}" if abs(TL) > 2.0 * load_std else "")


def _evidence(t: Array, speed: Array, model: Array, misfit: Array) -> Fitted:
    """Return what is drawn: the speed, what was fitted, and what is left, in rpm."""
    rpm = 1.0 / RPM
    shown = np.linspace(0, t.size - 1, min(t.size, 1500)).astype(int)
    drawn = np.where(np.isfinite(model), model * rpm, speed * rpm)[shown]
    return fitted(t[shown], speed[shown] * rpm, t[shown], drawn, misfit[shown])


def _uncertainty(
    found: Array, cov: Array, spread: Array, scale: float, top: float, lost: float
) -> list[float]:
    """Return the standard uncertainty of J, B, Tc, TL and Q.

    Parameters
    ----------
    spread : by how much the quicker stretches alone give another answer
    scale : ratio by which the torque may be wrong
    top : rad/s
    lost : N m, standard uncertainty of the torque at `top`, more than in proportion to speed

    """
    J, B, Tc, _, Q = (float(v) for v in found)
    edges = (0.0, lost / top, 0.5 * lost, 0.0, lost / top**2)
    loss = max(abs(B) * top + abs(Tc) + abs(Q) * top**2, 1e-12)
    floors = (
        _FLOORS[0] * J, _FLOORS[1] * loss / top, _FLOORS[2] * loss, _FLOORS[2] * loss,
        _FLOORS[1] * loss / top**2,
    )  # fmt: skip
    return [
        math.sqrt(max(float(cov[i, i]), 0.0) + (0.5 * float(spread[i])) ** 2
                  + (scale * float(found[i])) ** 2 + floors[i] ** 2 + edges[i] ** 2)
        for i in range(5)
    ]  # fmt: skip


def _did_not_turn(record: Record, top: float, wanted: float) -> Finding:
    share = 100.0 * top / wanted
    t, theta = record["t"][::20], record["theta_m"][::20]
    check = Check(
        code="shaft turned",
        passed=False,
        sentence=f"The shaft reached {share:.0f} % of the speed asked for (90 needed): brake on, "
        "locked, too little torque, or this is not its angle",
        ask=Ask.WEAKER,
    )
    return Finding(quantity="inertia", estimates={}, checks=(check,), remark="did not turn",
                   evidence=fitted(t, theta, t, theta, 0.0 * t))  # fmt: skip


def _torque(record: Record, axis: Axis) -> Array:
    i_d = record.columns.get("id", np.zeros(record.rows))
    if "iq" not in record.columns and "torque" in record.columns:
        return np.asarray(record["torque"])
    m = axis.machine
    reluctance = (m.Ld.value - m.Lq.value) * i_d
    return 1.5 * m.pole_pairs.value * (m.psi.value + reluctance) * record["iq"]


def _smoothing(record: Record, axis: Axis) -> float:
    """Return over how long (s) speeds are averaged: over a sector of halls at a slow plateau."""
    wanted = number(record.settings, "speed", 0.0)
    if axis.sensor.kind is not SensorKind.HALL or wanted <= 0.0:
        return _SMOOTHED
    sector = math.tau / 6.0 / axis.machine.pole_pairs.value
    return max(_SMOOTHED, sector / (_SLOW * wanted))


def _speed(t: Array, theta: Array, smoothing: float) -> Array:
    """Return a speed for looking at and for cutting into stretches, never for the fit."""
    from scipy.ndimage import uniform_filter1d

    step = float(np.median(np.diff(t)))
    width = max(round(smoothing / step), 3)
    smooth: Array = uniform_filter1d(np.gradient(theta, t), width, mode="nearest")
    return smooth


def _stretches(t: Array, theta: Array, torque: Array, speed: Array, least: float) -> list[_Stretch]:
    """Cut where the direction or the time jumps, and into clusters of a quarter second."""
    step = float(np.median(np.diff(t)))
    way = np.where(speed > least, 1, np.where(speed < -least, -1, 0))
    cut = np.flatnonzero((np.diff(way) != 0) | (np.diff(t) > 3.0 * step)) + 1
    found = []
    for piece in np.split(np.arange(t.size), cut):
        if piece.size * step < 0.06 or way[piece[0]] == 0:
            continue
        for rows in np.array_split(piece, max(round(piece.size * step / _STRETCH), 1)):
            found.append(_stretch(rows, t, theta, torque, speed, float(way[rows[0]])))
    return found


def _stretch(
    rows: Rows, t: Array, theta: Array, torque: Array, speed: Array, way: float
) -> _Stretch:
    time = t[rows] - t[rows[0]]
    angle = theta[rows] - theta[rows[0]]
    X = np.column_stack([
        angle, _integral(angle, time), way * 0.5 * time**2, 0.5 * time**2,
        way * _integral(_integral(speed[rows] ** 2, time), time),
    ])  # fmt: skip
    y = _integral(_integral(torque[rows], time), time)
    free = np.column_stack([np.ones_like(time), time])
    Q, _ = np.linalg.qr(free)
    weight = 1.0 / (float(time[-1]) ** 2 * math.sqrt(time.size))
    X, y = (X - Q @ (Q.T @ X)) * weight, (y - Q @ (Q.T @ y)) * weight
    fast = abs(float(angle[-1] / time[-1]))
    return _Stretch(y, X, rows, fast)


def _slowest(t: Array, speed: Array, least: float) -> float:
    """Return the slowest speed (rad/s) that was held for a while; 0 where none was."""
    from scipy.ndimage import uniform_filter1d

    step = float(np.median(np.diff(t)))
    change = np.abs(np.gradient(uniform_filter1d(speed, max(round(0.05 / step), 3)), t))
    moving = np.abs(speed) > least
    if not moving.any():
        return 0.0
    held = moving & (change < 0.25 * float(np.quantile(change[moving], 0.9)))
    return float(np.quantile(np.abs(speed[held]), 0.1)) if np.mean(held) > 0.05 else 0.0


def _torque_doubt(record: Record, axis: Axis) -> float:
    """Return the standard uncertainty of the torque's scale, as a ratio.

    A flux from paper counts with what the datasheet says, or five per cent; instruments of a
    bench with their accuracy.
    """
    gain = accuracy(record) if is_foreign(record) else 0.0
    if "iq" not in record.columns:
        return gain
    psi = axis.machine.psi
    flux = psi.std / psi.value if psi.std else PAPER
    return math.hypot(gain, flux)


def _integral(values: Array, t: Array) -> Array:
    from scipy.integrate import cumulative_trapezoid

    return np.asarray(cumulative_trapezoid(values, t, initial=0.0), dtype=np.float64)


def _chosen(parts: list[_Stretch]) -> tuple[Array, Array]:
    """Return the fit, with a square of speed where that explains much of what is left."""
    plain, squared = _solve(parts, square=False), _solve(parts, square=True)
    left = [
        math.sqrt(sum(float(np.sum((p.y - p.X @ found) ** 2)) for p in parts))
        for found, _ in (plain, squared)
    ]
    sure = squared[0][4] > 4.0 * math.sqrt(max(float(squared[1][4, 4]), 0.0))
    return squared if left[1] < (1.0 - _WATER) * left[0] and sure else plain


def _without(parts: list[_Stretch], found: Array, slow: float) -> Array:
    """Return by how much the fit changes without what is slower than `slow` (rad/s)."""
    quicker = [part for part in parts if part.fast > slow]
    if len(quicker) < 4:
        return np.zeros_like(found)
    return _solve(quicker, square=bool(found[4] != 0.0))[0] - found


def _solve(parts: list[_Stretch], *, square: bool) -> tuple[Array, Array]:
    """Return (J, B, Tc, TL, Q) and their covariance, robust over stretches."""
    X, y = np.vstack([part.X for part in parts]), np.concatenate([part.y for part in parts])
    used = 5 if square else 4
    X = X[:, :used]
    scale = np.linalg.norm(X, axis=0)
    scale[scale == 0.0] = 1.0
    found, *_ = np.linalg.lstsq(X / scale, y, rcond=None)
    found = found / scale
    bread = np.linalg.pinv((X / scale).T @ (X / scale))
    meat = np.zeros((used, used))
    for part in parts:
        score = (part.X[:, :used] / scale).T @ (part.y - part.X[:, :used] @ found)
        meat += np.outer(score, score)
    many = len(parts)
    cov = bread @ meat @ bread * many / max(many - used, 1) / np.outer(scale, scale)
    whole, full = np.zeros(5), np.zeros((5, 5))
    whole[:used], full[:used, :used] = found, cov
    return whole, full


def _modelled(
    parts: list[_Stretch], found: Array, t: Array, theta: Array, smoothing: float
) -> Array:
    """Return the speed that the fit gives on each stretch, from the angle's own residual."""
    speed = np.full(t.size, math.nan)
    J = max(float(found[0]), 1e-12)
    for part in parts:
        time = t[part.rows] - t[part.rows[0]]
        weight = 1.0 / (float(time[-1]) ** 2 * math.sqrt(time.size))
        off = (part.y - part.X @ found) / weight / J  # rad, what the model leaves of the angle
        speed[part.rows] = np.gradient(theta[part.rows] + off, time)
    from scipy.ndimage import uniform_filter1d

    step = float(np.median(np.diff(t)))
    width = max(round(smoothing / step), 3)
    known = np.isfinite(speed)
    smooth = uniform_filter1d(np.where(known, speed, 0.0), width)
    share = uniform_filter1d(known.astype(float), width)
    return np.where(share > 0.99, smooth, math.nan)


def _breakaway(record: Record, t: Array, theta: Array, torque: Array) -> float:
    """Return the torque at which a creeping reference first moved the shaft; 0: not creeping."""
    starts = numbers(record.settings, "creeps")
    creep = number(record.settings, "creep", 0.0)
    from scipy.ndimage import uniform_filter1d

    step = float(np.median(np.diff(t)))
    width = max(round(0.01 / step), 1)
    smooth, angle = uniform_filter1d(torque, width), uniform_filter1d(theta, width)
    sizes = []
    for start in starts:
        rows = np.flatnonzero((t >= t[0] + start) & (t <= t[0] + start + creep))
        moved = np.abs(angle[rows] - angle[rows[:1]]) > math.radians(0.1)
        first = int(np.argmax(moved)) if moved.any() else 0
        if first:
            sizes.append(float(np.abs(smooth[rows[: first + 1]]).max()))
    return float(np.mean(sizes)) if sizes else 0.0
