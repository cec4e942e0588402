"""What a sweep of the current loop says: its open loop point by point, and margins read off it."""

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.control.current import loops_with
from oarlock.control.margins import margins
from oarlock.control.measured_loop import LoopFigures, LoopPoints, figures_of
from oarlock.errors import InputError
from oarlock.experiments.loops.step_response import axis_of
from oarlock.experiments.loops.sweep_points import is_table, points_in
from oarlock.experiments.loops.verdict import Verdict
from oarlock.machine import Axis
from oarlock.quantities.display import signed
from oarlock.records import Check, Record
from oarlock.records.settings import number, numbers

Array = NDArray[np.float64]
_TRUSTED, _LIMITED = 0.12, 0.01
_ROOM = 2  # times a sweep's amplitude that the current held under it should be
_REPEATS = 2.5  # times what noise leaves between the lines: one in some hundred by chance


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class CurrentSwept(Verdict):
    """Measured points of the open current loop along one axis."""

    axis_name: str
    points: LoopPoints
    found: LoopFigures | None

    @property
    def figures(self) -> Mapping[str, float]:
        """What the logbook shows and compares."""
        told = {"agrees": float(self.holds), "points": float(self.points.trusted.sum())}
        if self.found is not None:
            told |= {"crossover": self.found.crossover, "phase_margin": self.found.phase_margin}
            if math.isfinite(self.found.Ms):
                told["Ms"] = self.found.Ms
        return told

    @property
    def curve(self) -> Array:
        """The open loop's gain, dB."""
        return 20.0 * np.log10(np.maximum(np.abs(self.points.opened), 1e-9))


def read_current_sweep(record: Record, axis: Axis) -> CurrentSwept:
    """Work out the open loop's points and hold them against the exact loop.

    Parameters
    ----------
    axis : as it was then, with the gains that the run had

    Raises
    ------
    InputError : no gains, no sums, or not as many as the settings tell

    """
    which = axis_of(record)
    if axis.gains is None:
        raise InputError("the axis has no gains of the current loop", place=record.experiment,
                         remedy="Take the designed gains first")  # fmt: skip
    omega, opened, std, trusted, limited = _measured(record, which)
    loop = loops_with(axis, axis.gains)[0 if which == "d" else 1]
    points = LoopPoints(
        omega, opened, std, trusted, lambda omega: loop.opened.response(omega)[0],
        math.pi / axis.inverter.Ts,
    )  # fmt: skip
    meant = margins(loop.opened)
    found = figures_of(points, meant.crossover)
    return CurrentSwept(axis_name=which, points=points, found=found,
                        checks=(*_checks(points, found, meant.crossover, meant.phase_margin,
                                         limited), *_bent(record, axis)))  # fmt: skip


def _measured(
    record: Record, which: str
) -> tuple[Array, NDArray[np.complex128], Array, NDArray[np.bool_], Array]:
    """Return (rad/s, open loop, scatter, trusted, share with the voltage at its limit)."""
    if is_table(record):
        omega, opened, std, trusted = points_in(record)
        return omega, opened, std, trusted, np.zeros(omega.size)
    if "bins" in record.settings:
        return _of_multisine(record, which)
    s, sums = record.settings, record.sums
    hertz, volts = np.array(numbers(s, "frequencies")), np.array(numbers(s, "volts"))
    parts = int(number(s, "parts"))
    whole = sums is not None and sums.table.shape[0] == hertz.size * parts == volts.size * parts
    if sums is None or not whole or parts < 2:
        raise InputError("the sums of the sweep are not complete", place=record.experiment,
                         remedy="Play it again")  # fmt: skip
    left = sums.gain(f"v{which}").reshape(hertz.size, parts)
    mean = left.mean(axis=1)
    noise = np.sqrt(np.sum(np.abs(left - mean[:, None]) ** 2, axis=1) / (2.0 * (parts - 1)))
    opened = volts / mean - 1.0
    # An error of v moves the open loop by as much as added/v² does.
    std = noise / math.sqrt(parts) * np.abs(volts / mean**2) / np.maximum(np.abs(opened), 1e-9)
    limited = sums.limited().reshape(hertz.size, parts).max(axis=1)
    trusted = (std < _TRUSTED) & (limited < _LIMITED)
    return math.tau * hertz, opened, std, trusted, limited


