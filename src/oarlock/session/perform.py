"""One experiment from plan to reading: pure work, for a job or for the headless run."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oarlock.cancel import Cancel
from oarlock.control.design import loops_with
from oarlock.control.loop import margins
from oarlock.drive.dry_run import problems
from oarlock.drive.link import Link, Progress
from oarlock.drive.runner import play
from oarlock.errors import InputError
from oarlock.identify.experiments import CurrentStep, Experiment
from oarlock.identify.readings import (
    ESTIMATORS,
    TURNING,
    Another,
    another,
    estimate,
    largest_try,
    record_kind,
)
from oarlock.identify.readings import announced as announced_fully
from oarlock.identify.soundness import prepared, soundness
from oarlock.identify.step_response import StepResult, read_step
from oarlock.machine import Axis, CurrentGains
from oarlock.machine.axis_file import format_axis
from oarlock.records import Check, Finding, Record, Run
from oarlock.sensing.readings import READERS, snapshot

Reading = Finding | StepResult | None
_ATTEMPTS = 3
_RAN_AWAY = "Wrong direction, pole pairs or phase order? Prove the zero in Sensing"
GAIN_NAMES = ("Kp_d", "Ki_d", "Kp_q", "Ki_q")


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Performed:
    """An experiment that was played: what to keep of it."""

    run: Run  # its number is still 0
    record: Record
    reading: Reading


def perform(
    experiment: Experiment,
    axis: Axis,
    link: Link,
    progress: Progress,
    cancel: Cancel,
    on_attempt: Callable[["Performed"], None] = lambda _performed: None,
) -> Performed:
    """Play an experiment, read its record, and make the row for the logbook.

    Where it turns out too strong, or not patient enough, it is played again more gently, twice at
    most. Where the answer is too weak it is played again once, as strong as was announced. The
    last one counts; each one before is told to `on_attempt`, to be kept.
    """
    largest = largest_try(experiment, axis)
    for left in range(_ATTEMPTS - 1, -1, -1):
        done = _perform_once(experiment, axis, link, progress, cancel)
        wanted = _wanted(experiment, done, largest)
        if wanted is None or not left or problems(wanted.experiment.plan(axis), axis):
            break
        why = f"{wanted.why}: played again, {'stronger' if wanted.stronger else 'more gently'}"
        on_attempt(replace(done, run=replace(done.run, remark=why)))
        progress(0.0, f"again at another amplitude: {wanted.why}")
        largest = None if wanted.stronger else largest
        experiment = wanted.experiment
    return done


def _wanted(experiment: Experiment, done: Performed, largest: Experiment | None) -> Another | None:
    """Return what to try next; nothing that is stronger than what was announced."""
    finding = done.reading if isinstance(done.reading, Finding) else None
    wanted = another(experiment, finding, done.record.ended, done.record)
    if wanted is not None and wanted.stronger and wanted.experiment != largest:
        return None
    return wanted


def _perform_once(
    experiment: Experiment, axis: Axis, link: Link, progress: Progress, cancel: Cancel
) -> Performed:
    plan = experiment.plan(axis)
    settings = experiment.settings(axis)
    started = datetime.now().astimezone().isoformat(timespec="seconds")
    staged = getattr(experiment, "perform", None)  # in several plays, each by the last
    if staged:
        record = staged(axis, link, cancel, progress)
        settings = {**settings, **record.settings}
    else:
        record = play(plan, axis, link, settings=settings, cancel=cancel, progress=progress)
    progress(1.0, "reading the record")
    kind = record_kind(record)
    reading, trouble = None, ""
    # What tripped on its way may still tell why, where sensors are concerned.
    if record.ended == "done" or (kind in READERS and record.rows):
        try:
            reading = read(record, axis, plan.gains)
        except InputError as error:
            trouble = str(error)
    run = Run(
        id=0,
        axis=axis.name,
        kind=kind,
        title=experiment.title(axis),
        started=started,
        ended=record.ended if not trouble else f"unreadable: {trouble}",
        settings={
            **settings,
            "plant": plant_settings(axis),
            "sensing": snapshot(axis),
            "made_on": format_axis(axis),
            **target_settings(kind, axis),
            **announced(experiment, axis),
        },
        gains=gains_dict(plan.gains),
        figures=figures(reading, axis, plan.gains),
        remark=remark(reading, record),
        sparkline=sparkline(reading),
    )
    return Performed(run=run, record=record, reading=reading)


def from_file(record: Record, axis: Axis) -> Performed:
    """Read a recording that was made elsewhere, and make its row for the logbook."""
    reading, trouble = None, ""
    if "temperature" in record.columns:
        winding = float(np.mean(record["temperature"]))
        record = replace(record, settings={**record.settings, "winding": winding})
    try:
        reading = read(record, axis, axis.gains)
    except InputError as error:
        trouble = str(error)
    if isinstance(reading, Finding):
        checks = (*soundness(prepared(record), axis), *reading.checks)
        reading = replace(reading, checks=checks)
    run = Run(
        id=0,
        axis=axis.name,
        kind=record_kind(record),
        title=f"from {record.drive}",
        started=datetime.now().astimezone().isoformat(timespec="seconds"),
        ended="done" if not trouble else f"unreadable: {trouble}",
        settings={
            **record.settings,
            "plant": plant_settings(axis),
            "made_on": format_axis(axis),
            "imported": record.drive,
        },
        figures=figures(reading, axis, axis.gains),
        remark=remark(reading, record),
        sparkline=sparkline(reading),
    )
    return Performed(run=run, record=record, reading=reading)


def target_settings(kind: str, axis: Axis) -> dict[str, Any]:
    """Return what was asked of the loop when its test signal was started."""
    if kind != CurrentStep.name:
        return {}
    target = axis.target
    return {"target": {"kind": target.kind.value, "value": target.value,
                       "override_margin": target.override_margin}}  # fmt: skip


def announced(experiment: Experiment, axis: Axis) -> dict[str, str]:
    """Return what was said beforehand of the movement, to be kept with the run."""
    if record_moves(experiment):
        return {"announced": announced_fully(experiment, axis)}
    return {}


def record_moves(experiment: Experiment) -> bool:
    """Return whether an experiment says of itself what it moves."""
    return getattr(experiment, "movement", None) is not None


def _ended(finding: Finding, record: Record) -> Finding:
    """Return the finding, failed where the drive tripped on the way."""
    if record.ended == "done" or any(check.name == "search ended" for check in finding.checks):
        return finding
    check = Check(name="ran to its end", passed=False, sentence=f"The drive {record.ended}")
    return replace(finding, estimates={}, checks=(*finding.checks, check))


def read(record: Record, axis: Axis, gains: CurrentGains | None) -> Reading:
    """Return what the right estimator makes of a record."""
    kind = record_kind(record)
    if kind in READERS:
        try:
            return _ended(READERS[kind](record, axis), record)
        except (KeyError, IndexError, ValueError) as error:
            remedy = "Is the record complete, and of this experiment?"
            raise InputError(f"cannot be read: {error}", place="record", remedy=remedy) from error
    if kind in ESTIMATORS:
        return estimate(record, axis)
    if kind == CurrentStep.name and gains:
        d, q = loops_with(axis, gains)
        return read_step(record, axis, d if record.settings["axis_name"] == "d" else q)
    remedy = f"Known: {', '.join((*ESTIMATORS, CurrentStep.name, *READERS))}"
    raise InputError(f"unknown experiment '{record.experiment}'", place="record", remedy=remedy)


def plant_settings(axis: Axis) -> dict[str, float]:
    """Return the plant that predictions of this run rest on."""
    m = axis.machine
    return {"R": m.R.value, "Ld": m.Ld.value, "Lq": m.Lq.value, "Ts": axis.inverter.Ts}


def gains_dict(gains: CurrentGains) -> dict[str, float]:
    """Return gains as plain values."""
    return {name: getattr(gains, name) for name in GAIN_NAMES}


def gains_of(run: Run) -> CurrentGains | None:
    """Return the gains that a run was played with."""
    if set(GAIN_NAMES) <= set(run.gains):
        return CurrentGains(**{name: float(run.gains[name]) for name in GAIN_NAMES})
    return None


def figures(reading: Reading, axis: Axis, gains: CurrentGains | None) -> Mapping[str, float]:
    """Return the figures that the logbook shows of a run."""
    if isinstance(reading, Finding):
        if not reading.estimates:
            return {}
        path, estimate = next(iter(reading.estimates.items()))
        if "sensor.hall_1" in reading.estimates:
            path, estimate = "sensor.hall_1", reading.estimates["sensor.hall_1"]
        elif "sensor.zero" in reading.estimates:
            path, estimate = "sensor.zero", reading.estimates["sensor.zero"]
        return {path: estimate.value, "std": estimate.std or float("nan")}
    if isinstance(reading, StepResult) and gains:
        return _step_figures(reading, axis, gains)
    return {}


def _step_figures(step: StepResult, axis: Axis, gains: CurrentGains) -> dict[str, float]:
    d, q = loops_with(axis, gains)
    found = margins(d if step.axis_name == "d" else q)
    return {
        "amplitude": step.amplitude,
        "rise": step.figures.rise,
        "overshoot": step.figures.overshoot,
        "settling": step.figures.settling,
        "omega_n": step.fitted.natural_frequency,
        "zeta": step.fitted.damping,
        "crossover": found.crossover,
        "phase_margin": found.phase_margin,
        "agrees": float(step.agrees),
        "cut": float(step.cut_by_bus),
    }


def remark(reading: Reading, record: Record) -> str:
    """Return what the program says of a run, in a few words."""
    if isinstance(reading, Finding):
        return reading.failed[0].sentence if reading.failed else reading.remark
    if isinstance(reading, StepResult):
        failed = [check.sentence for check in reading.checks if not check.passed]
        return failed[0] if failed else "as predicted"
    if record.ended != "done" and record_kind(record) in TURNING and "limit" in record.ended:
        return f"{record.ended}. {_RAN_AWAY}"
    return "could not be read" if record.ended == "done" else record.ended


def sparkline(reading: Reading) -> tuple[float, ...]:
    """Return at most 40 numbers that draw a run in small."""
    if isinstance(reading, StepResult):
        return _thinned(reading.normal)
    if isinstance(reading, Finding):
        key = next((k for k in ("fit_v", "fitted") if k in reading.evidence), "fitted")
        return _thinned(reading.evidence.get(key, np.zeros(0)))
    return ()


def _thinned(values: NDArray[np.float64]) -> tuple[float, ...]:
    pick = np.linspace(0, values.size - 1, min(values.size, 40)).astype(int)
    return tuple(round(float(v), 5) for v in values[pick])
