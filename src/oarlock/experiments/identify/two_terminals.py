"""R and L from two terminals of a machine that stands: a supply, or a generator of sines.

No inverter is in it: no dead time, no delay. What the instruments' gains are uncertain by stands
in `accuracy`, a setting of the record, for voltage and current each.
"""

import math

import numpy as np
from numpy.typing import NDArray

from oarlock.errors import InputError
from oarlock.experiments.identify.evidence import voltages, wave
from oarlock.experiments.identify.plausible import believable
from oarlock.machine import Axis
from oarlock.machine.heat import resistance_at
from oarlock.quantities import measured
from oarlock.quantities.display import digits
from oarlock.records import Check, Finding, Record

Array = NDArray[np.float64]
ACCURACY = 0.005  # standard uncertainty of an instrument's gain where nothing else is said
_REACTS = 0.003  # of Lq: what a free rotor may take of it without a word
_FREE_TURN = 0.002  # of the inductance's voltage that a moving rotor may induce


def accuracy(record: Record) -> float:
    """Return the standard uncertainty of an instrument's gain, as a ratio.

    Raises
    ------
    InputError : a setting without sense

    """
    raw = record.settings.get("accuracy", ACCURACY)
    value = float(raw) if isinstance(raw, int | float) else math.nan
    if not 0.0 <= value < 0.2:
        raise InputError(f"accuracy = {raw!r} is no accuracy of an instrument", place="settings",
                         remedy="Write --accuracy 0.5%")  # fmt: skip
    return value


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
    formal = math.sqrt(chi * float(np.linalg.inv(X.T @ X)[0, 0])) * _student(i.size - 2)
    R = 0.5 * float(found[0])
    bent = 0.5 * _bend(i, v)
    gain = math.sqrt(2.0) * accuracy(record) * abs(R)
    std = math.sqrt((0.5 * formal) ** 2 + gain**2 + (0.3 * bent) ** 2)
    rated, most = axis.machine.rated_current.value, float(np.abs(i).max())
    rms = float(np.sqrt(np.mean(residual**2)))
    allowed = 0.02 * float(np.abs(v).max())
    grid = np.linspace(float(i.min()), float(i.max()), 100)
    checks = (
        Check(code="amplitude", passed=most > 0.1 * rated,
              sentence=f"The current reached {100 * most / rated:.0f} % of rated (10 needed)"),
        Check(code="straight", passed=abs(bent) < 0.03 * abs(R) + 2.0 * formal,
              sentence=f"From small to large currents R changes by {100 * bent / R:.1f} % "
              "(3 allowed)" + ("" if abs(bent) < 0.03 * abs(R) + 2.0 * formal
                               else ": the winding heats meanwhile, or a contact gives way")),
        Check(code="residual", passed=rms <= allowed,
              sentence=f"Points lie {digits(1e3 * rms, 2)} mV rms about the line "
              f"({digits(1e3 * allowed, 2)} allowed)"),
        *believable(axis, "machine.R", _at_printed(R, record), unit="ohm"),
    )  # fmt: skip
    return Finding(
        quantity="resistance",
        estimates={"machine.R": measured(R, std, "ohm")},
        checks=checks,
        remark="two terminals, halved",
        evidence=voltages(i, v, grid, float(found[0]) * grid + float(found[1]), residual,
                          R=float(found[0])),
    )  # fmt: skip


def _student(freedom: int) -> float:
    """Return by what few points widen the standard uncertainty (95 % of Student's t over 1.96)."""
    from scipy.stats import t

    return float(t.ppf(0.975, max(freedom, 1))) / 1.96


def _bend(i: Array, v: Array) -> float:
    """Return how much the slope (ohm) at large currents exceeds the one at small ones."""
    size = np.abs(i)
    if i.size < 8 or np.ptp(size) < 0.5 * float(size.max()):
        return 0.0
    X = np.column_stack([i, np.ones_like(i), i * (size / size.max())])
    found, *_ = np.linalg.lstsq(X, v, rcond=None)
    return float(found[2])


def _at_printed(R: float, record: Record) -> float:
    """Return R at 20 °C where the winding's temperature is known, for the comparison alone."""
    winding = record.settings.get("winding")
    if not isinstance(winding, int | float):
        return R
    return resistance_at(R, float(winding), 20.0)


def two_terminal_sine(record: Record, axis: Axis, which: str) -> Finding:
    """Return Ld or Lq from a sine through two terminals of a locked machine.

    Parameters
    ----------
    record : columns t, i (A), vab (V, between the terminals); theta_m where there is one;
        settings give `frequency`, Hz, and `locked` = 1 where a free rotor would show
    which : "d" or "q", along which the rotor is locked

    """
    f = _frequency(record)
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
    if abs(Z.imag) < 1e-15:
        raise InputError("the voltage does not lead the current", place=record.experiment,
                         remedy="Raise the frequency, or check the columns")  # fmt: skip
    steep = abs(Z) / abs(Z.imag)  # what a gain's noise does to the part across
    relative = math.hypot(
        steep * noise[0] / abs(current), steep * noise[1] / max(abs(volts), 1e-12),
        math.sqrt(2.0) * accuracy(record),
    )  # fmt: skip
    checks = _sine_checks(record, axis, which, f, Z, left, float(noise[0]) / abs(current))
    one = np.mod(f * t, 1.0)
    order = np.argsort(one)
    fitted = basis @ found[:, 0] - found[2, 0]
    return Finding(
        quantity=f"inductance_{which}",
        estimates={f"machine.L{which}": measured(L, abs(L) * relative, "H")},
        checks=(*checks, *believable(axis, f"machine.L{which}", L, unit="H")),
        remark=f"two terminals at {f:.0f} Hz, halved",
        evidence=wave(one[order], (record["i"] - found[2, 0])[order], fitted[order],
                      record["vab"][order]),
    )  # fmt: skip


