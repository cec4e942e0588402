"""Play a plan on a drive and bring its record back; whatever happens, leave it without current."""

import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np

from oarlock.cancel import Cancel
from oarlock.drive.dry_run import refuse
from oarlock.drive.link import Link, Progress, Status
from oarlock.drive.parameters import parameters, sensing
from oarlock.drive.steps import CHANNEL_UNITS, Plan, step_table
from oarlock.drive.travel import excursion, steps_back, within
from oarlock.errors import Cancelled, DriveRefused, InputError, LinkError, LinkTimeout
from oarlock.machine import Axis, SensorKind
from oarlock.records import Record, Settings, Sums

_POLL, _TENDED = 0.05, 0.015  # s
_MOST_HOPS = 12  # of a shaft on its way back
_TAKEN_UP = 0.03  # s until a drive's angle follows new settings of its sensor


@dataclass(frozen=True, slots=True)
class Quiet:
    """Progress that nobody looks at."""

    def __call__(self, fraction: float, doing: str) -> None:
        """Do nothing."""


QUIET = Quiet()
Tend = Callable[[Status], None]  # called over and over while a plan is played


def play(
    plan: Plan,
    axis: Axis,
    link: Link,
    *,
    settings: Settings,
    cancel: Cancel,
    progress: Progress = QUIET,
    clock: Callable[[], float] = time.monotonic,
    tend: Tend | None = None,
) -> Record:
    """Play `plan` and return what was recorded.

    A trip is no error here: the record comes back with what it holds and with `ended` saying
    why. Once started, the drive is de-energised on every way out. Where the axis has a limit of
    travel and the shaft stands too near to it, it is turned back first. A recorder that goes round
    is not fetched at the end: what is wanted of it is taken by `tend` meanwhile.

    Raises
    ------
    InputError : the dry run refused the plan, or the drive samples at another rate
    LinkError : the way to the drive failed
    Cancelled : the user stopped it

    """
    refuse(plan, axis)
    if axis.mechanics.max_turns is None:
        return _play(plan, axis, link, settings, cancel, progress, clock, tend)
    _look(axis, link)
    for _ in range(_MOST_HOPS):
        fits = within(plan, axis, link.ledger.standing(axis))
        if fits is not None:
            return _followed(fits, axis, link, settings, cancel, progress, clock, tend)
        back = steps_back(axis, plan, link.ledger.standing(axis))
        refuse(back, axis)
        progress(0.0, "turning the shaft back")
        record = _followed(back, axis, link, {}, cancel, QUIET, clock, None)
        if record.ended != "done":
            cause = f"the shaft could not be turned back: {record.ended}"
            raise InputError(cause, place="travel", remedy="Turn it back by hand, gates off")
    raise InputError("the shaft does not come back to where it began", place="travel",
                     remedy="Turn it back by hand, gates off")  # fmt: skip


def _look(axis: Axis, link: Link) -> None:
    """Follow the shaft to where the drive's sensor sees it."""
    if axis.sensor.kind is not SensorKind.NONE:
        link.ledger.look(axis, link.read(["Drive.Angle"])["Drive.Angle"])


def _followed(
    plan: Plan, axis: Axis, link: Link, settings: Settings, cancel: Cancel,
    progress: Progress, clock: Callable[[], float], tend: Tend | None,
) -> Record:  # fmt: skip
    """Play a plan and follow the shaft over it, on every way out."""
    ended = False
    try:
        record = _play(plan, axis, link, settings, cancel, progress, clock, tend)
        ended = True
        return record
    finally:
        way, end = excursion(plan, axis)
        try:
            if axis.sensor.kind is SensorKind.NONE:
                link.ledger.assume(axis, end if ended else way)
            else:
                _look(axis, link)
        except LinkError:
            link.ledger.assume(axis, way)  # nobody saw how far it went


