"""What the Sensing stage is made of: a card for each step, and the waterline between them."""

import math
import re
from collections.abc import Iterable

from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent, QResizeEvent
from PySide6.QtWidgets import QAbstractButton, QPushButton, QWidget

from oarlock.drive.link import Live
from oarlock.machine import Axis
from oarlock.quantities.kinds import RPM
from oarlock.session.jobs import Doing
from oarlock.ui.kit import theme as look
from oarlock.ui.kit import units
from oarlock.ui.kit.buttons import button
from oarlock.ui.kit.paint import Mark, draw_text, hatch, line, mark, paint_progress, text_width
from oarlock.ui.stages.sensing import pictures as pictures
from oarlock.ui.stages.sensing import turning_pictures as turning
from oarlock.views.sensing import SensingStep
from oarlock.views.sensing_experiments import HAND, PULSES, PUSH, REST, SEARCH, SPIN, START, TURN

_PICTURES: dict[str, pictures.Picture] = {
    REST: pictures.paint_rest,
    PULSES: pictures.paint_pulses,
    HAND: pictures.paint_hand,
    TURN: turning.paint_turn,
    PUSH: turning.paint_push,
    SEARCH: turning.paint_search,
    SPIN: turning.paint_spin,
    START: turning.paint_start,
}
_WORDS = {
    REST: ("Measure", "gates off, then zero vector"),
    PULSES: ("Pulse", "voltage along 12 directions"),
    HAND: ("Record", "gates off, turn it by hand"),
    TURN: ("Turn", "measured less forced angle"),
    PUSH: ("Push", "torque, N·m"),
    SEARCH: ("Search", "first motion, halved"),
    SPIN: ("Spin", "current falling till it drops out"),
    START: ("Start", "forced, observer, and back"),
}