def _frequency(record: Record) -> float:
    raw = record.settings.get("frequency", 0.0)
    f = float(raw) if isinstance(raw, int | float) else 0.0
    if not 0.0 < f < 1e6:
        raise InputError("no frequency is given", place=record.experiment,
                         remedy="Add --set frequency=1000")  # fmt: skip
    t = record["t"]
    if f * float(t[-1] - t[0]) < 5.0:
        cause = f"only {f * float(t[-1] - t[0]):.1f} periods of {f:g} Hz"
        remedy = "Record longer; is time in ms?"
        raise InputError(cause, place=record.experiment, remedy=remedy)
    return f


def _sine_checks(
    record: Record, axis: Axis, which: str, f: float, Z: complex, left: Array, noise: float
) -> list[Check]:
    i, v, t = record["i"], record["vab"], record["t"]
    strength = 1.0 / max(noise, 1e-9)
    lead = math.degrees(math.atan2(Z.imag, Z.real))
    other = [float(left[:, n].std() / max(float(np.std(x)), 1e-15)) for n, x in enumerate((i, v))]
    per_period = 1.0 / (f * float(np.median(np.diff(t))))
    found = [
        Check(code="excitation", passed=strength > 10.0,
              sentence=f"The current answers at {min(strength, 9999):.0f} times its uncertainty "
              "(10 needed)"),
        Check(code="samples a period", passed=per_period >= 8.0,
              sentence=f"{per_period:.1f} samples a period (8 needed)"),
        Check(code="one sine", passed=max(other) < 0.5,
              sentence=f"{100 * max(other):.0f} % of the signals is no sine of {f:g} Hz "
              "(50 allowed)" + ("" if max(other) < 0.5 else ": is the frequency right?")),
        Check(code="phase", passed=20.0 < lead < 90.0,
              sentence=f"The voltage leads by {lead:.0f}° (20 to 90 expected)"
              + ("" if Z.imag > 0.0 else ": the current leads, is one of them reversed?")),
    ]  # fmt: skip
    found += _resistive(Z, axis, accuracy(record))
    return found + (_locked(record, axis, f, Z) if which == "q" else _still(record, f, Z, axis))


def _resistive(Z: complex, axis: Axis, gain: float) -> list[Check]:
    """Hold the part in phase against the resistance that is known, where it tells anything."""
    known = axis.machine.R.value
    if math.sqrt(2.0) * gain * abs(Z) > 0.15 * 2.0 * known:
        return []
    ratio = 0.5 * Z.real / known
    return [
        Check(code="resistance in it", passed=0.8 < ratio < 2.0,
              sentence=f"The part in phase is {ratio:.2f} times the resistance in use (0.8 to 2)"
              + ("" if 0.8 < ratio < 2.0 else ": wiring, or the scale of a probe?"))
    ]  # fmt: skip


def _locked(record: Record, axis: Axis, f: float, Z: complex) -> list[Check]:
    """Return whether the rotor's own swing took something of Lq."""
    if "theta_m" in record.columns:
        return _still(record, f, Z, axis)
    reacts = _reaction(axis, f, Z)
    sure = bool(record.settings.get("locked")) or reacts < _REACTS
    share = "by an unknown part" if reacts == math.inf else f"up to {100 * reacts:.0f} %"
    told = (
        "The rotor was locked, as the settings say"
        if sure and record.settings.get("locked")
        else f"A free rotor would read {share} low at {f:g} Hz"
    )
    return [
        Check(code="locked", passed=sure,
              sentence=told + ("" if sure else ": lock it and say --set locked=1, record theta_m, "
                               "or raise the frequency"))
    ]  # fmt: skip


def _reaction(axis: Axis, f: float, Z: complex) -> float:
    """Return what a free rotor would take of Lq, as a ratio: 1.5 p² psi² / (J w²) over Lq."""
    m = axis.machine
    if m.inertia is None:
        return math.inf
    L = max(0.5 * Z.imag / (math.tau * f), 1e-12)
    return (
        1.5 * (m.pole_pairs.value * m.psi.value) ** 2 / (m.inertia.value * (math.tau * f) ** 2 * L)
    )


def _still(record: Record, f: float, Z: complex, axis: Axis) -> list[Check]:
    if "theta_m" not in record.columns:
        return []
    m, t = axis.machine, record["t"]
    theta = record["theta_m"] - np.mean(record["theta_m"])
    phase = math.tau * f * t
    basis = np.column_stack([np.cos(phase), np.sin(phase), np.ones_like(t)])
    found, *_ = np.linalg.lstsq(basis, theta, rcond=None)
    swing = math.hypot(float(found[0]), float(found[1]))
    induced = m.pole_pairs.value * m.psi.value * math.tau * f * swing
    volts = 0.5 * abs(Z.imag) * float(np.std(record["i"])) * math.sqrt(2.0)
    drift = m.pole_pairs.value * float(np.ptp(theta))
    still = induced < _FREE_TURN * volts and drift < math.radians(6.0)
    return [
        Check(code="rotor still", passed=still,
              sentence=f"The rotor swings by ±{digits(math.degrees(swing), 2)}° at {f:g} Hz and "
              f"moved {digits(math.degrees(drift), 2)}° electrical"
              + ("" if still else ": lock it"))
    ]  # fmt: skip
