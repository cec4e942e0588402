"""What every stage has: its pictures, its numbers, its read-out on the strip."""

from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QPushButton, QWidget

from oarlock.drive.link import Live
from oarlock.session.bench import Bench, Doing
from oarlock.session.session import Session
from oarlock.ui import theme as look
from oarlock.ui.numbers import Panel
from oarlock.ui.paint import draw_text
from oarlock.ui.strip import ReadOut


class StageView(QWidget):
    """Base of the stages: a question and its answer at the top left."""

    key = ""
    question = ""
    lane = "machine"
    has_line = False
    f5 = ""  # what F5 does here, for the command palette; empty: nothing

    def __init__(self, session: Session, bench: Bench) -> None:
        super().__init__()
        self.session, self.bench = session, bench
        self.numbers = Panel()
        self.answer = ""
        self.reasons: tuple[str, ...] = ()
        self.setAutoFillBackground(False)

    def refresh(self) -> None:
        """Show the session as it stands."""

    def run(self) -> None:
        """Do what F5 does here."""

    def show_live(self, live: Live) -> None:
        """Show what the drive says of itself, ten times a second."""

    def show_doing(self, doing: Doing) -> None:
        """Show how far an experiment is; an empty text ends it."""

    def read_out(self) -> ReadOut:
        """Return what the strip's right end says while this stage is on screen."""
        return ReadOut("", "", "")

    def say(self, answer: str, *reasons: str) -> None:
        """Show the stage's answer and why it is so."""
        if (answer, reasons) != (self.answer, self.reasons):
            self.answer, self.reasons = answer, reasons
            self.setAccessibleName(f"{self.question} {answer}")
            self.update(0, 0, self.width(), 100)

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t = QPainter(self), look.theme()
        p.fillRect(self.rect(), t.panel)
        draw_text(p, look.MARGIN, 24, self.question, t.muted)
        draw_text(p, look.MARGIN, 50, self.answer, t.ink, size=look.ANSWER, bold=True)
        for i, reason in enumerate(self.reasons):
            draw_text(p, look.MARGIN, 72 + 17 * i, reason, t.ink, size=look.BODY)


def button(text: str, *, primary: bool = False, tip: str = "") -> QPushButton:
    """Return a button in the house's style."""
    t = look.theme()
    made = QPushButton(text)
    made.setFont(look.font(look.BODY, bold=primary))
    made.setToolTip(tip)
    back, ink = (t.accent, t.on_accent) if primary else (t.panel, t.ink)
    made.setStyleSheet(
        f"QPushButton {{ background: {back.name()}; color: {ink.name()}; padding: 4px 12px;"
        f" border: 1px solid {(t.accent if primary else t.ink).name()}; }}"
        f"QPushButton:focus {{ border: 2px solid {t.ink.name()}; padding: 3px 11px; }}"
        f"QPushButton:hover {{ border-color: {t.accent.name()}; }}"
        f"QPushButton:disabled {{ background: {t.ground.name()}; color: {t.muted.name()};"
        f" border: 1px dashed {t.muted.name()}; }}"
    )
    return made
