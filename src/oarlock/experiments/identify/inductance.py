"""Incremental inductance from a sine of voltage on a held current, rotor at rest.

The complex gain from commanded voltage to current is read by least squares on sine, cosine and
offset, and solved for the exact sampled plant: with one sample of delay and the hold,
Y(z) = b / (z (z - a)), so 1/(z Y) = c gives b = Im z / Im c and a = Re z - b Re c.

Iron loss, a bridge that is late by part of a sample and a filter before the converter change what
is read by the square of the frequency; the dead time, and a free rotor's swing, by its inverse.
With sines at several frequencies both fall out. The current held along d shifts Lq by saturation
across the axes, one way or the other: with that current of either sign it falls out as well; on a
free rotor that cannot be done, and u says so.
"""

import cmath
import math
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from oarlock.errors import InputError
from oarlock.experiments.common.checks import against_printed, voltage_limit
from oarlock.experiments.identify.evidence import CurrentWave, wave
from oarlock.experiments.identify.phase_gains import rotation, sense_matrix
from oarlock.machine import Axis
from oarlock.quantities import Estimate, Origin
from oarlock.records import Ask, Check, Finding, Record
from oarlock.records.settings import number, tables

Array = NDArray[np.float64]
_AVERAGED = 16  # rows, of the angle where it is asked whether it moved
_MOST_MOVED = 4.0  # degrees electrical: a frame that is so far off changes L by half of 1 %
_MOST_SPREAD = 0.01  # of the sensors' gains
_DELAY_FLOOR = 0.01  # of a sample
_IRON = 0.018  # of the rated current, at the bus's whole voltage: what iron loss may take
_BESIDE = 14  # frequencies on each side of a sine, whole periods apart, that tell the noise
_MODEL_FLOOR = 0.002  # what the estimator's own assumptions cost, ratio
_SINE_FLOOR = 0.0005  # of each sine
_NOTHING = 1e-300  # beside which no ratio of admittances counts
# What may become of L at 1 kHz and 16 kHz: by what grows with the square of the frequency, by what
# falls with it, and by a free rotor's swing.
_USUAL = 2.0 - 2.0 * math.cos(math.tau / 16.0)
_GROWS, _FALLS, _SWINGS = 0.015, 0.01, 0.03
_ACROSS_FLOOR = 0.006  # what a current along d may do to Lq where its other sign was not tried


@dataclass(frozen=True, slots=True)
class _Sine:
    """What one sine gave."""

    frequency: float  # Hz
    i_d: float  # A, held
    i_q: float
    L: float  # H
    R: float  # ohm, small signal
    admittance: complex  # S, as sampled: current over the voltage asked for
    relative_std: float
    amplitude: float  # A
    waves: tuple[Array, Array, Array, Array]  # phase in turns, measured A, fitted A, volts


def estimate_inductance(record: Record, axis: Axis) -> Finding:
    """Return Ld or Lq at zero q current from sines on a d bias, with its fall by saturation.

    Parameters
    ----------
    record : columns t, id, iq, vd, vq, theta_e; settings name the axis and the segments
    axis : for the sensors' gain mismatch, limits and the printed value

    Raises
    ------
    InputError : settings without segments, or rows that do not fit them

    """
    which, sines = _sines(record, axis)
    first = sines[0]
    here = [s for s in sines if (s.i_d, s.i_q) == (first.i_d, first.i_q)]
    delay = _delay(here, record.sample_time, axis)
    Ts = record.sample_time
    late = (delay or axis.inverter.delay.best).value - 1.5 * Ts
    sines = [_without(sine, late, Ts) for sine in sines]
    first = sines[0]
    here = [s for s in sines if (s.i_d, s.i_q) == (first.i_d, first.i_q)]
    plain = [s for s in here if s.frequency <= first.frequency]
    mirrored = _mirrored(which, sines)
    halves = abs(plain[1].L / first.L - 1.0) if len(plain) > 1 else math.nan
    free = which == "q" and mirrored is None
    slow, relative = _slowly(here, Ts, held=not free)
    L = slow * first.L
    if mirrored:
        L, across = 0.5 * slow * (first.L + mirrored.L), 0.25 * abs(first.L - mirrored.L) / first.L
    else:
        across = _ACROSS_FLOOR if free and first.i_d else 0.0
    gain_std = max(axis.inverter.gain_a.std, axis.inverter.gain_b.std)
    relative = math.hypot(relative, gain_std, _MODEL_FLOOR, across)
    estimate = Estimate(value=L, std=relative * L, unit="H", origin=Origin.MEASURED)
    more = {
        f"{sine.i_q if which == 'q' else sine.i_d:.1f} A": Estimate(
            value=slow * sine.L, std=2.0 * relative * sine.L, unit="H", origin=Origin.MEASURED
        )
        for sine in sines
        if (sine.i_d, sine.i_q) != (first.i_d, first.i_q) and sine is not mirrored
    }
    estimates = {f"machine.L{which}": estimate}
    if delay and which == "d":  # along q the iron's current is larger, and looks like delay
        estimates["inverter.delay"] = delay
    return Finding(
        quantity=f"inductance_{which}",
        estimates=estimates,
        extra=more,
        checks=tuple(_checks(record, axis, which, plain, sines, halves, delay)),
        remark=_remark(which, sines, first, record, both=mirrored is not None),
        evidence=_evidence(sines),
    )