def _play(
    plan: Plan, axis: Axis, link: Link, settings: Settings, cancel: Cancel,
    progress: Progress, clock: Callable[[], float], tend: Tend | None,
) -> Record:  # fmt: skip
    progress(0.0, "setting up")
    _prepare(plan, axis, link)
    started = datetime.now(UTC).isoformat(timespec="seconds")
    cancel.check()
    try:
        link.start()
        status = _wait(plan, link, cancel, progress, clock, tend)
    except Cancelled:
        link.stop()
        _confirm(link, clock)
        raise
    finally:
        link.stop()
    _confirm(link, clock)
    progress(0.8, "fetching the record")
    channels = len(plan.channels)
    rows = (
        link.upload(status.rows, channels, lambda f, doing: progress(0.8 + 0.2 * f, doing), cancel)
        if status.rows and not plan.round
        else np.zeros((0, channels), dtype=np.float32)
    )
    sums = link.sums(status.summed, channels) if status.summed else np.zeros((0, 0))
    link.clear()
    table = rows.astype(np.float64)
    return Record(
        experiment=plan.name,
        sample_time=axis.inverter.Ts,
        columns={name: table[:, i].copy() for i, name in enumerate(plan.channels)},
        units={name: CHANNEL_UNITS[name] for name in plan.channels},
        settings=dict(settings),
        drive=link.name,
        date=started,
        ended="done" if status.state == "done" else f"tripped: {status.trip.words}",
        trip=status.trip.key,
        sums=Sums(plan.channels, sums) if sums.size else None,
    )


def _prepare(plan: Plan, axis: Axis, link: Link) -> None:
    facts = link.read(["Facts.Control frequency", "Facts.Recorder rows", "Facts.Table rows"])
    frequency = facts["Facts.Control frequency"]
    if not abs(frequency * axis.inverter.Ts - 1.0) <= 1e-4:
        cause = f"the drive samples at {frequency:g} Hz, the axis says {1 / axis.inverter.Ts:g} Hz"
        raise InputError(cause, place="experiment", remedy="Set control_frequency")
    rows = plan.recorded_rows(axis.inverter.Ts)
    too_many = rows > facts["Facts.Recorder rows"] and not plan.round
    if too_many or len(plan.steps) > facts["Facts.Table rows"]:
        cause = f"it takes {rows} rows of the recorder and {len(plan.steps)} steps, the drive has "
        cause += f"{facts['Facts.Recorder rows']:.0f} and {facts['Facts.Table rows']:.0f}"
        raise InputError(cause, place="experiment", remedy="Ask for a shorter one")
    link.clear()
    link.write(parameters(plan, axis))
    if plan.lines:
        link.load_lines(np.array(plan.lines, dtype=np.float32))
    link.load(step_table(plan, axis.inverter.Ts))
    if axis.mechanics.max_turns is not None and axis.sensor.kind is not SensorKind.NONE:
        if link.ledger.is_new(tuple(sensing(axis).items())):
            time.sleep(_TAKEN_UP)
        link.ledger.begin(axis, link.read(["Drive.Angle"])["Drive.Angle"])


def _wait(
    plan: Plan, link: Link, cancel: Cancel, progress: Progress, clock: Callable[[], float],
    tend: Tend | None,
) -> Status:  # fmt: skip
    begun = clock()
    while True:
        cancel.wait(_TENDED if tend else _POLL)
        status = link.status()
        if tend is not None:
            tend(status)
        if status.state != "running":
            if status.state == "de-energised":
                raise Cancelled("stopped at the drive", place=plan.name)
            return status
        left = max(plan.duration - status.played, 0.0)
        progress(0.8 * status.played / plan.duration, f"{plan.name}, {left:.1f} s left")
        if clock() - begun > 1.5 * plan.limits.time + 2.0:
            remedy = "Check the drive's clock"
            raise LinkTimeout("the experiment does not end", place=link.name, remedy=remedy)


def _confirm(link: Link, clock: Callable[[], float]) -> None:
    """Wait until the drive says that it carries no current."""
    until = clock() + 0.5
    while link.status().state == "running":
        if clock() > until:
            remedy = "Switch its supply off"
            raise DriveRefused("the drive does not de-energise", place=link.name, remedy=remedy)
        time.sleep(0.005)
