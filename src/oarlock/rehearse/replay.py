"""A run of the drive, simulated from its own references and laid over what was measured.

The test is planned again from the settings that the run was kept with, on the axis as it stood
then, and played on the machine as it is believed to be now. What is left tells what that machine
lacks: torque that is steady, that goes with the direction, that grows with speed, or inertia.
"""

import math
from collections.abc import Mapping
from dataclasses import MISSING, dataclass, fields, replace

import numpy as np
from numpy.typing import NDArray

from oarlock.cancel import Cancel
from oarlock.drive.steps import Plan
from oarlock.errors import InputError
from oarlock.experiments.loops.current_step import CurrentStep
from oarlock.experiments.loops.position_move import PositionMove
from oarlock.experiments.loops.speed_ramp import SpeedRamp
from oarlock.experiments.loops.speed_test import LoadStep, SpeedStep
from oarlock.machine import Axis
from oarlock.machine.axis_file import parse_axis
from oarlock.records import Record, Run
from oarlock.records.settings import number
from oarlock.rehearse.plant import believed_plant, ideal_sensing
from oarlock.rehearse.run import begun
from oarlock.simulate.plant_parameters import PlantParameters

Array = NDArray[np.float64]
Test = CurrentStep | SpeedStep | SpeedRamp | LoadStep | PositionMove
_TESTS: dict[str, type[Test]] = {
    test.name: test for test in (CurrentStep, SpeedStep, SpeedRamp, LoadStep, PositionMove)
}
_HELD = 2e-3  # rad: a shaft that moved less in a step of current was held
_CHUNK = 8000  # samples between two looks at the cancel flag
_STEEP = 0.95  # of all rows that are less steep: the very steepest is noise
_TURNING = 0.05  # of the highest speed
_CLEAR, _MATTERS = 3.0, 0.01  # of its own uncertainty, and of the rated torque


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Trace:
    """One channel over the rows of the record, SI."""

    measured: Array
    simulated: Array
    repeatability: float  # rms of what differs from one repeat to the next; NaN with one alone

    @property
    def residual(self) -> Array:
        """What the simulation does not say."""
        return self.measured - self.simulated

    @property
    def rms(self) -> float:
        """Root mean square of the residual."""
        return float(np.sqrt(np.mean(self.residual**2)))

    @property
    def ratio(self) -> float:
        """The residual over what repeats differ by; NaN where that is not known."""
        known = self.repeatability > 0.0
        return self.rms / self.repeatability if known else math.nan


@dataclass(frozen=True, slots=True, kw_only=True)
class Lack:
    """A torque (N·m, at the largest it comes to) that the believed machine lacks."""

    name: str
    torque: float
    std: float


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Replay:
    """A run and its simulation."""

    run: Run
    t: Array  # (n,) s
    period: int  # rows of one repeat
    traces: Mapping[str, Trace]  # by the record's channels
    lacks: tuple[Lack, ...]


def can_be_replayed(run: Run) -> bool:
    """Return whether a run is a test that came to its end, and says how it was asked for.

    One that was played by hand has rests between its answers that nobody kept.
    """
    if run.kind not in _TESTS or run.ended != "done" or run.settings.get("by_hand"):
        return False
    needed = [one.name for one in fields(_TESTS[run.kind]) if one.default is MISSING]
    return all(name in run.settings for name in needed)


def replay(
    run: Run, record: Record, axis: Axis, *, cancel: Cancel | None = None, seed: int = 0
) -> Replay:
    """Simulate a kept test on the machine as it is believed to be now. Work for a job.

    Parameters
    ----------
    axis : whose machine and shaft are believed; loops and rates are those of the run

    Raises
    ------
    InputError : another kind of run, or a record that is not what its settings say
    Cancelled : it is not wanted any more

    """
    place = f"run {run.id}"
    if not can_be_replayed(run):
        raise InputError("is no test of a loop that came to its end", place=place,
                         remedy="Replay a step or a move that ended by itself")  # fmt: skip
    made_on = run.settings.get("made_on")
    then = parse_axis(made_on, place=place) if isinstance(made_on, str) else axis
    test = _test(run)
    plan = test.plan(then)
    plant = believed_plant(replace(axis, inverter=then.inverter))
    if isinstance(test, CurrentStep) and float(np.ptp(record["theta_m"])) < _HELD:
        plant = replace(plant, brake=1e3 * then.machine.torque_constant * then.peak)
    simulated = _simulated(plan, then, plant, cancel, seed)
    due = simulated[plan.channels[0]].size
    rows = min(record.rows, due)
    period = _period(run)
    if rows < period or rows < 0.9 * max(record.rows, due):
        raise InputError(f"{record.rows} rows, where the test gives {due}", place=place,
                         remedy="The record is not complete")  # fmt: skip
    traces = {
        name: _trace(name, record[name][:rows], simulated[name][:rows], period)
        for name in plan.channels if name not in ("t", "vdc")
    }  # fmt: skip
    lacks = () if isinstance(test, CurrentStep) else tuple(_lacks(traces, record["t"][:rows], axis))
    return Replay(run=run, t=record["t"][:rows], period=period, traces=traces, lacks=lacks)