def _mirrored(which: str, sines: list[_Sine]) -> _Sine | None:
    """Return the sine along q on the first one's current along d, its sign turned."""
    first = sines[0]
    where = (-first.i_d, first.i_q, first.frequency)
    if which == "d" or not first.i_d:
        return None
    return next((s for s in sines if (s.i_d, s.i_q, s.frequency) == where), None)


def _slowly(here: list[_Sine], Ts: float, *, held: bool) -> tuple[float, float]:
    """Return L without what frequency does to it, over the first sine's, and its relative std.

    Linear least squares with a belief in how large the two parts can be at 1 kHz and 16 kHz: what
    sines there are says more than that, or does not.
    """
    first = here[0]
    x = 2.0 - 2.0 * np.cos(math.tau * Ts * np.array([s.frequency for s in here]))
    std = np.hypot([s.relative_std for s in here], _SINE_FLOOR)
    y = np.array([s.L / first.L - 1.0 for s in here])
    grows, falls = x / _USUAL, _USUAL / x
    rows = np.column_stack([np.ones_like(x), grows, falls]) / std[:, np.newaxis]
    belief = np.array([[0.0, 1.0 / _GROWS, 0.0], [0.0, 0.0, 1.0 / (_FALLS if held else _SWINGS)]])
    design = np.vstack([rows, belief])
    found, *_ = np.linalg.lstsq(design, np.append(y / std, [0.0, 0.0]), rcond=None)
    left = rows @ found - y / std
    scale = max(1.0, float(left @ left) / max(len(here) - 1, 1))
    covariance = np.linalg.inv(design.T @ design) * scale
    return 1.0 + float(found[0]), math.sqrt(float(covariance[0, 0]))


def _sines(record: Record, axis: Axis) -> tuple[str, list[_Sine]]:
    which, segments = record.settings.get("axis_name"), tables(record.settings, "segments")
    if not isinstance(which, str) or which not in ("d", "q") or not segments:
        remedy = "Give axis_name and segments in the record's settings"
        raise InputError("no segments are named", place=record.experiment, remedy=remedy)
    total = sum(int(number(segment, "rows")) for segment in segments)
    if total != record.rows:
        cause = f"{record.rows} rows, the segments need {total}"
        raise InputError(cause, place=record.experiment, remedy="The record is not complete")
    sines, start = [], 0
    for segment in segments:
        rows = slice(start, start + int(number(segment, "rows")))
        sines.append(_sine(record, axis, which, rows, {k: number(segment, k) for k in segment}))
        start = rows.stop
    return which, sines


