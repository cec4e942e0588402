"""What the strip shows of the loops: the one that is dragged at once, the others when it rests."""

from functools import partial

from PySide6.QtCore import QObject, QTimer, Signal

from oarlock.cancel import Cancel
from oarlock.machine import Axis
from oarlock.session.bench import Bench
from oarlock.session.dragging import Drag, at_rest
from oarlock.session.jobs import Done, Failed, Jobs, Progress, Stopped
from oarlock.session.session import Session
from oarlock.ui.frame.strip import TimescalesStrip
from oarlock.ui.stages.base import StageView
from oarlock.views.current import CurrentPicture, loop_picture
from oarlock.views.outer import OUTER, outer_mark
from oarlock.views.rail import stages
from oarlock.views.snapshot import Snapshot
from oarlock.views.stage import Stage
from oarlock.views.strip import LoopMark, current_mark, strip

_Hanging = tuple[dict[str, LoopMark | None], list[Stage]]  # strip and rail

_RESTS = 120  # ms without a move, after which what hangs on a drag is brought up to date


class StripLoops(QObject):
    """Fills the strip from the session and the stage on screen.

    The loops outside a dragged one are designed and searched anew for each of its positions; that
    takes longer than a frame, so they stay where they were until the drag rests for a moment, and
    are worked out in a job.
    """

    rested = Signal(object)  # what the rail says then: list[Stage]

    def __init__(self, shown: TimescalesStrip, session: Session, bench: Bench, jobs: Jobs) -> None:
        super().__init__(shown)
        self._strip, self._session, self._bench, self._jobs = shown, session, bench, jobs
        self._outer: dict[str, LoopMark | None] = {}
        self._stage: StageView | None = None
        self._stands: tuple[tuple[object, ...], CurrentPicture | None] | None = None
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.setInterval(_RESTS)
        self._rest.timeout.connect(self._work_out)

    def show_moving(self, stage: StageView) -> None:
        """Show a loop on its way; the others follow when it rests."""
        if stage.handle in self._outer:
            self._outer[stage.handle] = outer_mark(self._session.now, stage.handle)
        self._stage = stage
        self._show(stage)
        self._rest.start()

    def _work_out(self) -> None:
        """Work out, in a job, what hangs on the loop that is dragged."""
        session = self._session
        work = partial(_hanging_on, session.now, session.drag_under_way)
        self._jobs.start(work, on_end=partial(self._take, session.axis), name="drag at rest")

    def _take(self, axis: Axis, outcome: "Done[_Hanging] | Stopped | Failed") -> None:
        """Show what was worked out, if the drag still rests where it was asked for."""
        if isinstance(outcome, Failed):
            raise outcome.error
        resting = self._session.dragging and self._session.axis is axis
        if isinstance(outcome, Done) and resting and self._stage is not None:
            self._outer, rail = outcome.value
            self._show(self._stage)
            self.rested.emit(rail)

    def leave(self) -> None:
        """Bring nothing up to date any more: the session is another window's."""
        self._rest.stop()

    def show_all(self, stage: StageView, now: Snapshot) -> None:
        """Show every loop as it stands."""
        self._rest.stop()
        self._outer = {key: outer_mark(now, key) for key in OUTER}
        self._show(stage)

    def _current(self, axis: Axis, which: str) -> CurrentPicture | None:
        """Return the current loop, which stands while one outside it is dragged."""
        asked = (axis.machine, axis.inverter, axis.target, axis.gains, which)
        if self._stands is None or self._stands[0] != asked:
            self._stands = (asked, loop_picture(axis, which))
        return self._stands[1]

    def _show(self, stage: StageView) -> None:
        axis, seen = self._session.axis, stage.picture()
        which = seen[1] if seen is not None else self._session.screen.step.axis_name
        shown = seen[0] if seen is not None else self._current(axis, which)
        found = self._session.now.verification(which)
        verified = found is not None and found[1].holds
        marks = [current_mark(shown, axis, verified=verified)] if shown else []
        marks += [mark for mark in self._outer.values() if mark is not None]
        self._strip.show_strip(
            strip(axis, marks, handle=stage.handle, rings=stage.rings(),
                  saved=self._bench.memory.crossovers(which)),
            stage.read_out(), lane=stage.lane, line=stage.has_line,
        )  # fmt: skip


def _hanging_on(now: Snapshot, drag: Drag | None, _progress: Progress, _cancel: Cancel) -> _Hanging:
    rest = at_rest(now, drag)
    return {key: outer_mark(rest, key) for key in OUTER}, stages(rest)
