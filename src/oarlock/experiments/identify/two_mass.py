"""Two masses on a shaft that twists, fitted to a measured response."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.records import Record
from oarlock.records.settings import numbers

Array = NDArray[np.float64]


_RIGID = 6.0  # by what factor two masses must fit better than one to be believed


PEAK = tuple(np.linspace(-0.025, 0.025, 9))  # of the peak's frequency, met finely


LATE = 1e-4  # s, what the lateness is counted in


TRUSTED = 0.25  # of its size: what a point may be uncertain by


@dataclass(frozen=True, slots=True)
class Points:
    """Gain from torque to acceleration's inverse at each frequency."""

    f: Array  # Hz
    gain: Array  # complex, rad/s per N m
    std: Array  # ratio, of one real part

    def parted(self, n: int) -> tuple["Points", "Points"]:
        """Return the first `n`, and the rest."""
        first = Points(self.f[:n], self.gain[:n], self.std[:n])
        return first, Points(self.f[n:], self.gain[n:], self.std[n:])


@dataclass(frozen=True, slots=True)
class TwoMass:
    """Two masses on a shaft, as fitted."""

    J: float
    anti: float  # rad/s
    resonance: float
    d: float  # s, D/K
    late: float  # s, the angle after the current
    covariance: Array  # of ln J, ln anti, ln(resonance/anti), ln d, late
    cost: float
    rigid_cost: float


def is_twisting(fit: TwoMass, f: Array) -> bool:
    """Return whether two masses are believed: far better than one, with the dip in range."""
    better = fit.rigid_cost / max(fit.cost, 1e-12)
    return better > _RIGID and bool(f.min() < fit.anti / math.tau < f.max())


def measured_points(record: Record, axis: Axis) -> Points:
    """Return the complex gain from torque to angle at each frequency, with its uncertainty."""
    t, theta = record["t"], record["theta_m"]
    m = axis.machine
    torque = 1.5 * m.pole_pairs.value * m.psi.value * record["iq"]
    frequencies = numbers(record.settings, "frequencies")
    step = float(np.median(np.diff(t))) if t.size > 2 else 0.0
    if not frequencies or step <= 0.0:
        remedy = "Give frequencies in its settings"
        raise InputError("no frequencies are named", place=record.experiment, remedy=remedy)
    cut = np.flatnonzero(np.diff(t) > 5.0 * step) + 1
    parts = [rows for rows in np.split(np.arange(t.size), cut) if rows.size > 12]
    if len(parts) != len(frequencies):
        cause = f"{len(parts)} stretches of rows for {len(frequencies)} frequencies"
        raise InputError(cause, place=record.experiment, remedy="The record is not complete")
    gains, stds = [], []
    for rows, f in zip(parts, frequencies, strict=True):
        gain, std = _gain(t[rows], theta[rows], torque[rows], f)
        gains.append(gain)
        stds.append(std)
    return Points(np.array(frequencies), np.array(gains), np.array(stds))


def _gain(t: Array, theta: Array, torque: Array, f: float) -> tuple[complex, float]:
    """Return speed over torque at `f`, and the ratio by which it is uncertain."""
    u = (t - t[0]) / (t[-1] - t[0])
    w = math.tau * f
    basis = np.column_stack([np.cos(w * t), np.sin(w * t), np.ones_like(u), u, u**2, u**3])
    data = np.column_stack([theta, torque])
    found, *_ = np.linalg.lstsq(basis, data, rcond=None)
    left = data - basis @ found
    noise = left.std(axis=0, ddof=6) * math.sqrt(2.0 / t.size)
    angle, drive = (complex(found[0, i], -found[1, i]) for i in (0, 1))
    if abs(drive) < 1e-12 or abs(angle) < 1e-15:
        return 0j, math.inf
    return 1j * w * angle / drive, math.hypot(noise[0] / abs(angle), noise[1] / abs(drive))


def masses_response(p: Array, w: Array) -> Array:
    """Return the angle for each N·m of parameters J, anti-resonance, ratio and damping."""
    J, anti, ratio, d = np.exp(np.clip(p[:4], -30.0, 30.0))
    s, res = 1j * w, anti * (1.0 + ratio)
    out: Array = (s**2 / anti**2 + d * s + 1.0) / (J * s * (s**2 / res**2 + d * s + 1.0))
    return np.asarray(out * np.exp(-s * p[4] * LATE))


def fitted_masses(points: Points, axis: Axis) -> TwoMass:
    """Fit two masses from several beginnings, in the logarithm of the gain."""
    from scipy.optimize import least_squares

    w = math.tau * points.f
    inertia = axis.machine.inertia
    low = points.gain[: max(points.f.size // 6, 2)]
    J = float(np.median(1.0 / (w[: low.size] * np.abs(low))))
    J = J if math.isfinite(J) and J > 0.0 else inertia.value if inertia else 1e-3
    weight = 1.0 / np.hypot(points.std, 0.01)

    def misfit(model: Array) -> Array:
        off = np.log(model / points.gain)
        return np.concatenate([weight * off.real, weight * off.imag])

    def cost(p: Array) -> Array:
        return misfit(masses_response(p, w))

    # Where to begin: the best of a coarse grid of dips and peaks.
    grid = [
        (a, r) for a in np.geomspace(1.3 * w[0], 0.8 * w[-1], 40) for r in (0.15, 0.4, 0.8, 1.6)
    ]
    begins = [np.append(np.log([J, anti, ratio, 0.03 / anti]), 0.0) for anti, ratio in grid]
    begins.sort(key=lambda p: float(np.sum(np.log1p(cost(p) ** 2))))
    best = None
    for begin in begins[:2]:
        found = least_squares(cost, begin, loss="soft_l1", max_nfev=60)
        if best is None or found.cost < best.cost:
            best = found
    assert best is not None
    rigid = least_squares(
        lambda p: misfit(np.exp(-1j * w * p[1] * LATE) / (np.exp(p[0]) * 1j * w)),
        np.array([math.log(J), 0.0]), loss="soft_l1",
    )  # fmt: skip
    chi = float(np.median(cost(best.x) ** 2) / 0.455)
    covariance = np.linalg.pinv(best.jac.T @ best.jac) * max(chi, 0.05)
    J, anti, ratio, d = (float(v) for v in np.exp(best.x[:4]))
    # ln(res/anti) instead of ln(ratio), for the uncertainty
    chain = np.diag([1.0, 1.0, ratio / (1.0 + ratio), 1.0, LATE])
    late = float(best.x[4]) * LATE
    return TwoMass(J, anti, anti * (1.0 + ratio), d, late, chain @ covariance @ chain,
                    float(best.cost), float(rigid.cost))  # fmt: skip