def _sine(record: Record, axis: Axis, which: str, rows: slice, segment: dict[str, float]) -> _Sine:
    Ts, f = record.sample_time, segment["frequency"]
    phase = math.tau * f * record["t"][rows]
    basis = np.column_stack([np.cos(phase), np.sin(phase), np.ones_like(phase)])
    names = ("id", "iq", "vd", "vq")
    data = np.column_stack([record[name][rows] for name in names])
    found, *_ = np.linalg.lstsq(basis, data, rcond=None)
    phasor = dict(zip(names, found[0] - 1j * found[1], strict=True))
    angle = float(np.mean(record["theta_e"][rows]))
    matrix = sense_matrix(axis.inverter.gain_a.value, axis.inverter.gain_b.value)
    true = rotation(-angle) @ np.linalg.inv(matrix) @ rotation(angle)
    i_d, i_q_wave = true @ np.array([phasor["id"], phasor["iq"]])
    current = i_d if which == "d" else i_q_wave
    voltage = phasor[f"v{which}"]
    column = names.index(f"i{which}")
    if abs(current) < 1e-9 or abs(voltage) < 1e-9:
        remedy = "Check that the drive was energised"
        raise InputError("no current answers the sine", place=record.experiment, remedy=remedy)
    R, L = _solve(current / voltage, math.tau * f * Ts, Ts)
    fitted = basis @ found[:, column] - found[2, column]
    one = np.mod(f * record["t"][rows], 1.0)
    return _Sine(
        frequency=f,
        i_d=segment.get("i_d", 0.0),
        i_q=segment["i_q"],
        L=L,
        R=R,
        admittance=complex(current / voltage),
        relative_std=_noise(data[:, column] - basis @ found[:, column], phase) / abs(current),
        amplitude=abs(current),
        waves=(one, data[:, column] - found[2, column], fitted, data[:, column + 2]),
    )


