"""Magnet flux from the voltage of open terminals while something else turns the shaft.

The voltage's own phase tells the speed. On stretches of two periods a turn whose speed changes
evenly is fitted, v = √3 ψ (w0 + a t) cos(φ0 + w0 t + a t²/2) + c, so that neither a coast-down nor
a wobble of the speed bends the result.
"""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.errors import InputError
from oarlock.experiments.identify.plausible import believable
from oarlock.experiments.identify.two_terminals import accuracy
from oarlock.machine import Axis
from oarlock.quantities import measured
from oarlock.quantities.display import digits
from oarlock.records import Check, Finding, Record
from oarlock.records.evidence import fitted

Array = NDArray[np.float64]
_MOST_HARMONICS = 0.15  # of the fundamental
_MOST_STRETCHES = 48
_EACH = 2  # periods of a stretch
_LEAST_SAMPLES = 8.0  # a period


@dataclass(frozen=True, slots=True)
class _Stretch:
    omega: float  # rad/s, electrical, mean
    psi: float  # Wb
    harmonics: float  # rms of what is no sine, over the amplitude
    at: float  # s, its middle


def back_emf(record: Record, axis: Axis) -> Finding:
    """Return the flux from open terminals.

    Parameters
    ----------
    record : columns t and vab (between terminals) or va, vb (to the star point or ground);
        theta_m or speed check the pole pairs

    Raises
    ------
    InputError : too few periods

    """
    t = record["t"]
    v = record["vab"] if "vab" in record.columns else record["va"] - record["vb"]
    crossings = _crossings(t, v)
    if crossings.size < 2 * _EACH + 1:
        many = max(crossings.size - 1, 0)
        cause = f"only {many} whole period{'s' * (many != 1)} of voltage"
        raise InputError(cause, place=record.experiment,
                         remedy=f"Record {2 * _EACH} at least; does the shaft turn?")  # fmt: skip
    parts = _stretches(t, v, crossings)
    omega = np.array([p.omega for p in parts])
    each = np.array([p.psi for p in parts])
    psi = float(np.median(each))
    spread = 1.25 * float(np.std(each, ddof=1)) / math.sqrt(each.size) if each.size > 1 else psi
    harmonics = float(np.sqrt(np.mean([p.harmonics**2 for p in parts])))
    std = math.hypot(spread, accuracy(record) * psi)
    scatter = float(np.std(each)) / psi
    per_period = 1.0 / (float(np.median(np.diff(t))) * float(omega.max()) / math.tau)
    checks = [
        Check(code="sine", passed=harmonics < _MOST_HARMONICS,
              sentence=f"What is not a sine is {100 * harmonics:.0f} % of it "
              f"({100 * _MOST_HARMONICS:.0f} allowed)"),
        Check(code="stretches", passed=scatter < 0.05,
              sentence=f"Stretches of {_EACH} periods agree within {100 * scatter:.1f} % "
              "(5 allowed)"),
        Check(code="samples a period", passed=per_period >= _LEAST_SAMPLES,
              sentence=f"{per_period:.1f} samples a period ({_LEAST_SAMPLES:.0f} needed)"),
        *_speed_known(record, axis, parts, t),
        *believable(axis, "machine.psi", psi, unit="Wb"),
    ]  # fmt: skip
    top = 1.05 * float(omega.max())
    hertz = float(np.mean(omega)) / math.tau
    return Finding(
        quantity="flux",
        estimates={"machine.psi": measured(psi, std, "Wb")},
        checks=tuple(checks),
        remark=f"open terminals, {digits(hertz, 3)} Hz",
        evidence=fitted(omega, each * omega, np.array([0.0, top]), np.array([0.0, psi * top]),
                        (each - psi) * omega),
    )  # fmt: skip


def _crossings(t: Array, v: Array) -> Array:
    """Return the times (s) at which the voltage rises through its middle, once a period.

    It has to go well below and well above in between, by its size round there, so that neither
    noise nor a harmonic counts.
    """
    middle = 0.5 * (float(np.quantile(v, 0.98)) + float(np.quantile(v, 0.02)))
    centred = v - middle
    size = _envelope(centred)
    armed, found, last = False, [], 0
    high, low = centred > 0.35 * size, centred < -0.35 * size
    for event in np.flatnonzero(high | low):
        n = int(event)
        if low[n]:
            armed, last = True, n
        elif armed:
            rising = np.flatnonzero(centred[last : n + 1] < 0.0)
            k = last + int(rising[-1]) if rising.size else last
            rise = centred[k + 1] - centred[k]
            found.append(t[k] - centred[k] / rise * (t[k + 1] - t[k]) if rise > 0.0 else t[k])
            armed = False
    return np.array(found)