def _test(run: Run) -> Test:
    kind = _TESTS[run.kind]
    given = {field.name: run.settings[field.name] for field in fields(kind)
             if field.name in run.settings}  # fmt: skip
    return kind(**given)  # type: ignore[arg-type]


def _simulated(
    plan: Plan, axis: Axis, plant: PlantParameters, cancel: Cancel | None, seed: int
) -> dict[str, Array]:
    ideal = ideal_sensing(axis, plant)
    model = begun(plan, ideal, plant, seed=seed)
    left = math.ceil(plan.duration / axis.inverter.Ts) + 1
    while left > 0 and model.is_running:
        if cancel is not None:
            cancel.check()
        model.advance(min(left, _CHUNK))
        left -= _CHUNK
    table = model.trace.astype(np.float64)
    return {name: table[:, n] for n, name in enumerate(plan.channels)}


def _period(run: Run) -> int:
    """Return the rows of one repeat, as the readings count them."""
    s = run.settings
    if "rows" in s:
        return 2 * round(number(s, "rows"))  # there and back
    return round(number(s, "rows_before") + number(s, "rows_after"))


def _trace(name: str, measured: Array, simulated: Array, period: int) -> Trace:
    if name in ("theta_m", "position_ref"):  # from where each began
        measured, simulated = measured - measured[0], simulated - simulated[0]
    many = measured.size // period
    spread = math.nan
    if many > 1:
        each = measured[: many * period].reshape(many, period)
        if name == "theta_m" and abs(each[-1, 0] - each[0, 0]) > 0.1:  # it turns on and on
            each = each - each[:, :1]
        spread = float(np.sqrt(np.mean(each.var(axis=0, ddof=1))))
    return Trace(measured=measured, simulated=simulated, repeatability=spread)


def _lacks(traces: Mapping[str, Trace], t: Array, axis: Axis) -> list[Lack]:
    """Return what torques the residual of the current is made of, the largest first."""
    current = traces.get("iq") or traces["iq_ref"]
    speed = traces["speed"].measured
    torque = axis.machine.torque_constant * current.residual
    step = float(np.median(np.diff(t)))
    near = max(round(0.004 / step), 1)  # 4 ms: less is noise
    smooth = np.convolve(speed, np.ones(near) / near, mode="same")
    rising = np.gradient(smooth, step)
    fast, steep = float(np.abs(speed).max()), float(np.quantile(np.abs(rising), _STEEP))
    both_ways = speed.min() < -0.2 * fast and speed.max() > 0.2 * fast
    columns = {"steady torque": np.ones_like(speed)}
    if both_ways:
        columns["friction"] = np.sign(speed)
        columns["torque that grows with speed"] = speed / fast
    if steep > 0.0:
        columns["inertia"] = rising / steep
    turning = np.abs(smooth) > _TURNING * fast  # at rest friction bears whatever there is
    X, torque = np.column_stack(list(columns.values()))[turning], torque[turning]
    found, *_ = np.linalg.lstsq(X, torque, rcond=None)
    left = torque - X @ found
    # Neighbouring rows are no independent ones: as many as there are 4 ms.
    free = max(torque.size / near - X.shape[1], 1.0)
    std = np.sqrt(np.diag(np.linalg.pinv(X.T @ X)) * float(left @ left) / free)
    least = _MATTERS * axis.machine.torque_constant * axis.rated
    named = [Lack(name=name, torque=float(value), std=float(u))
             for name, value, u in zip(columns, found, std, strict=True)]  # fmt: skip
    clear = [one for one in named if abs(one.torque) > max(_CLEAR * one.std, least)]
    return sorted(clear, key=lambda one: -abs(one.torque))
