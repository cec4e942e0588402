"""Estimators for what other instruments record: two terminals, open terminals, a measured speed.

None of them has an inverter in it: no dead time, no delay.
"""

import math
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from oarlock.errors import InputError
from oarlock.identify.checks import against_datasheet
from oarlock.machine import Axis
from oarlock.quantities import measured
from oarlock.quantities.display import digits
from oarlock.records import Check, Finding, Record

Array = NDArray[np.float64]
_READING = 0.002  # of a voltmeter's and an ammeter's reading
_MOST_HARMONICS = 0.15  # of the fundamental


def direct_current(record: Record, axis: Axis) -> Finding:
    """Return R from direct current through two terminals: half the slope of volts over amperes.

    Parameters
    ----------
    record : columns i (A) and vab (V, between the terminals)
    axis : for the printed R and the rated current

    """
    i, v = record["i"], record["vab"]
    if i.size < 3 or np.ptp(i) < 1e-6 * max(float(np.abs(i).max()), 1e-12):
        raise InputError("the current never changes", place=record.experiment,
                         remedy="Record at two currents at least, or both ways")  # fmt: skip
    X = np.column_stack([i, np.ones_like(i)])
    found, *_ = np.linalg.lstsq(X, v, rcond=None)
    residual = v - X @ found
    chi = float(np.sum(residual**2)) / max(i.size - 2, 1)
    formal = math.sqrt(chi * float(np.linalg.inv(X.T @ X)[0, 0]))
    R = 0.5 * float(found[0])
    std = math.hypot(0.5 * formal, _READING * abs(R))
    rated, most = axis.machine.rated_current.value, float(np.abs(i).max())
    rms = float(np.sqrt(np.mean(residual**2)))
    allowed = 0.02 * float(np.abs(v).max())
    grid = np.linspace(float(i.min()), float(i.max()), 100)
    checks = (
        Check(name="amplitude", passed=most > 0.1 * rated,
              sentence=f"The current reached {100 * most / rated:.0f} % of rated (10 needed)"),
        Check(name="residual", passed=rms <= allowed,
              sentence=f"Points lie {digits(1e3 * rms, 2)} mV rms about the line "
              f"({digits(1e3 * allowed, 2)} allowed)"),
        against_datasheet(R, axis.machine.R.printed.value, 0.6, 1.8),
    )  # fmt: skip
    return Finding(
        quantity="resistance",
        estimates={"machine.R": measured(R, std, "ohm")},
        checks=checks,
        remark="two terminals, halved",
        evidence={"i": i, "v": v, "residual": residual, "fit_i": grid,
                  "fit_v": float(found[0]) * grid + float(found[1]),
                  "line_v": float(found[0]) * grid},
    )  # fmt: skip


def two_terminal_sine(record: Record, axis: Axis, which: str) -> Finding:
    """Return Ld or Lq from a sine through two terminals of a locked machine.

    Parameters
    ----------
    record : columns t, i (A), vab (V, between the terminals); settings give `frequency`, Hz
    which : "d" or "q", along which the rotor is locked

    """
    f = float(record.settings.get("frequency", 0.0))
    if not f > 0.0:
        raise InputError("no frequency is given", place=record.experiment,
                         remedy="Add --set frequency=1000")  # fmt: skip
    t = record["t"]
    phase = math.tau * f * t
    basis = np.column_stack([np.cos(phase), np.sin(phase), np.ones_like(t)])
    data = np.column_stack([record["i"], record["vab"]])
    found, *_ = np.linalg.lstsq(basis, data, rcond=None)
    left = data - basis @ found
    noise = left.std(axis=0, ddof=3) * math.sqrt(2.0 / t.size)
    current, volts = (complex(found[0, n], -found[1, n]) for n in (0, 1))
    if abs(current) < 1e-12:
        raise InputError("no current answers the sine", place=record.experiment,
                         remedy="Check columns and frequency")  # fmt: skip
    Z = volts / current
    L = 0.5 * Z.imag / (math.tau * f)
    relative = math.hypot(noise[0] / abs(current), noise[1] / max(abs(volts), 1e-12), _READING)
    turned = abs(math.degrees(math.atan2(Z.imag, Z.real)))
    one = np.mod(f * t, 1.0)
    order = np.argsort(one)
    fitted = basis @ found[:, 0] - found[2, 0]
    strength = abs(current) / max(float(noise[0]), 1e-15)
    checks = (
        Check(name="excitation", passed=strength > 10.0,
              sentence=f"The current answers at {min(strength, 9999):.0f} times its uncertainty "
              "(10 needed)"),
        Check(name="phase", passed=Z.imag > 0.0 and turned > 20.0,
              sentence=f"The voltage leads by {turned:.0f}° (20 to 90 expected)"
              + ("" if Z.imag > 0.0 else ": the current leads, is one of them reversed?")),
        against_datasheet(L, axis.parameter(f"machine.L{which}").printed.value, 0.4, 2.5),
    )  # fmt: skip
    return Finding(
        quantity=f"inductance_{which}",
        estimates={f"machine.L{which}": measured(L, abs(L) * relative, "H")},
        checks=checks,
        remark=f"two terminals at {f:.0f} Hz, halved",
        evidence={
            "phase": one[order], "measured": (record["i"] - found[2, 0])[order],
            "fitted": fitted[order], "volts": record["vab"][order], "residual": left[order, 0],
            "map_i": np.array([0.0]), "map_L": np.array([L]),
        },
    )  # fmt: skip


