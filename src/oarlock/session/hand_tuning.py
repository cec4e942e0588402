"""Gains changed by hand on the running drive: what stands in the session follows, and is followed.

Touched on the owner's thread only; the job gets the newest axis and tells what happens.
"""

from dataclasses import replace
from typing import TYPE_CHECKING

from psygnal import Signal

from oarlock.experiments.common.experiment import Experiment
from oarlock.machine import Axis
from oarlock.records import Reading
from oarlock.session.hand_play import (
    Cycle,
    Event,
    GaveUp,
    InForce,
    NotSent,
    Played,
    PutBack,
    play_by_hand,
)
from oarlock.session.jobs import Done, Failed, Post, Stopped
from oarlock.session.session import Session

if TYPE_CHECKING:
    from oarlock.session.bench import Bench

_SHOWN = 6  # answers: the newest over the five before it


class HandTuning:
    """A test that repeats on the drive while gains are dragged or typed."""

    changed = Signal()

    def __init__(self, session: Session, bench: "Bench", post: Post) -> None:
        self._session, self._bench, self._post = session, bench, post
        self._wanted: Axis | None = None
        self.experiment: Experiment | None = None  # None: nothing runs
        self.in_force: Axis | None = None  # the axis with the gains that the drive has now
        self.good: Axis | None = None  # what it would go back to
        self.answers: tuple[Cycle, ...] = ()  # the newest last
        self.said = ""
        session.axis_changed.connect(self._follow)

    @property
    def kind(self) -> str:
        """The kind of test that repeats; empty: none does."""
        return self.experiment.name if self.experiment is not None else ""

    def sides(self, *kinds: str) -> tuple[Axis, ...]:
        """Return the axis as the drive has it and as it would go back to, for tests of kinds."""
        if self.kind not in kinds:
            return ()
        return tuple(axis for axis in (self.in_force, self.good) if axis is not None)

    def newest(self, kind: str) -> Reading | None:
        """Return the newest answer of a kind, if it was given with the gains that are shown."""
        if self.kind != kind or not self.answers or self.in_force is None:
            return None
        last = self.answers[-1]
        return last.reading if last.axis.loops == self._session.axis.loops else None

    def before(self, kind: str) -> list[Reading]:
        """Return the answers before the newest, the oldest first."""
        if self.kind != kind:
            return []
        found = [one.reading for one in self.answers if one.reading is not None]
        newest = self.newest(kind)
        return [one for one in found if one is not newest][1 - _SHOWN :]

    def start(self, experiment: Experiment) -> None:
        """Repeat a test with the gains that stand, and go on with those that come."""
        axis = self._session.axis
        if self._bench.busy:
            self._bench.told.emit("An experiment is under way. Stop it first, or wait")
            return
        self._wanted = self.in_force = self.good = axis
        self.answers, self.said = (), ""
        begun = self._bench.begin(
            lambda link, progress, cancel: play_by_hand(
                experiment, axis, link, self._now_wanted, self._hear, progress, cancel
            ),
            self._ended,
        )
        self.experiment = experiment if begun else None
        self.changed.emit()

    def _now_wanted(self) -> Axis:
        """Return the newest axis; called on the job's thread, which reads one reference."""
        assert self._wanted is not None
        return self._wanted

    def _follow(self, axis: Axis) -> None:
        """Take what stands in the session as wanted, as long as it is the same machine."""
        if self.experiment is None or self.in_force is None:
            return
        if replace(axis, loops=self.in_force.loops) != self.in_force:
            self._bench.stop()
            return
        self._wanted = axis

    def _hear(self, event: Event) -> None:
        """Take what happens, from the job's thread onto the owner's."""
        self._post(lambda: self._take(event))

    def _take(self, event: Event) -> None:
        if self.experiment is None:
            return
        if isinstance(event, Cycle):
            self.answers = (*self.answers, event)[-_SHOWN:]
        elif isinstance(event, InForce):
            if event.axis != self.in_force:  # what was put back stays told until gains change
                self.said = ""
            self.in_force, self.good = event.axis, event.good
        elif isinstance(event, NotSent):
            self.said = f"Not sent: {event.why}"
        elif isinstance(event, GaveUp):
            self.said = event.why
        else:
            self._go_back(event)
        self.changed.emit()

    def _go_back(self, event: PutBack) -> None:
        """Show the gains that the drive has again."""
        self.in_force = self.good = event.to
        self.said = f"{event.why}: the gains before are back"
        if self._session.dragging:
            self._session.end_drag("", keep=False)
        if replace(self._session.axis, loops=event.to.loops) == event.to:
            self._session.edit("Put the gains back", event.to)

    def _ended(self, outcome: Done[Played] | Stopped | Failed) -> None:
        said = self.said
        self.experiment = self._wanted = self.in_force = self.good = None
        if isinstance(outcome, Done):
            played = outcome.value
            for one in played.kept:
                self._session.keep(one)
            if played.error is not None:
                self._bench.fail(played.error)
            elif played.ended != "done":
                said = f"{said}. The drive {played.ended}" if said else f"The drive {played.ended}"
        self.said = said
        self.changed.emit()
