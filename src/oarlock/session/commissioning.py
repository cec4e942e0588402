"""Commissioning in one action: senses, identifies, designs, verifies, proposes.

All of it is played with a candidate; what stands in the axis stays until the proposal is taken.
No part moves more than was said beforehand: one that would has to be asked about.
"""

import functools
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from psygnal import Signal

from oarlock.cancel import Cancel
from oarlock.drive.link import Link, Progress
from oarlock.drive.standstill import await_standstill
from oarlock.machine import Axis
from oarlock.machine.speed_loop import KEY as SPEED
from oarlock.session.commission_parts import (
    STILL,
    Bound,
    Part,
    expected,
    experiment,
    moves,
    parts,
    prepared,
    taken,
    trouble,
)
from oarlock.session.jobs import Done, Failed, Stopped
from oarlock.session.perform import Performed, perform
from oarlock.session.session import Session
from oarlock.views.snapshot import Snapshot
from oarlock.views.speed_asked import aimed

if TYPE_CHECKING:
    from oarlock.session.bench import Bench


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class _Result:
    """What one play of a part came to."""

    axis: Axis  # that it was played with
    asks: Bound | None = None  # more than was said beforehand: nothing was played
    performed: Performed | None = None


class Commissioning:
    """One run through all that an axis lacks; touched on the owner's thread only."""

    changed = Signal()

    def __init__(self, session: Session, bench: "Bench") -> None:
        self._session, self._bench = session, bench
        self.parts: tuple[Part, ...] = ()
        self.bounds: dict[Part, Bound] = {}
        self.done: tuple[Part, ...] = ()
        self.running: Part | None = None
        self.asks: Bound | None = None  # what the next part would move beyond what was said
        self.said = ""  # why it waits, or nothing
        self.came: dict[Part, str] = {}  # what each part came to, in a few words
        self.candidate: Axis | None = None
        self._before: Axis | None = None
        self._held = True  # as the parts were chosen for
        self._attempts: list[Performed] = []

    @property
    def next(self) -> Part | None:
        """The first part that is not done."""
        return next((part for part in self.parts if part not in self.done), None)

    @property
    def is_complete(self) -> bool:
        """Whether everything holds, and may be taken."""
        return bool(self.parts) and self.next is None

    @property
    def before(self) -> Axis | None:
        """The axis as it stood when it began."""
        return self._before

    @property
    def total(self) -> Bound:
        """How far all parts together may move."""
        return functools.reduce(Bound.joined, (self.bounds[part] for part in self.parts), STILL)

    @property
    def held(self) -> bool:
        """Whether a brake holds the shaft."""
        return self._bench.braked

    def begin(self) -> None:
        """Look at what is missing and say what it will move; nothing is played yet."""
        if self.running is not None:
            return
        now = self._session.now
        self._before = self.candidate = now.axis
        self._held = self.held
        self.parts = parts(now, held=self.held)
        self.bounds = expected(self.parts, now, held=self.held)
        self.done, self.asks, self.said, self.came = (), None, "", {}
        self.changed.emit()

    def look_again(self) -> None:
        """Begin anew where nothing is begun and what the parts were chosen for has changed."""
        if self.parts and not self.done and self.running is None and not self.said:
            changed = self.is_stale or self._held != self.held
            if changed:
                self.begin()

    def aim(self, name: str) -> None:
        """Choose how hard the speed loop is to be tuned: calm, even or keen; before it starts."""
        if self._before is None or self.done or self.running is not None:
            return
        loops = self._before.loops.with_target(SPEED, aimed(name))
        self.candidate = replace(self._before, loops=loops)
        now = replace(self._session.now, axis=self.candidate)
        self.bounds = expected(self.parts, now, held=self.held)
        self.changed.emit()

    def go_on(self) -> None:
        """Play what is left, from the next part on; what was asked about is allowed by this."""
        part = self.next
        if part is None or self.running is not None or self.candidate is None:
            return
        if self.is_stale:
            self.said = "The axis was changed meanwhile. Begin again"
            self.changed.emit()
            return
        if self.asks is not None:
            self.bounds = {**self.bounds, part: self.asks}
            self.asks = None
        self.said = ""
        self._play(part)

    @property
    def is_stale(self) -> bool:
        """Whether the axis has changed since it began."""
        return self._session.axis != self._before

    def _play(self, part: Part) -> None:
        now = replace(self._session.now, axis=self._candidate())
        bound, held = self.bounds[part], self.held
        begun = self._bench.begin(
            lambda link, progress, cancel: _play_part(
                part, now, bound, link, progress, cancel, self._attempts.append, held=held
            ),
            lambda outcome: self._played(part, outcome),
        )
        self.running = part if begun else None
        self.changed.emit()

    def _candidate(self) -> Axis:
        assert self.candidate is not None
        return self.candidate

    def _played(self, part: Part, outcome: Done[_Result] | Stopped | Failed) -> None:
        self.running = None
        for one in self._attempts:
            self._session.keep(one)
        self._attempts = []
        if isinstance(outcome, Done):
            self._take(part, outcome.value)
        else:
            self.said = "Stopped" if isinstance(outcome, Stopped) else str(outcome.error)
        self.changed.emit()
        if self.said or self.asks is not None or self.next is None:
            return
        if self.is_stale:
            self.said = "The axis was changed meanwhile. Begin again"
            self.changed.emit()
        else:
            self._play(self.next)

    def _take(self, part: Part, result: _Result) -> None:
        """Take what a part came to into the candidate, or wait there."""
        if result.performed is None:
            self.asks = result.asks
            return
        run = self._session.keep(result.performed)
        reading = result.performed.reading
        self.said = trouble(run, reading)
        self.came[part] = self.said or run.remark
        if not self.said and reading is not None:
            now = replace(self._session.now, axis=result.axis)
            self.candidate = taken(part, now, run, reading)
            self.done = (*self.done, part)

    def take(self) -> None:
        """Take the proposal into use: one edit."""
        if not self.is_complete or self.candidate is None:
            return
        if self.is_stale:
            self.said = "The axis was changed meanwhile. Begin again"
        else:
            self._session.take_commissioned(self.candidate)
            self.leave()
        self.changed.emit()

    def leave(self) -> None:
        """Forget it; what was measured stays in the logbook."""
        if self.running is not None:
            self._bench.stop()
            return
        self.parts, self.done, self.bounds = (), (), {}
        self.candidate = self._before = self.asks = None
        self.said = ""
        self.changed.emit()


def _play_part(
    part: Part, now: Snapshot, bound: Bound, link: Link, progress: Progress, cancel: Cancel,
    on_attempt: Callable[[Performed], None], *, held: bool,
) -> _Result:  # fmt: skip
    """Prepare a part, hold its movement against what was said, and play it: work for a job.

    Raises
    ------
    InputError : what is known does not lead to gains or to a plan

    """
    progress(0.0, f"{part.title}: working out")
    axis = prepared(part, now, cancel.check)
    played = experiment(part, replace(now, axis=axis), held=held)
    wanted = moves(played, axis, held=held)
    if not bound.holds(wanted):
        return _Result(axis=axis, asks=wanted)
    progress(0.0, f"{part.title}: waiting until the shaft stands")
    await_standstill(axis, link, cancel)
    return _Result(axis=axis, performed=perform(played, axis, link, progress, cancel, on_attempt))