class StepCard(QWidget):
    """One step: state, title, picture, what it will move, and the button that starts it."""

    asked = Signal(str)

    def __init__(self, kind: str, parent: QWidget) -> None:
        super().__init__(parent)
        self.kind = kind
        self._step: SensingStep | None = None
        self._axis: Axis | None = None
        self._live: Live | None = None
        self._running = False
        self._doing = Doing()
        self.button: QPushButton = button(_WORDS[kind][0])
        self.button.setParent(self)
        self.button.clicked.connect(lambda: self.asked.emit(self.kind))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._place()

    def _place(self) -> None:
        wide = max(round(text_width(self.button.text())) + 28, 74)
        self.button.setGeometry(0, self.height() - 27, wide, 26)

    def show_step(
        self, step: SensingStep, axis: Axis, *, ready: bool, running: bool, primary: bool
    ) -> None:
        """Show the state of the step; `ready` tells that a drive can play it now."""
        self._step, self._axis, self._running = step, axis, running
        word = _WORDS[self.kind][0]
        again = " again" if step.run is not None else ""
        self.button.setText(f"{word}{again}" + ("  F5" if primary else ""))
        allowed = not step.waits_for and not step.trouble
        self.button.setEnabled(ready and allowed)
        self.button.setVisible(allowed)
        self._place()
        told = step.announced if step.movement else step.trouble
        self.button.setToolTip(told)
        self.setAccessibleName(f"{step.title}: {self._verdict(step)}")
        checks = step.finding.checks if step.finding else ()
        failed = "\n".join(f"{'✓' if c.passed else '✗'} {c.sentence}" for c in checks) or told
        self.setToolTip(failed)
        self.update()

    def show_live(self, live: Live) -> None:
        """Show the live angle where nothing was recorded yet, or while it is."""
        self._live = live
        watched = self.kind == HAND and not (self._step and self._step.finding)
        if self._running or watched:
            self.update()

    def _verdict(self, step: SensingStep) -> str:
        if step.waits_for:
            return f"waits for {step.waits_for}"
        if step.stale:
            return "stale"
        if step.finding is None:
            return "not done"
        return "holds" if step.holds else step.finding.failed[0].sentence

    def _mark(self, step: SensingStep) -> Mark:
        if step.finding is not None and not step.finding.holds:
            return Mark.ATTENTION
        if step.stale:
            return Mark.STALE
        return Mark.VALID if step.holds else Mark.EMPTY

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t, step = QPainter(self), look.theme(), self._step
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        if step is None or self._axis is None:
            return
        mark(p, 10, 12, self._mark(step))
        off = bool(step.waits_for)
        width = draw_text(p, 28, 17, step.title, t.muted if off else t.ink, size=look.NAME,
                          bold=True)  # fmt: skip
        hint = _WORDS[self.kind][1].replace("N·m", units.torque().unit)
        if self.width() - 34 - width > text_width(hint, look.SMALL):
            draw_text(p, self.width(), 17, hint, t.muted, size=look.SMALL, align="right")
        if off:
            self._paint_waiting(p, step)
            return
        area = QRectF(0, 26, self.width(), self.height() - 32 - self._foot(step))
        if self._running:
            self._paint_running(p, area)
            self._paint_words(p, step)
            return
        dial = self.kind == HAND and (self._running or step.finding is None)
        if dial and self._live is not None:
            pictures.paint_dial(p, area, self._live, self._axis)
        elif step.finding is not None and step.finding.evidence:
            lines = folded_all(map(units.told, step.details), self.width() - 4)
            area.setHeight(max(area.height() - 15 * len(lines), 40.0))
            p.setClipRect(QRectF(0, 0, self.width(), area.bottom() + 15 * len(lines) + 4))
            _PICTURES[self.kind](p, area, step.finding, self._axis)
            for n, text in enumerate(lines):
                draw_text(p, 0, area.bottom() + 14 + 15 * n, text, t.ink, size=look.SMALL)
            p.setClipping(False)
        else:
            for n, text in enumerate(folded_all(map(units.told, step.details), self.width() - 4)):
                draw_text(p, 0, area.top() + 14 + 16 * n, text, t.ink, size=look.SMALL)
        self._paint_words(p, step)

    def _paint_waiting(self, p: QPainter, step: SensingStep) -> None:
        t = look.theme()
        draw_text(p, 28, 38, f"waits for: {step.waits_for}", t.muted)
        if step.kind == HAND and self._live is not None and self._axis is not None:
            area = QRectF(0, 46, self.width(), self.height() - 60)
            pictures.paint_dial(p, area, self._live, self._axis)
        elif step.movement:
            for n, text in enumerate(folded(step.announced, self.width() - 32)):
                draw_text(p, 28, 58 + 17 * n, text, t.muted, size=look.SMALL)

    def _words(self, step: SensingStep) -> tuple[str, bool]:
        """Return what stands at the foot: what failed, or else what starting it will move."""
        if step.finding is not None and not step.finding.holds:
            return step.finding.failed[0].sentence, True
        return (step.announced if step.movement else step.trouble), False

    def _lines(self, step: SensingStep) -> tuple[list[str], float]:
        """Return the foot's lines, none of them cut, and where they begin, px.

        They stand beside the button where they fit into three, else above it.
        """
        text, _ = self._words(step)
        x = self.button.width() + 8.0
        beside = folded(text, self.width() - x - 2) if self.width() - x > 90 else []
        if beside and len(beside) <= 3:
            return beside, x
        return folded(text, self.width() - 2), 0.0

    def _foot(self, step: SensingStep) -> float:
        lines, x = self._lines(step)
        return max(14.0 * len(lines) + 2.0, 28.0) if x else 14.0 * len(lines) + 34.0

    def _paint_words(self, p: QPainter, step: SensingStep) -> None:
        t = look.theme()
        color = t.attention if self._words(step)[1] else t.ink
        lines, x = self._lines(step)
        last = self.height() - 5.0 if x else self.height() - 34.0
        if x and len(lines) == 1:
            last = self.height() - 10.0
        for n, part in enumerate(reversed(lines)):
            draw_text(p, x, last - 14 * n, part, color, size=look.SMALL)

    def show_doing(self, doing: Doing) -> None:
        """Show how far the experiment is, in the place where its result will be."""
        self._doing = doing
        if self._running:
            self.update()

    def _paint_running(self, p: QPainter, area: QRectF) -> None:
        if self.kind == HAND and self._live is not None and self._axis is not None:
            pictures.paint_dial(p, area, self._live, self._axis)
            return
        y = area.center().y()
        paint_progress(p, area.center(), self._doing.text or "setting up", self._doing.fraction)
        t = look.theme()
        if self._live is not None:
            live = self._live
            said = f"shaft {math.degrees(live.angle) % 360.0:.0f}°, {live.speed / RPM:.0f} rpm, "
            said = units.told(f"{said}{live.current:.1f} A")
            draw_text(p, area.center().x(), y + 24, said, t.muted, align="center")