def _of_multisine(
    record: Record, which: str
) -> tuple[Array, NDArray[np.complex128], Array, NDArray[np.bool_], Array]:
    """Return what `_measured` does, line by line over whole periods.

    What repeats between the lines comes of what is not linear, and adds to their scatter.
    """
    s, rows = record.settings, int(number(record.settings, "rows"))
    bins = np.array(numbers(s, "bins")).astype(np.intp)
    volts, phases = np.array(numbers(s, "volts")), np.array(numbers(s, "phases"))
    base = number(s, "base")
    inside = bins.min(initial=1) >= 1 and rows >= 2 * bins.max(initial=1) and base > 0.0
    if record.sums is None or not inside or record.rows % rows or record.rows < 2 * rows or not (
        0 < bins.size == volts.size == phases.size
    ):  # fmt: skip
        raise InputError("the record does not hold whole periods of the multisine",
                         place=record.experiment, remedy="Play it again")  # fmt: skip
    spectrum = np.fft.rfft(record[f"v{which}"].reshape(-1, rows), axis=1) * (2.0 / rows)
    periods = spectrum.shape[0]
    added = -1j * volts * np.exp(1j * phases)
    mean = spectrum[:, bins].mean(axis=0)
    opened = added / mean - 1.0
    near = np.stack([bins + n for n in (-1, 0, 1)])
    off = spectrum[:, near] - spectrum[:, near].mean(axis=0)
    noise = np.sqrt(np.sum(np.abs(off) ** 2, axis=(0, 1)) / (6.0 * (periods - 1)) / periods)
    repeated = _between(np.abs(spectrum.mean(axis=0)), bins)
    error = np.hypot(noise, np.where(repeated > _REPEATS * noise, repeated, 0.0))
    std = error * np.abs(volts / mean**2) / np.maximum(np.abs(opened), 1e-9)
    limited = np.full(bins.size, float(record.sums.limited().max()))
    trusted = (std < _TRUSTED) & (limited < _LIMITED)
    omega = math.tau * base * bins.astype(np.float64)
    return omega, opened, std, trusted, limited


def _between(size: Array, bins: NDArray[np.intp]) -> Array:
    """Return what repeats beside each line, at odd multiples or at even ones, whichever is more."""
    sounds = np.zeros(size.size + 2, dtype=np.bool_)
    sounds[bins] = True
    found = []
    for steps in ((-1, 1), (-2, 2)):
        near = np.stack([np.abs(bins + n) for n in steps])
        quiet = ~sounds[near] & (near < size.size)
        power = np.where(quiet, size[np.minimum(near, size.size - 1)] ** 2, 0.0).sum(axis=0)
        found.append(np.sqrt(0.5 * power / np.maximum(quiet.sum(axis=0), 1)))
    return np.asarray(np.maximum(*found), dtype=np.float64)


def _bent(record: Record, axis: Axis) -> list[Check]:
    """Return what is to be said of a current that changes its sign under the sweep."""
    s, volts = record.settings, axis.inverter.dead_voltage.value
    if is_table(record) or volts <= 0.0 or abs(number(s, "bias")) >= number(s, "amplitude"):
        return []
    said = f"The current changes its sign, where dead time bends it: hold {_ROOM} times the size"
    return [Check(code="bias", passed=False, sentence=f"{said} of the sweep, "
                  f"{_ROOM * number(s, 'amplitude'):.2g} A, or more")]  # fmt: skip


def _checks(
    points: LoopPoints, found: LoopFigures | None, crossover: float, margin: float, limited: Array
) -> list[Check]:
    many, all_of, cut = int(points.trusted.sum()), points.trusted.size, int(np.sum(limited > 0.01))
    why = f", the bus cut {cut} of them" if cut else ""
    checks = [Check(code="trusted", passed=many >= 0.6 * all_of,
                    sentence=f"{many} of {all_of} points can be trusted{why}")]  # fmt: skip
    if found is None:
        told = "The loop does not cross 1 among the trusted points"
        return [*checks, Check(code="crosses", passed=False, sentence=told)]
    off = found.crossover / crossover - 1.0
    degrees = math.degrees(found.phase_margin - margin)
    wide = 0.05 + 2.0 * found.crossover_std / found.crossover
    allowed = 3.0 + 2.0 * math.degrees(found.phase_margin_std)
    return [
        *checks,
        Check(code="crossover", passed=abs(off) <= wide,
              sentence=f"It crosses at {found.crossover / math.tau:.0f} Hz, "
                       f"{signed(100 * off, 1)} % from the plan ({100 * wide:.2g} % allowed)"),
        Check(code="margin", passed=abs(degrees) <= allowed,
              sentence=f"{math.degrees(found.phase_margin):.1f}° are left, {signed(degrees, 1)}° "
                       f"from the plan ({allowed:.2g}° allowed)"),
    ]  # fmt: skip
