"""Runs beside one another: what they were played with, what they gave, and their curves."""

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.experiments.loops.current_response import CurrentSwept
from oarlock.experiments.loops.position_response import MoveResult
from oarlock.experiments.loops.ramp_response import RampResult
from oarlock.experiments.loops.speed_response import SpeedResult
from oarlock.experiments.loops.step_response import StepResult
from oarlock.experiments.loops.sweep_response import SweepResult
from oarlock.experiments.registry import tested_by
from oarlock.machine.loops import LOOPS
from oarlock.quantities.display import digits
from oarlock.quantities.kinds import RPM
from oarlock.quantities.shown import USUAL, Units
from oarlock.records import Reading, Run
from oarlock.views.snapshot import Snapshot

Array = NDArray[np.float64]
MOST = 5  # runs side by side
_SAME = 1e-4  # of a value: what differs by less is told as the same
_DEG = math.pi / 180.0
# Setting or figure: name on screen, unit, its size in SI.
_CONDITIONS = {
    "axis_name": ("along", "", 1.0), "speed": ("at", "rpm", RPM), "bias": ("on", "A", 1.0),
    "torque": ("load", "N·m", 1.0), "distance": ("distance", "turns", math.tau),
    "acceleration": ("acceleration", "rad/s²", 1.0), "repeats": ("answers", "", 1.0),
    "winding": ("winding", "°C", 1.0),
}  # fmt: skip
_AMPLITUDES = {
    "speed step": ("step", "rpm", RPM),
    "speed ramp": ("change", "rpm", RPM),
    "current step": ("step", "A", 1.0),
}
_FIGURES = {
    "rise": ("rise", "ms", 1e-3), "overshoot": ("overshoot", "%", 0.01),
    "settling": ("settling", "ms", 1e-3), "dip": ("dip", "rpm", RPM),
    "recovery": ("recovery", "ms", 1e-3), "IAE": ("area of the dip", "°", _DEG),
    "following": ("behind", "°", _DEG), "beyond": ("beyond", "°", _DEG),
    "lag": ("lags", "rpm", RPM), "past": ("past the end", "rpm", RPM),
    "crossover": ("crossover", "Hz", math.tau), "speed_crossover": ("crossover", "Hz", math.tau),
    "position_crossover": ("crossover", "Hz", math.tau),
    "phase_margin": ("margin", "°", _DEG), "Ms": ("M~s~", "", 1.0),
    "points": ("trusted points", "", 1.0), "omega_n": ("fitted", "Hz", math.tau),
    "zeta": ("damping", "", 1.0), "resonance": ("shaft at", "Hz", math.tau), "Q": ("Q", "", 1.0),
}  # fmt: skip
_FILTER = {"frequency": ("Hz", math.tau), "width": ("of it", 1.0), "depth": ("dB", 0.0)}


@dataclass(frozen=True, slots=True)
class Row:
    """One line of the table."""

    name: str  # marked up
    unit: str
    cells: tuple[str, ...]

    @property
    def differs(self) -> bool:
        """Whether the runs are not alike in this."""
        return len(set(self.cells)) > 1


@dataclass(frozen=True, slots=True, eq=False)
class Trace:
    """One run's answer, as it is laid over the others."""

    x: Array  # s, or log10 Hz
    y: Array
    x_unit: str
    y_unit: str


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Comparison:
    """Runs side by side, the newest first."""

    runs: tuple[Run, ...]
    rows: tuple[Row, ...]
    traces: tuple[Trace | None, ...]  # only those of the newest run's kind
    unread: bool  # whether a test among them waits for its record to be read


def chosen(now: Snapshot) -> tuple[Run, ...]:
    """Return the pinned runs, the newest first, as many as stand side by side."""
    pinned = [run for run in reversed(now.runs) if run.pinned]
    return tuple(pinned[:MOST])