def _noise(residual: Array, phase: Array) -> float:
    """Return the standard deviation of a sine's cosine part, from the frequencies beside it.

    The dead time's harmonics are no noise, and what the current's control leaves of noise is not
    the same at all frequencies.
    """
    periods = round(float(phase[-1] - phase[0]) / math.tau)
    near = np.arange(2, min(_BESIDE, periods // 2) + 1)
    if near.size < 4:
        return float(residual.std(ddof=3)) * math.sqrt(2.0 / phase.size)
    beside = 1.0 + np.concatenate([-near, near]) / periods
    phasors = 2.0 / phase.size * (np.exp(-1j * np.outer(beside, phase)) @ residual)
    return math.sqrt(0.5 * float(np.mean(np.abs(phasors) ** 2)))


def _without(sine: _Sine, late: float, Ts: float) -> _Sine:
    """Return the sine with what the delay beyond one sample and a half costs taken out."""
    turn = math.tau * sine.frequency
    R, L = _solve(sine.admittance * cmath.exp(1j * turn * late), turn * Ts, Ts)
    return replace(sine, R=R, L=L)


def _delay(sines: list[_Sine], Ts: float, axis: Axis) -> Estimate | None:
    """Return the loop's delay from the phase of sines far above R/L; None without such sines.

    Each sine's admittance is that of the sampled plant (R, L, one sample and a half) turned by
    what the delay is more.
    """
    from scipy.optimize import least_squares

    fast = [s for s in sines if s.frequency * Ts > 0.07]
    if len(fast) < 2:
        return None
    w = math.tau * np.array([s.frequency for s in sines])
    seen = np.array([s.admittance for s in sines])
    weight = 1.0 / np.hypot(np.array([s.relative_std for s in sines]), 0.001)
    z = np.exp(1j * w * Ts)

    def misfit(p: Array) -> Array:
        R, L = math.exp(p[0]), math.exp(p[1])
        a = math.exp(-R * Ts / L)
        model = (1.0 - a) / R / (z * (z - a)) * np.exp(-1j * w * p[2] * Ts)
        off = np.log(model / seen + _NOTHING)
        return np.concatenate([weight * off.real, weight * off.imag])

    begin = [math.log(axis.machine.R.value), math.log(sines[0].L), 0.0]
    found = least_squares(misfit, begin, max_nfev=100)
    free = max(2 * len(sines) - 3, 1)
    covariance = np.linalg.pinv(found.jac.T @ found.jac) * max(2.0 * found.cost / free, 0.2)
    # Iron loss turns the current ahead, as a shorter delay would.
    iron = _IRON * math.exp(found.x[1]) * axis.machine.rated_current.value / axis.inverter.v_max
    std = math.hypot(math.sqrt(max(float(covariance[2, 2]), 0.0)), _DELAY_FLOOR, iron / Ts)
    value = (1.5 + float(found.x[2])) * Ts
    return Estimate(value=value, std=std * Ts, unit="s", origin=Origin.MEASURED)


def _solve(admittance: complex, angle: float, Ts: float) -> tuple[float, float]:
    """Return (R, L) of the sampled plant whose gain at e^(j·angle) is `admittance`."""
    z = cmath.exp(1j * angle)
    c = 1.0 / (z * admittance)
    b = z.imag / c.imag
    a = z.real - b * c.real
    if not (a > 0.0 and b > 0.0):
        return math.nan, Ts / abs(b) if b else math.nan
    if abs(1.0 - a) < 1e-12:
        return 0.0, Ts / b
    R = (1.0 - a) / b
    return R, -R * Ts / math.log(a)


def _along(which: str) -> Callable[[_Sine], float]:
    """Return what reads off a sine the current held along its own axis."""
    return (lambda s: s.i_d) if which == "d" else (lambda s: s.i_q)


def _remark(which: str, sines: list[_Sine], first: _Sine, record: Record, *, both: bool) -> str:
    at = _along(which)
    far = max(sines, key=at)
    if at(far) == at(first):
        held = float(np.mean(record["id"][: first.waves[0].size]))
        return f"small signal, on {'±' if both else ''}{held:.1f} A"
    fall = 100.0 * (1.0 - far.L / first.L)
    word = "falls" if fall > 0 else "rises"
    return f"{word} {abs(fall):.0f} % to {abs(at(far)):.0f} A"


def _moved(record: Record) -> float:
    """Return how far the rotor moved, rad, the sensor's noise averaged out."""
    if "theta_m" not in record.columns or record.rows < _AVERAGED:
        return 0.0
    from scipy.ndimage import uniform_filter1d

    return float(np.ptp(uniform_filter1d(record["theta_m"], _AVERAGED, mode="nearest")))


def _checks(
    record: Record, axis: Axis, which: str, plain: list[_Sine], sines: list[_Sine],
    halves: float, delay: Estimate | None,
) -> list[Check]:  # fmt: skip
    pairs = axis.machine.pole_pairs.value
    moved = math.degrees(pairs * _moved(record))
    weak = min(1.0 / max(sine.relative_std, 1e-12) for sine in sines)
    spread = max(axis.inverter.gain_a.std, axis.inverter.gain_b.std)
    mended = axis.inverter.gain_a.adopted is not None
    source = "taken out, from the R test" if mended else "assumed, measure R first"
    checks = [
        Check(
            code="rotor at rest",
            passed=moved <= _MOST_MOVED,
            sentence=f"The rotor moved {moved:.1f}° electrical ({_MOST_MOVED:g} allowed)"
            + ("" if moved <= _MOST_MOVED else ": set the brake"),
            ask=Ask.LONGER,
        ),
        voltage_limit(record, axis),
        Check(
            code="excitation",
            passed=weak > 10.0,
            sentence=f"The current answers at {weak:.0f} times its uncertainty (10 needed)",
            ask=Ask.STRONGER,
        ),
        Check(
            code="sensor gains",
            passed=spread <= _MOST_SPREAD,
            sentence=f"Sensor mismatch leaves ±{100 * spread:.2g} % (1 % allowed): {source}",
        ),
        *against_printed(axis, f"machine.L{which}", sines[0].L, 0.4, 2.5),
    ]
    if not math.isnan(halves):
        pair = " and ".join(f"{sine.frequency:.0f}" for sine in plain[:2])
        checks.insert(
            3,
            Check(
                code="two frequencies",
                passed=halves <= 0.05,
                sentence=f"{pair} Hz agree within {100 * halves:.1f} % (5 % allowed)",
            ),
        )
    if delay:
        samples = delay.value / record.sample_time
        checks.append(
            Check(
                code="delay",
                passed=0.9 < samples < 3.1,
                sentence=f"The loop's delay is {samples:.2f} samples (1 to 3 is usual)",
            )
        )
    return checks


def _evidence(sines: list[_Sine]) -> CurrentWave:
    """Return one period of data and fit, at the current held first."""
    phase, measured, fitted, volts = sines[0].waves
    order = np.argsort(phase, kind="stable")
    return wave(phase[order], measured[order], fitted[order], volts[order])
