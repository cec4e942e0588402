"""What a sweep says about the speed loop: its plant point by point, and margins read off it."""

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from oarlock.control.dead_time import stirred
from oarlock.control.fitted_shaft import FittedShaft, fitted_shaft
from oarlock.control.margins import Crossing
from oarlock.control.measured_loop import LoopFigures, PlantPoints, figures, opened_points
from oarlock.control.speed import SpeedLoop
from oarlock.control.speed_design import Turning, loop_in_use
from oarlock.errors import InputError
from oarlock.experiments.loops.chirp_points import chirp_points, is_chirp
from oarlock.experiments.loops.multisine_points import is_multisine, multisine_points
from oarlock.experiments.loops.sweep_points import is_table, points_in
from oarlock.experiments.loops.verdict import Verdict
from oarlock.machine import Axis
from oarlock.quantities.display import signed
from oarlock.records import Check, Record
from oarlock.records.settings import number, numbers

Array = NDArray[np.float64]
Complex = NDArray[np.complex128]
_TRUSTED = 0.12  # of its size: what a point may scatter by
_AS_A_SINE = 1.6  # of many lines' rms: a sine of that size meets a relay as they do
_TOLD = 0.5  # %: what dead time takes of a crossover, where it is worth a word
_LIMITED = 0.01  # of its samples with the voltage at its limit


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class SweepResult(Verdict):
    """Measured points of the plant, and of the open loop with the gains that the run had."""

    points: PlantPoints
    turned: PlantPoints | None  # speed over the current that flowed; None: it was not recorded
    opened: Complex
    loop: SpeedLoop
    found: LoopFigures | None
    expected: Crossing  # of the loop as sines of this size meet it, dead time included
    fitted: FittedShaft | None = None  # None: two masses do not carry the points

    @property
    def figures(self) -> Mapping[str, float]:
        """What the logbook shows and compares."""
        told = {"agrees": float(self.holds), "points": float(self.points.trusted.sum())}
        if self.found is not None:
            told |= {"speed_crossover": self.found.crossover,
                     "phase_margin": self.found.phase_margin}  # fmt: skip
            if math.isfinite(self.found.Ms):
                told["Ms"] = self.found.Ms
        if self.fitted is not None:
            told |= {"resonance": self.fitted.resonance.value, "Q": self.fitted.quality.value}
        return told

    @property
    def curve(self) -> Array:
        """The open loop's gain, dB."""
        return 20.0 * np.log10(np.maximum(np.abs(self.opened), 1e-9))


def read_sweep(record: Record, axis: Axis) -> SweepResult:
    """Work out the plant's points and hold the loop against its model.

    Parameters
    ----------
    axis : as it was then, with the gains and filters that the run had

    Raises
    ------
    InputError : no sums, or not as many as the settings tell

    """
    turning = Turning(speed=number(record.settings, "speed"))
    loop = loop_in_use(axis, turning=turning)
    points, turned, limited, cut = _points(record, axis, loop)
    found, fitted = figures(points, loop), fitted_shaft(points, loop.plant)
    if found is not None and fitted is not None:
        peak = fitted.Ms(loop.gains)
        found = replace(found, Ms=peak.value, Ms_std=peak.std)
    meant = found.crossover if found is not None else loop.margins.crossover
    expected = _crossing(_met(record, axis, loop), meant)
    return SweepResult(
        points=points, turned=turned, opened=opened_points(points, loop), loop=loop, found=found,
        expected=expected,
        fitted=fitted,
        checks=tuple(_checks(points, loop, expected, found, limited, cut)),
    )  # fmt: skip


def _crossing(loop: SpeedLoop, meant: float) -> Crossing:
    """Return where a loop crosses nearest to `meant`, rad/s."""
    near = loop.margins.crossings
    if not near:
        return Crossing(omega=loop.margins.crossover, phase_margin=loop.margins.phase_margin)
    return min(near, key=lambda one: abs(math.log(one.omega / meant)))


def _met(record: Record, axis: Axis, loop: SpeedLoop) -> SpeedLoop:
    """Return the loop as the sines of a sweep met it where it crosses."""
    volts, s = axis.inverter.dead_voltage.value, record.settings
    if is_table(record) or not loop.is_stable:
        return loop
    amperes = number(s, "torque") / axis.machine.torque_constant
    if record.sums is None or "frequencies" not in s:
        iq = record["iq_ref"] if "iq_ref" in record.columns else np.zeros(1)
        if is_multisine(record):
            amperes = _AS_A_SINE * float(np.std(iq))
        return stirred(loop, volts, amperes, float(np.mean(iq)))
    omega = math.tau * np.repeat(np.array(numbers(s, "frequencies")), int(number(s, "parts")))
    near = int(np.argmin(np.abs(np.log(omega / loop.margins.crossover))))
    amperes = float(np.abs(record.sums.gain("iq_ref")[near]))
    return stirred(loop, volts, amperes, float(record.sums.mean("iq_ref")[near]))