def folded(text: str, width: float) -> list[str]:
    """Return a text broken into lines of at most `width` px."""
    lines, current = [], ""
    # A number and its unit stay together.
    glued = re.sub(r"(?<=\d) (?=(?:A|s|V|rpm|ms|turns?|Hz|N·m|%)\b)", "\N{NO-BREAK SPACE}", text)
    for word in glued.split(" "):
        longer = f"{current} {word}".strip()
        if current and text_width(longer, look.SMALL) > width:
            lines.append(current)
            current = word
        else:
            current = longer
    return [*lines, current] if current else lines


def folded_all(texts: Iterable[str], width: float) -> list[str]:
    """Return several texts, each broken into lines of at most `width` px."""
    return [line_ for text in texts for line_ in folded(text, width)]


class Waterline(QWidget):
    """The line below which the shaft turns: what must hold above it, said on it."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self._text, self._more, self._open = "", "", False

    def show_state(self, text: str, more: str, *, is_open: bool) -> None:
        """Show whether what lies below is offered."""
        if (text, more, is_open) != (self._text, self._more, self._open):
            self._text, self._more, self._open = text, more, is_open
            self.setAccessibleName(f"{text}. {more}")
            self.update()

    @property
    def is_open(self) -> bool:
        """Whether the shaft may turn."""
        return self._open

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t = QPainter(self), look.theme()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        below = QRectF(0, 1, self.width(), self.height() - 1)
        p.fillRect(below, look.faded(t.q, 14))
        color = t.accent if self._open else t.attention
        line(p, 0, 1, self.width(), 1, color, 2)
        if not self._open:
            hatch(p, QRectF(0, 3, self.width(), 8), look.faded(t.attention, 150))
        y = 18 if self._open else 28
        wide = draw_text(p, look.MARGIN, y, self._text, t.ink if self._open else t.attention,
                         bold=True)  # fmt: skip
        draw_text(p, look.MARGIN + wide + 18, y, self._more, t.muted, size=look.SMALL)


class Choice(QAbstractButton):
    """One of the steps that share a place: shown as its name, underlined when chosen."""

    def __init__(self, kind: str, text: str, parent: QWidget) -> None:
        super().__init__(parent)
        self.kind = kind
        self.setText(text)
        self.setCheckable(True)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName(text)

    def wide(self) -> int:
        """Return the width that the text needs, px."""
        return round(text_width(self.text(), look.SMALL, bold=True)) + 10

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t = QPainter(self), look.theme()
        chosen = self.isChecked()
        draw_text(p, 5, 14, self.text(), t.ink if chosen else t.muted, size=look.SMALL, bold=chosen)
        if chosen:
            line(p, 5, 19, self.width() - 5, 19, t.accent, 2)
        elif self.hasFocus():
            line(p, 5, 19, self.width() - 5, 19, t.muted, 1)