def back_emf(record: Record, axis: Axis) -> Finding:
    """Return the flux from the voltage of open terminals while something else turns the shaft.

    The voltage's own frequency is the electrical speed; a measured angle or speed checks the
    pole pairs. Stretches of a few periods are fitted each with their own frequency, so that the
    speed may drift.

    Parameters
    ----------
    record : columns t and vab (between terminals) or va, vb (to the star point or ground)

    """
    t = record["t"]
    between = "vab" in record.columns
    v = record["vab"] if between else record["va"] - record["vb"]
    v = v - float(np.mean(v))
    f = _frequency(t, v)
    periods = f * float(t[-1] - t[0])
    if periods < 4.0:
        cause = f"only {max(periods, 0.0):.1f} periods of voltage"
        raise InputError(cause, place=record.experiment,
                         remedy="Record four at least; does the shaft turn?")  # fmt: skip
    many = int(min(max(periods // 4, 1), 24))
    found = [_stretch(t[rows], v[rows], f) for rows in np.array_split(np.arange(t.size), many)]
    omega = np.array([w for w, _, _ in found])
    peak = np.array([a for _, a, _ in found])
    psi_each = peak / math.sqrt(3.0) / omega
    psi = float(np.median(psi_each))
    spread = float(np.std(psi_each)) / math.sqrt(many)
    harmonics = float(np.sqrt(np.mean([h**2 for _, _, h in found]))) / float(np.mean(peak))
    std = math.hypot(spread, _READING * psi)
    checks = [
        Check(name="sine", passed=harmonics < _MOST_HARMONICS,
              sentence=f"What is not a sine is {100 * harmonics:.0f} % of it "
              f"({100 * _MOST_HARMONICS:.0f} allowed)"),
        Check(name="steady", passed=float(np.std(psi_each)) < 0.05 * psi,
              sentence=f"Stretches agree within {100 * float(np.std(psi_each)) / psi:.1f} % "
              "(5 allowed)"),
        *_pairs_check(record, axis, float(np.mean(omega)), t),
        against_datasheet(psi, axis.machine.psi.printed.value, 0.5, 2.0,
                          pole_pairs=axis.machine.pole_pairs.value),
    ]  # fmt: skip
    top = 1.05 * float(omega.max())
    return Finding(
        quantity="flux",
        estimates={"machine.psi": measured(psi, std, "Wb")},
        checks=tuple(checks),
        remark=f"open terminals, {digits(f, 3)} Hz",
        evidence={"x": omega, "y": psi_each * omega, "fit_x": np.array([0.0, top]),
                  "fitted": np.array([0.0, psi * top]), "residual": (psi_each - psi) * omega},
    )  # fmt: skip


def _frequency(t: Array, v: Array) -> float:
    """Return the frequency (Hz) of the largest line, between bins."""
    step = float(np.median(np.diff(t)))
    lines = np.abs(np.fft.rfft(v * np.hanning(v.size)))
    lines[0] = 0.0
    k = int(np.argmax(lines))
    if 0 < k < lines.size - 1:
        a, b, c = np.log(lines[k - 1 : k + 2] + 1e-300)
        bend = a - 2.0 * b + c
        shift = 0.5 * (a - c) / bend if bend else 0.0
        return float((k + shift) / (v.size * step))
    return float(k / (v.size * step))


def _stretch(t: Array, v: Array, f: float) -> tuple[float, float, float]:
    """Return (rad/s, peak V, rms of what is no sine) of a stretch."""
    from scipy.optimize import least_squares

    time = t - t.mean()

    def model(w: float) -> tuple[Array, Array]:
        basis = np.column_stack([np.cos(w * time), np.sin(w * time), np.ones_like(time)])
        found, *_ = np.linalg.lstsq(basis, v, rcond=None)
        return v - basis @ found, found

    start = math.tau * f
    best = least_squares(lambda p: model(float(p[0]))[0], [start], x_scale=[0.01 * start],
                         max_nfev=30)  # fmt: skip
    w = float(best.x[0])
    left, found = model(w)
    return abs(w), math.hypot(float(found[0]), float(found[1])), float(left.std())


def _pairs_check(record: Record, axis: Axis, omega: float, t: Array) -> list[Check]:
    if "speed" in record.columns:
        turning = abs(float(np.mean(record["speed"])))
    elif "theta_m" in record.columns:
        turning = abs(float(np.polyfit(t - t[0], np.unwrap(record["theta_m"]), 1)[0]))
    else:
        return []
    pairs = axis.machine.pole_pairs.value
    found = omega / turning if turning > 0.0 else math.inf
    whole = abs(found - pairs) < 0.05 * pairs
    hint = ""
    if not whole:
        if abs(found / pairs - 0.5) < 0.03:
            hint = ": were poles entered for pole pairs?"
        elif abs(found / pairs * 180.0 / math.pi - 1.0) < 0.05:
            hint = ": is the angle in degrees?"
        elif abs(found / pairs * 60.0 / math.tau - 1.0) < 0.05:
            hint = ": is the speed in rpm?"
    sentence = f"{digits(found, 4)} pole pairs by voltage and shaft, {pairs:.0f} entered{hint}"
    return [Check(name="pole pairs", passed=whole, sentence=sentence)]


def with_angle(record: Record) -> Record:
    """Return the record with the angle that its measured speed gives."""
    if "theta_m" in record.columns or "speed" not in record.columns:
        return record
    from scipy.integrate import cumulative_trapezoid

    theta = np.asarray(cumulative_trapezoid(record["speed"], record["t"], initial=0.0))
    return replace(record, columns={**record.columns, "theta_m": theta},
                   units={**record.units, "theta_m": "rad"})  # fmt: skip