def _points(
    record: Record, axis: Axis, loop: SpeedLoop
) -> tuple[PlantPoints, PlantPoints | None, Array, NDArray[np.bool_]]:
    """Return (plant, shaft alone, share with the voltage at its limit, whether current was)."""
    if is_table(record):
        points = PlantPoints(*points_in(record))
        none = np.zeros(points.omega.size)
        return points, None, none, none > 0.0
    s, sums = record.settings, record.sums
    if is_chirp(record) or is_multisine(record):
        return _of_record(record, loop)
    frequencies = np.array(numbers(s, "frequencies"))
    parts = int(number(s, "parts"))
    if sums is None or parts < 2 or sums.table.shape[0] != frequencies.size * parts:
        raise InputError("the sums of the sweep are not complete", place=record.experiment,
                         remedy="Play it again")  # fmt: skip
    shape = (frequencies.size, parts)
    turned = sums.gain("dtheta").reshape(shape) / axis.inverter.Ts
    gain, std = _ratio(turned, sums.gain("iq_ref").reshape(shape))
    limited = sums.limited().reshape(shape).max(axis=1)
    least, most = (e.reshape(shape) for e in sums.extremes("iq_ref"))
    cut = np.maximum(np.abs(least), np.abs(most)).max(axis=1) >= 0.985 * number(s, "limit")
    trusted = (std < _TRUSTED) & (limited < _LIMITED) & ~cut
    points = PlantPoints(math.tau * frequencies, gain, std, trusted)
    shaft = None
    if "iq" in sums.channels:
        alone, scatter = _ratio(turned, sums.gain("iq").reshape(shape))
        shaft = PlantPoints(points.omega, alone, scatter, trusted & (scatter < _TRUSTED))
    return points, shaft, limited, cut


def _of_record(
    record: Record, loop: SpeedLoop
) -> tuple[PlantPoints, None, Array, NDArray[np.bool_]]:
    """Return what `_points` does, of chirps or multisines.

    Limits are told by the drive's sums, where it kept them; else by the rows.
    """
    read = multisine_points if is_multisine(record) else chirp_points
    points = read(record, loop.plant)
    largest, cut = float(np.max(np.abs(record["iq_ref"]), initial=0.0)), 0.0
    if record.sums is not None:
        largest = max(float(np.max(np.abs(e))) for e in record.sums.extremes("iq_ref"))
        cut = float(np.max(record.sums.limited()))
    met = largest >= 0.985 * number(record.settings, "limit")
    trusted = (points.std < _TRUSTED) & (cut < _LIMITED) & ~np.bool_(met)
    size = points.omega.size
    return replace(points, trusted=trusted), None, np.full(size, cut), np.full(size, met)


def _ratio(turned: Complex, current: Complex) -> tuple[Complex, Array]:
    """Return (gain, scatter as a ratio) of each frequency over its stretches.

    Parameters
    ----------
    turned : rad/s, (frequencies, stretches)
    current : A, likewise

    """
    power = np.sum(np.abs(current) ** 2, axis=1)
    gain = np.sum(turned * np.conj(current), axis=1) / np.maximum(power, 1e-30)
    left = turned - gain[:, None] * current
    noise = np.sqrt(np.sum(np.abs(left) ** 2, axis=1) / (2.0 * (current.shape[1] - 1)))
    return gain, noise / np.maximum(np.abs(gain) * np.sqrt(power), 1e-30)


def _checks(
    points: PlantPoints, loop: SpeedLoop, expected: Crossing, found: LoopFigures | None,
    limited: Array, cut: NDArray[np.bool_],
) -> list[Check]:  # fmt: skip
    many, all_of = int(points.trusted.sum()), points.trusted.size
    short = int(np.sum((limited >= _LIMITED) | cut))
    why = f", {short} of them because a limit was met" if short else ""
    checks = [
        Check(
            code="trusted",
            passed=many >= 0.6 * all_of,
            sentence=f"{many} of {all_of} points can be trusted{why}",
        )
    ]
    if found is None:
        told = "The loop does not cross 1 among the trusted points"
        return [*checks, Check(code="crosses", passed=False, sentence=told)]
    off = found.crossover / expected.omega - 1.0
    degrees = math.degrees(found.phase_margin - expected.phase_margin)
    taken = 100.0 * (1.0 - expected.omega / _crossing(loop, expected.omega).omega)
    dead = f", of which dead time takes {taken:.1f} % at this amplitude" if taken > _TOLD else ""
    margin = 3.0 + 2.0 * math.degrees(found.phase_margin_std)
    crossover = 0.05 + 2.0 * found.crossover_std / found.crossover
    return [
        *checks,
        Check(
            code="crossover",
            passed=abs(off) <= crossover,
            sentence=f"It crosses at {found.crossover / math.tau:.3g} Hz, {signed(100 * off, 1)} % "
            f"from the plan ({100 * crossover:.2g} % allowed){dead}",
        ),
        Check(
            code="margin",
            passed=abs(degrees) <= margin,
            sentence=f"{math.degrees(found.phase_margin):.1f}° are left, {signed(degrees, 1)}° "
            f"from the plan ({margin:.2g}° allowed)",
        ),
    ]
