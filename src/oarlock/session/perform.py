"""One experiment from plan to reading: pure work, for a job or for the headless run."""

from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

import numpy as np

from oarlock.cancel import Cancel
from oarlock.drive.dry_run import problems
from oarlock.drive.link import Link, Progress
from oarlock.drive.runner import play
from oarlock.errors import InputError
from oarlock.experiments.common.announce import announced
from oarlock.experiments.common.experiment import Experiment, Moving, Staged
from oarlock.experiments.common.repeat import ATTEMPTS, Another, another, largest_try
from oarlock.experiments.identify.kinds import record_kind
from oarlock.experiments.loops.current_step import CurrentStep
from oarlock.experiments.reading import read, remark, sparkline
from oarlock.experiments.registry import loops_of, tells_early
from oarlock.experiments.sensing.kinds import snapshot
from oarlock.machine import Axis, CurrentGains
from oarlock.machine.axis import rests_on
from oarlock.machine.axis_file import format_axis
from oarlock.machine.current_loop import KEY as CURRENT_KEY
from oarlock.records import Finding, Reading, Record, Run, Settings


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Performed:
    """An experiment that was played: what to keep of it."""

    run: Run  # its number is still 0
    record: Record
    reading: Reading | None


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
    for left in range(ATTEMPTS - 1, -1, -1):
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
    wanted = another(experiment, finding, done.record)
    if wanted is not None and wanted.stronger and wanted.experiment != largest:
        return None
    return wanted


def _perform_once(
    experiment: Experiment, axis: Axis, link: Link, progress: Progress, cancel: Cancel
) -> Performed:
    plan = experiment.plan(axis)
    settings = experiment.settings(axis)
    started = datetime.now().astimezone().isoformat(timespec="seconds")
    if isinstance(experiment, Staged):
        record = experiment.perform(axis, link, cancel, progress)
        settings = {**settings, **record.settings}
    else:
        record = play(plan, axis, link, settings=settings, cancel=cancel, progress=progress)
    progress(1.0, "reading the record")
    return made_of(record, experiment, axis, plan.gains, settings, started)


def made_of(
    record: Record, experiment: Experiment, axis: Axis, gains: CurrentGains, settings: Settings,
    started: str,
) -> Performed:  # fmt: skip
    """Read a record and make its row for the logbook.

    Parameters
    ----------
    axis : as it was then
    gains : of the current loop, which an experiment may bring with it
    started : local time, ISO 8601

    """
    kind = record_kind(record)
    reading: Reading | None = None
    trouble = ""
    if record.ended == "done" or (tells_early(kind) and record.rows):
        try:
            reading = read(record, axis)
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
            **said_beforehand(experiment, axis),
        },
        gains=axis.loops.with_gains(CURRENT_KEY, gains).only(loops_of(kind)).numbers(),
        figures=reading.figures if reading else {},
        remark=remark(reading, record),
        sparkline=sparkline(reading),
    )
    return Performed(run=run, record=record, reading=reading)


def from_file(record: Record, axis: Axis) -> Performed:
    """Read a recording that was made elsewhere, and make its row for the logbook."""
    from oarlock.experiments.identify.soundness import prepared, soundness

    reading: Reading | None = None
    trouble = ""
    if "temperature" in record.columns:
        winding = float(np.mean(record["temperature"]))
        record = replace(record, settings={**record.settings, "winding": winding})
    try:
        reading = read(record, axis)
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
        figures=reading.figures if reading else {},
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


def said_beforehand(experiment: Experiment, axis: Axis) -> dict[str, str]:
    """Return what was said beforehand of the movement, to be kept with the run."""
    return {"announced": announced(experiment, axis)} if isinstance(experiment, Moving) else {}


def plant_settings(axis: Axis) -> dict[str, float]:
    """Return the plant that predictions of this run rest on."""
    m = axis.machine
    wound = {"R": m.R.value, "Ld": m.Ld.value, "Lq": m.Lq.value, "Ts": axis.inverter.Ts}
    return wound | rests_on(axis)