def comparison(now: Snapshot, runs: Sequence[Run], units: Units = USUAL) -> Comparison:
    """Return runs side by side."""
    found = (*_played_with(runs, units), *_gave(runs, units))
    rows = [row for row in found if any(cell != "–" for cell in row.cells)]
    kind = runs[0].kind if runs else ""
    traces = tuple(
        trace(now.readings.get(run.id), units) if run.kind == kind else None for run in runs
    )
    rows.sort(key=lambda row: not row.differs)  # what differs is read first
    unread = any(tested_by(run.kind) and run.ended == "done" and run.id not in now.readings
                 for run in runs)  # fmt: skip
    return Comparison(runs=tuple(runs), rows=tuple(rows), traces=traces, unread=unread)


def _told_in(unit: str, scale: float, units: Units) -> tuple[str, float]:
    """Return the unit that a row is told in, and its size in SI."""
    chosen = units.get(unit)
    return (chosen.unit, chosen.per) if chosen else (unit, scale)


def _played_with(runs: Sequence[Run], units: Units) -> Iterable[Row]:
    """Return conditions, gains and filters."""
    for name, (label, usual, size) in _CONDITIONS.items():
        unit, scale = _told_in(usual, size, units)
        yield Row(label, unit, tuple(_setting(run, name, scale) for run in runs))
    for kind, (label, usual, size) in _AMPLITUDES.items():
        unit, scale = _told_in(usual, size, units)
        cells = [_setting(run, "amplitude", scale) if run.kind == kind else "–" for run in runs]
        yield Row(label, unit, tuple(cells))
    known: set[str] = set()
    for loop in LOOPS:
        for name in loop.gains:
            key = f"{loop.key}.{name}"
            known.add(key)
            label = loop.labels.get(name, name.replace("_", " "))
            label = label if loop.key in label else f"{loop.key} {label}"
            yield Row(label, "", tuple(_number(run.gains.get(key), 1.0) for run in runs))
    others = sorted({key for run in runs for key in run.gains} - known)
    for key in others:
        what, _, name = key.rpartition(".")
        unit, scale = _FILTER.get(name, ("", 1.0))
        label = f"{what.split('.', 1)[-1].replace('_', ' ')} {name}"
        yield Row(label, unit, tuple(_filter(run.gains.get(key), scale) for run in runs))


def _gave(runs: Sequence[Run], units: Units) -> Iterable[Row]:
    for name, (label, usual, size) in _FIGURES.items():
        unit, scale = _told_in(usual, size, units)
        yield Row(label, unit, tuple(_number(run.figures.get(name), scale) for run in runs))
    yield Row("remark", "", tuple(run.note or run.remark or "–" for run in runs))


def _setting(run: Run, name: str, scale: float) -> str:
    value = run.settings.get(name)
    if isinstance(value, str):
        return value
    if isinstance(value, int) and scale == 1.0:
        return str(value)
    return _number(value, scale) if isinstance(value, int | float) else "–"


def _number(value: float | None, scale: float) -> str:
    return "–" if value is None else digits(value / scale, 3)


def _filter(value: float | None, scale: float) -> str:
    if value is None:
        return "–"
    return digits(20.0 * math.log10(max(value, 1e-6)), 2) if scale == 0.0 else _number(value, scale)


def trace(reading: Reading | None, units: Units = USUAL) -> Trace | None:
    """Return the curve of an answer, over time or over frequency."""
    if isinstance(reading, StepResult):
        unit, scale = _told_in("A", 1.0, units)
        return Trace(reading.t, reading.amplitude * reading.normal / scale, "s", unit)
    if isinstance(reading, SpeedResult | RampResult):
        unit, scale = _told_in("rpm", RPM, units)
        return Trace(reading.t, reading.speed / scale, "s", unit)
    if isinstance(reading, MoveResult):
        return Trace(reading.t, np.degrees(reading.curve), "s", "° behind")
    if isinstance(reading, SweepResult | CurrentSwept):
        keep = reading.points.trusted
        hertz = reading.points.omega[keep] / math.tau
        return Trace(np.log10(hertz), reading.curve[keep], "Hz", "dB")
    return None