def _envelope(v: Array) -> Array:
    """Return the local size of a signal: the largest within what is some periods."""
    from scipy.ndimage import maximum_filter1d

    size: Array = maximum_filter1d(np.abs(v), max(v.size // 12, 5), mode="nearest")
    return np.maximum(size, 1e-12)


def _stretches(t: Array, v: Array, crossings: Array) -> list[_Stretch]:
    many = (crossings.size - 1) // _EACH
    picked = np.unique(np.linspace(0, many - 1, min(many, _MOST_STRETCHES)).astype(int))
    found = []
    for n in picked:
        a, b = float(crossings[n * _EACH]), float(crossings[(n + 1) * _EACH])
        rows = slice(int(np.searchsorted(t, a)), int(np.searchsorted(t, b)) + 1)
        if t[rows].size >= 3 * _EACH + 3:
            found.append(_fitted(t[rows], v[rows], math.tau * _EACH / (b - a)))
    if len(found) < 2:
        raise InputError("too few samples in each period", place="flux", remedy="Sample faster")
    return found


def _fitted(t: Array, v: Array, omega: float) -> _Stretch:
    """Return what a stretch of voltage says; its speed begins near `omega` (rad/s)."""
    from scipy.optimize import least_squares

    middle = 0.5 * float(t[0] + t[-1])
    time = t - middle

    def parts(p: Array) -> tuple[Array, Array]:
        speed = omega * (1.0 + p[0]) + p[1] * omega**2 * time
        angle = omega * (1.0 + p[0]) * time + 0.5 * p[1] * (omega * time) ** 2
        basis = np.column_stack([speed * np.cos(angle), speed * np.sin(angle), np.ones_like(time)])
        found, *_ = np.linalg.lstsq(basis, v, rcond=None)
        return v - basis @ found, found

    best = least_squares(lambda p: parts(p)[0], [0.0, 0.0], method="lm",
                         x_scale=[0.01, 0.002], max_nfev=75)  # fmt: skip
    left, found = parts(best.x)
    peak = math.hypot(float(found[0]), float(found[1]))
    speed = omega * (1.0 + float(best.x[0]))
    size = max(peak * speed, 1e-12)
    return _Stretch(abs(speed), peak / math.sqrt(3.0), float(left.std()) * math.sqrt(2.0) / size,
                    middle)  # fmt: skip


def _speed_known(record: Record, axis: Axis, parts: list[_Stretch], t: Array) -> list[Check]:
    """Hold the voltage's frequency against the shaft, or see that it cannot be another one."""
    if {"speed", "theta_m"} & set(record.columns):
        return _pairs(record, axis, parts, t)
    nyquist = 0.5 / float(np.median(np.diff(t)))
    highest = axis.machine.pole_pairs.value * axis.machine.max_speed.value / math.tau
    sure = nyquist > 1.2 * highest
    return [
        Check(code="frequency", passed=sure,
              sentence=f"Sampled at {digits(2 * nyquist, 3)} Hz; at its top speed this machine has "
              f"{digits(highest, 3)} Hz" + ("" if sure else ": the frequency that is seen may be "
              "a folded one. Sample faster, or record the speed"))
    ]  # fmt: skip


def _pairs(record: Record, axis: Axis, parts: list[_Stretch], t: Array) -> list[Check]:
    if "speed" in record.columns:
        turning = np.array([abs(float(np.interp(p.at, t, record["speed"]))) for p in parts])
    else:
        theta = record["theta_m"]
        half = [math.pi / p.omega * _EACH for p in parts]
        turning = np.array([
            abs(float(np.interp(p.at + h, t, theta) - np.interp(p.at - h, t, theta))) / (2.0 * h)
            for p, h in zip(parts, half, strict=True)
        ])  # fmt: skip
    omega = np.array([p.omega for p in parts])
    pairs = axis.machine.pole_pairs.value
    still = float(np.median(turning)) <= 1e-9
    found = math.inf if still else float(np.median(omega / np.maximum(turning, 1e-12)))
    whole = abs(found - pairs) < 0.05 * pairs
    hint = "" if whole else _pairs_hint(found / pairs, pairs)
    sentence = f"{digits(found, 4)} pole pairs by voltage and shaft, {pairs:.0f} entered{hint}"
    return [Check(code="pole pairs", passed=whole, sentence=sentence)]


def _pairs_hint(ratio: float, pairs: float) -> str:
    for value, hint in (
        (0.5, "were poles entered for pole pairs?"),
        (math.pi / 180.0, "is the angle in degrees?"),
        (math.tau / 60.0, "is the speed in rpm?"),
        (60.0 / math.tau, "is the speed in turns a second, or in rpm twice converted?"),
        (math.tau, "is the angle in turns?"),
        (1.0 / pairs, "is the speed electrical?"),
        (1e-3, "is the time in ms?"),
        (1e3, "is the time in ms?"),
    ):
        if abs(ratio / value - 1.0) < 0.05:
            return f": {hint}"
    return ": or is the sampling below twice the frequency?"
