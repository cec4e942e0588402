"""What every stage has: its pictures, its numbers, its read-out on the strip."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent, QRegion
from PySide6.QtWidgets import QWidget

from oarlock.drive.link import Live
from oarlock.session.bench import Bench
from oarlock.session.jobs import Doing, Jobs
from oarlock.session.session import Session
from oarlock.ui.kit import theme as look
from oarlock.ui.kit.numbers import Panel
from oarlock.ui.kit.paint import draw_text
from oarlock.views.current import CurrentPicture
from oarlock.views.said import said

_REASONS, _LINE = 72, 17  # px: baseline of the first reason under the answer; to the next


@dataclass(frozen=True, slots=True)
class ReadOut:
    """The large figure at the strip's right end."""

    caption: str
    value: str
    unit: str
    lines: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Around:
    """What a stage may use of the window around it."""

    session: Session
    bench: Bench
    jobs: Jobs
    tell: Callable[[str], None]  # a message to the user
    x_of: Callable[[float], float]  # px on the strip of a frequency in Hz
    commission: Callable[[], None]  # show what is missing of the axis


class StageView(QWidget):
    """Base of the stages: a question and its answer at the top left."""

    reread = Signal()  # what `read_out` says has changed

    key = ""
    question = ""
    lane = "machine"
    has_line = False
    handle = "current"  # the loop whose handle on the strip may be dragged
    reasons_at: tuple[int, int] | None = None  # px; None: under the answer
    said_left = look.MARGIN  # px, where question and answer begin
    f5 = ""  # what F5 does here, for the command palette; empty: nothing

    def __init__(self, around: Around) -> None:
        super().__init__()
        self.around = around
        self.session, self.bench = around.session, around.bench
        self.numbers = Panel()
        self.answer = ""
        self.reasons: tuple[str, ...] = ()
        self._told: tuple[str, ...] = ()  # both, in the units that were chosen
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)  # it fills all of itself

    def refresh(self) -> None:
        """Show the session as it stands."""

    def rest(self) -> None:
        """Bring up to date what is left alone while something moves; a drag has come to rest."""

    def run(self) -> None:
        """Do what F5 does here."""

    def kept(self) -> object:
        """Return what the stage shows that is kept nowhere else, for a window in other colours."""
        return None

    def take_kept(self, kept: object) -> None:
        """Show what the same stage of the window before has kept."""

    def take_file(self, path: Path) -> None:
        """Take a file that was dropped on the window."""
        self.around.tell(f"{path.name}: a recording is dropped on Identify")

    def lay_out(self) -> None:
        """Place what follows the strip's scale, which has changed."""

    def drag_to(self, hertz: float) -> None:
        """Follow the strip's handle, where it is this stage's."""

    def end_drag(self) -> None:
        """Take where the strip's handle was let go."""

    def drag_filter(self, number: int, hertz: float) -> None:
        """Follow a filter's marker on the strip or in the plots."""

    def end_filter(self) -> None:
        """Take where a filter's marker was let go."""

    def nudge(self, ratio: float) -> None:
        """Move the strip's handle from the keyboard."""

    def picture(self) -> tuple[CurrentPicture | None, str] | None:
        """Return the loop that the strip shows with this stage, and its axis; None: as it is."""
        return None

    def rings(self) -> tuple[float, ...]:
        """Return crossovers (Hz) of this loop as the drive has it, and as it would go back to."""
        return ()

    def show_live(self, live: Live) -> None:
        """Show what the drive says of itself, ten times a second."""

    def show_doing(self, doing: Doing) -> None:
        """Show how far an experiment is; an empty text ends it."""

    def read_out(self) -> ReadOut:
        """Return what the strip's right end says while this stage is on screen."""
        return ReadOut("", "", "")

    def say(self, answer: str, *reasons: str) -> None:
        """Show the stage's answer and why it is so."""
        self.answer, self.reasons = answer, reasons
        told = tuple(self.in_units(text) for text in (answer, *reasons))
        if told != self._told:
            lines = max(len(told), len(self._told)) - 1
            self._told = told
            self.setAccessibleName(f"{self.question} {told[0]}")
            bottom = (self.reasons_at or (0, _REASONS))[1] + _LINE * lines
            said = QRegion(0, 0, self.width(), max(bottom, _REASONS))  # what lies beside rests
            self.update(said - self.childrenRegion())

    def in_units(self, text: str) -> str:
        """Return a sentence with its speeds and torques in the units that were chosen."""
        return said(text, self.session.axis, self.session.screen)

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t = QPainter(self), look.theme()
        p.fillRect(self.rect(), t.panel)
        left = self.said_left
        draw_text(p, left, 24, self.question, t.muted)
        draw_text(p, left, 50, "".join(self._told[:1]), t.ink, size=look.ANSWER, bold=True)
        x, y = self.reasons_at or (left, _REASONS)
        for i, reason in enumerate(self._told[1:]):
            draw_text(p, x, y + _LINE * i, reason, t.ink, size=look.BODY)
