"""What the strip shows of the loops: the one that is dragged at once, the others when it rests."""

from PySide6.QtCore import QObject, QTimer, Signal

from oarlock.session.bench import Bench
from oarlock.session.session import Session
from oarlock.ui.frame.strip import TimescalesStrip
from oarlock.ui.stages.base import StageView
from oarlock.views.current import loop_picture
from oarlock.views.outer import OUTER, outer_mark
from oarlock.views.snapshot import Snapshot
from oarlock.views.strip import LoopMark, current_mark, strip

_RESTS = 120  # ms without a move, after which what hangs on a drag is brought up to date


class StripLoops(QObject):
    """Fills the strip from the session and the stage on screen.

    The loops outside a dragged one are designed and searched anew for each of its positions; that
    takes longer than a frame, so they stay where they were until the drag rests for a moment.
    """

    rested = Signal()

    def __init__(self, shown: TimescalesStrip, session: Session, bench: Bench) -> None:
        super().__init__(shown)
        self._strip, self._session, self._bench = shown, session, bench
        self._outer: dict[str, LoopMark | None] = {}
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.setInterval(_RESTS)
        self._rest.timeout.connect(self.rested)

    def show_moving(self, stage: StageView) -> None:
        """Show a loop on its way; the others follow when it rests."""
        if stage.handle in self._outer:
            self._outer[stage.handle] = outer_mark(self._session.now, stage.handle)
        self._show(stage)
        self._rest.start()

    def leave(self) -> None:
        """Bring nothing up to date any more: the session is another window's."""
        self._rest.stop()

    def show_all(self, stage: StageView, now: Snapshot) -> None:
        """Show every loop as it stands."""
        self._rest.stop()
        self._outer = {key: outer_mark(now, key) for key in OUTER}
        self._show(stage)

    def _show(self, stage: StageView) -> None:
        axis, seen = self._session.axis, stage.picture()
        which = seen[1] if seen is not None else self._session.screen.step.axis_name
        shown = seen[0] if seen is not None else loop_picture(axis, which)
        found = self._session.now.verification(which)
        verified = found is not None and found[1].holds
        marks = [current_mark(shown, axis, verified=verified)] if shown else []
        marks += [mark for mark in self._outer.values() if mark is not None]
        self._strip.show_strip(
            strip(axis, marks, handle=stage.handle, rings=stage.rings(),
                  saved=self._bench.memory.crossovers(which)),
            stage.read_out(), lane=stage.lane, line=stage.has_line,
        )  # fmt: skip
