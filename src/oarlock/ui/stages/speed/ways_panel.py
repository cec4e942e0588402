"""Ways round the shaft's resonance side by side; a press takes one."""

from collections.abc import Callable
from functools import partial

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent, QPolygonF, QResizeEvent
from PySide6.QtWidgets import QAbstractButton, QWidget

from oarlock.control.speed_ways import Way
from oarlock.session.jobs import Done, Failed, Jobs, Stopped
from oarlock.ui.kit import theme as look
from oarlock.ui.kit.paint import draw_text, line
from oarlock.ui.kit.plotted import stroke
from oarlock.views.speed_ways import Card, Question, ways

_HEAD, _GAP, _MOST = 24, 6, 3


class WayCard(QAbstractButton):
    """One way: its answer to the load in small, and its numbers."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self._card: Card | None = None
        self._deepest = 1.0
        self._used = False
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)

    def show_card(self, card: Card, deepest: float, *, used: bool) -> None:
        """Show a way; `deepest` (rad/s) is the scale that all cards share."""
        old, before = self._card, (self._deepest, self._used)
        self._card, self._deepest, self._used = card, deepest, used
        if old and (old.way, old.dip) == (card.way, card.dip) and before == (deepest, used):
            return  # a loop that is dragged leaves the ways as they are
        self.setEnabled(card.may_use)
        tip = "Use this way" if card.may_use else "What a new coupling would bring"
        self.setToolTip(tip)
        self.setAccessibleName(
            f"{card.title} {card.hint}: {card.dip}, {card.margins}, {card.bears}"
        )
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t, card = QPainter(self), look.theme(), self._card
        if card is None:
            return
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        h = self.height()
        if self._used:
            p.fillRect(self.rect(), t.wash)
            p.fillRect(QRectF(0, 0, 3, h), t.accent)
        line(p, 0, h - 0.5, self.width(), h - 0.5, t.rule)
        self._paint_curve(p, card)
        x = 84
        width = draw_text(p, x, 14, f"**{card.title}**", t.ink)
        draw_text(p, x + width + 6, 14, card.hint, t.muted, size=look.SMALL)  # fmt: skip
        color = t.muted if card.may_use else t.attention
        rows = [(f"**{card.dip}**", t.ink, look.BODY), (card.margins, t.ink, look.SMALL),
                (card.bears, color, look.SMALL)]  # fmt: skip
        room = int((h - 16) // 14)  # a low window shows what matters most
        shown = rows if room >= 3 else [rows[0], rows[2]][: max(room, 1)]
        for n, (text, ink, size) in enumerate(shown, 1):
            draw_text(p, x, 13 + 14 * n, text, ink, size=size)
        if self.hasFocus():
            p.setPen(stroke(t.accent, 1, Qt.PenStyle.DotLine))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawRect(QRectF(0.5, 0.5, self.width() - 1, h - 2))

    def _paint_curve(self, p: QPainter, card: Card) -> None:
        t, h = look.theme(), self.height()
        left, top, wide, high = 8.0, 10.0, 66.0, h - 22.0
        line(p, left, top, left + wide, top, t.ink, 1, Qt.PenStyle.DashLine)
        if card.t.size < 2:
            return
        pick = np.linspace(0, card.t.size - 1, 90).astype(int)
        span = float(card.t[-1])
        points = [
            QPointF(left + wide * float(card.t[i]) / span,
                    top + high * min(-float(card.sag[i]) / self._deepest, 1.0))
            for i in pick
        ]  # fmt: skip
        p.setPen(stroke(t.speed if card.may_use else t.muted, 1.5))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.drawPolyline(QPolygonF(points))


class WaysPanel(QWidget):
    """Works the ways out in a job whenever the question changes, and shows them."""

    chosen = Signal(object)  # Way
    found = Signal()

    def __init__(self, parent: QWidget, jobs: Jobs) -> None:
        super().__init__(parent)
        self._jobs = jobs
        self._asked: Question | None = None
        self._working: Question | None = None
        self.ways: tuple[Way, ...] = ()
        self.cards = [WayCard(self) for _ in range(_MOST)]
        self._title = ""
        for n, card in enumerate(self.cards):
            card.clicked.connect(partial(self._pressed, n))
            card.hide()

    def _pressed(self, number: int) -> None:
        if number < len(self.ways):
            self.chosen.emit(self.ways[number])

    @property
    def working(self) -> bool:
        """Whether the ways are still being worked out."""
        return self._working is not None

    def ask(self, asked: Question | None) -> None:
        """Have the ways worked out for a question, unless they stand already."""
        if asked is None:
            self.ways, self._asked = (), None
            return
        if asked in (self._asked, self._working) or self._working is not None:
            return
        self._working = asked
        self._jobs.start(
            lambda _p, cancel: ways(asked, cancel.check), on_end=self._ended, name="ways"
        )

    def _ended(self, outcome: "Done[tuple[Way, ...]] | Stopped | Failed") -> None:
        asked, self._working = self._working, None
        if isinstance(outcome, Stopped):  # the window closes
            return
        self._asked = asked
        self.ways = outcome.value if isinstance(outcome, Done) else ()
        self.found.emit()

    def show_cards(
        self, cards: tuple[Card, ...], hertz: float, used: Callable[[Way], bool]
    ) -> None:
        """Show the ways that were found."""
        before = self._title
        self._title = f"Ways round {hertz:.0f} Hz" if cards else ""
        if self.working and not cards:
            self._title = "Looking for ways round the resonance"
        deepest = max((float(-card.sag.min()) for card in cards[:1]), default=1.0) * 2.5
        for n, widget in enumerate(self.cards):
            widget.setVisible(n < len(cards))
            if n < len(cards):
                widget.show_card(cards[n], deepest, used=used(cards[n].way))
        if self._title != before:  # else the cards would be painted again with it
            self.update()

    def resizeEvent(self, _event: QResizeEvent) -> None:
        each = (self.height() - _HEAD) // _MOST
        for n, card in enumerate(self.cards):
            card.setGeometry(0, _HEAD + n * each, self.width(), each - _GAP)

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t = QPainter(self), look.theme()
        draw_text(p, 0, 15, f"**{self._title}**", t.ink)
        if self.cards[0].isVisible():
            draw_text(p, self.width(), 15, "dip, recovery", t.muted, size=look.SMALL,
                      align="right")  # fmt: skip
