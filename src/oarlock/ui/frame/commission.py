"""The commissioning panel: what is missing, what it will move, how far it is, what it proposes."""

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF, QResizeEvent
from PySide6.QtWidgets import QLabel, QWidget

from oarlock.control.speed_gains import AIMS
from oarlock.machine.speed_loop import KEY as SPEED
from oarlock.machine.speed_loop import SpeedTarget
from oarlock.session.bench import Bench
from oarlock.session.commission_parts import Part
from oarlock.session.commissioning import Commissioning
from oarlock.ui.kit import theme as look
from oarlock.ui.kit import units
from oarlock.ui.kit.buttons import button
from oarlock.ui.kit.paint import Mark, draw_text, elided, line, mark
from oarlock.views.commission import Change, Transient, figures, load_steps, numbers
from oarlock.views.speed_asked import aim_of

_TOP, _FOOT, _ROW = 96, 64, 22  # px
_QUESTION = "What is missing, and what will it move?"


class CommissionPanel(QWidget):
    """Lies over the stage; closes without losing anything that was measured."""

    def __init__(self, bench: Bench, parent: QWidget) -> None:
        super().__init__(parent)
        self._bench = bench
        self.work: Commissioning = bench.commissioning
        self.setAccessibleName("Commissioning")
        self.start = button("Start", primary=True)
        self.close_button = button("Leave")
        self.aims = {name: button(name) for name in AIMS}
        for one in (self.start, self.close_button, *self.aims.values()):
            one.setParent(self)
        for name, one in self.aims.items():
            one.setCheckable(True)
            one.setToolTip("How hard the speed loop is tuned: by its margin")
            one.clicked.connect(lambda _on, n=name: self.work.aim(n))
        self.note = QLabel(self)
        self.note.setFont(look.font(look.BODY))
        self.note.setWordWrap(True)
        self.start.clicked.connect(self.press)
        self.close_button.clicked.connect(self.leave)
        self._numbers: tuple[Change, ...] = ()
        self._figures: tuple[Change, ...] = ()
        self._steps: tuple[Transient | None, Transient | None] = (None, None)
        self.answer = ""

    def open(self) -> None:
        """Look at what is missing and show it; one that is under way or waits is shown as it is."""
        if not self.work.parts or (self.work.is_stale and self.work.running is None):
            self.work.begin()
        self.show()
        self.raise_()
        self.start.setFocus()
        self.refresh()

    def leave(self) -> None:
        """Stop what runs; else close, and forget a proposal that was not taken."""
        if self.work.running is not None:
            self._bench.stop()
            return
        self.work.leave()
        self.hide()

    def press(self) -> None:
        """Start, go on, or take the proposal."""
        if self.work.is_complete:
            self.work.take()
            if not self.work.parts:
                self.hide()
        else:
            self.work.go_on()
        self.refresh()

    # What it shows

    def refresh(self) -> None:
        """Show how far it is."""
        if not self.isVisible():
            return
        work = self.work
        work.look_again()
        running, complete = work.running is not None, work.is_complete
        begun = bool(work.done) or running
        self.answer = self._answer()
        self.setAccessibleDescription(self.answer)
        self.start.setVisible(not running)
        self.start.setText("Take all of it" if complete else "Go on" if begun else "Start")
        self.start.setEnabled(complete or self._bench.connected)
        self.close_button.setText("Stop" if running else "Leave")
        target = work.candidate.loops[SPEED].target if work.candidate is not None else None
        aim = aim_of(target) if isinstance(target, SpeedTarget) else "even"
        for name, one in self.aims.items():
            one.setChecked(name == aim)
            one.setVisible(not begun)
        self._say_note(running=running, complete=complete)
        if complete and work.before is not None and work.candidate is not None:
            self._numbers = numbers(work.before, work.candidate)
            self._figures = figures(work.before, work.candidate)
            self._steps = load_steps(work.before, work.candidate)
        else:
            self._numbers, self._figures, self._steps = (), (), (None, None)
        self.update()

    def _say_note(self, *, running: bool, complete: bool) -> None:
        work, t = self.work, look.theme()
        text, calm = "Gains that stand are kept until you take these.", True
        if work.asks is not None and work.next is not None:
            asks = units.told(work.asks.sentence)
            text = f"{work.next.title} would move more than was said: {asks}. Go on?"
            calm = False
        elif work.said:
            text, calm = f"{units.told(work.said)}. Go on tries it again.", False
        elif complete:
            text = "Everything holds. What stands in the axis changes when you take it."
        elif running:
            text = "Esc stops at once; what was measured is kept."
        elif not self._bench.connected:
            text, calm = "No drive is connected. Connect one in the top bar.", False
        self.note.setText(text)
        self.note.setStyleSheet(f"color: {(t.ink if calm else t.attention).name()}")

    def _answer(self) -> str:
        work = self.work
        many, done = len(work.parts), len(work.done)
        if work.running is not None:
            return f"{work.running.title}, {done + 1} of {many}"
        if work.is_complete:
            return f"All {many} hold: this is what it proposes"
        if work.next is not None and done:
            return f"It waits at {work.next.title}, {done + 1} of {many}"
        return f"{many} parts: {units.told(work.total.sentence)}"

    # Geometry and painting

    @property
    def _pitch(self) -> float:
        room = self.height() - _TOP - _FOOT
        return min(float(_ROW), room / max(len(self.work.parts), 1))

    def resizeEvent(self, _event: QResizeEvent) -> None:
        y = self.height() - 44
        self.start.setGeometry(look.MARGIN, y, 130, 30)
        self.close_button.setGeometry(look.MARGIN + 140, y, 90, 30)
        self.note.setGeometry(look.MARGIN + 250, y - 6, self.width() - look.MARGIN - 266, 42)
        x = self.width() - 236
        for one in self.aims.values():
            one.setGeometry(x, 14, 70, 28)
            x += 76

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t = QPainter(self), look.theme()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.fillRect(self.rect(), t.panel)
        line(p, 0, 0, 0, self.height(), t.rule)
        draw_text(p, look.MARGIN, 24, _QUESTION, t.muted)
        draw_text(p, look.MARGIN, 50, self.answer, t.ink, size=look.ANSWER, bold=True)
        columns = (look.MARGIN + 30, look.MARGIN + 250, look.MARGIN + 540)
        names = ("part",) if self.work.is_complete else ("part", "may move at most", "came to")
        for x, name in zip(columns, names, strict=False):
            draw_text(p, x, _TOP - 14, name, t.muted, size=look.SMALL)
        line(p, look.MARGIN, _TOP - 7, self.width() - look.MARGIN, _TOP - 7, t.rule)
        for n, part in enumerate(self.work.parts):
            self._paint_part(p, part, _TOP + self._pitch * (n + 0.5), columns)
        if self.work.is_complete:
            self._paint_proposal(p, float(columns[1]))

    def _paint_part(self, p: QPainter, part: Part, y: float, columns: tuple[int, int, int]) -> None:
        t, work = look.theme(), self.work
        done, runs = part in work.done, part == work.running
        failed = part == work.next and bool(work.said or work.asks) and not runs
        which = Mark.VALID if done else Mark.ATTENTION if failed else Mark.EMPTY
        if runs:
            p.fillRect(QRectF(look.MARGIN, y - 0.5 * self._pitch, self.width() - 32, self._pitch),
                       t.wash)  # fmt: skip
        mark(p, look.MARGIN + 12, y, which)
        ink = t.ink if done or runs or failed else t.muted
        draw_text(p, columns[0], y + 5, part.title, ink, bold=runs)
        if work.is_complete:
            return
        moves = units.told(work.bounds[part].sentence)
        draw_text(p, columns[1], y + 5, moves, t.muted, size=look.SMALL)
        came = elided("running" if runs else work.came.get(part, ""),
                       self.width() - columns[2] - 20, look.SMALL)  # fmt: skip
        draw_text(p, columns[2], y + 5, came, t.attention if failed else t.ink, size=look.SMALL)

    def _paint_proposal(self, p: QPainter, left: float) -> None:
        """Draw what would change, what the loops would do, one load step before and after."""
        room = self.width() - look.MARGIN - left
        wide = 0.5 * room - 12.0
        self._paint_changes(p, self._numbers, left, wide, "it proposes")
        right = left + 0.5 * room + 12.0
        end = self._paint_changes(p, self._figures, right, wide, "which means")
        bottom = float(self.height() - _FOOT)
        self._paint_steps(p, QRectF(right, end + 12.0, wide, bottom - end - 16.0))

    def _paint_changes(
        self, p: QPainter, rows: tuple[Change, ...], left: float, wide: float, title: str
    ) -> float:
        """Draw numbers as they stand and as they would be; return where they end, px."""
        t = look.theme()
        old_x, new_x = left + 0.58 * wide, left + 0.8 * wide
        draw_text(p, left, _TOP - 14, title, t.muted, size=look.SMALL)
        draw_text(p, old_x, _TOP - 14, "stands", t.muted, size=look.SMALL, align="right")
        draw_text(p, new_x, _TOP - 14, "would be", t.muted, size=look.SMALL, align="right")
        pitch = min(self._pitch, (self.height() - _TOP - _FOOT) / max(len(rows), 1))
        for n, one in enumerate(rows):
            y = _TOP + pitch * (n + 0.5) + 5.0
            draw_text(p, left, y, one.name, t.ink)
            (old, _), (new, unit) = units.pair(one.old, one.unit), units.pair(one.new, one.unit)
            draw_text(p, old_x, y, old, t.muted, align="right")
            draw_text(p, new_x, y, f"**{new}**", t.ink, align="right")
            draw_text(p, new_x + 6, y, unit, t.muted, size=look.SMALL)
        return _TOP + pitch * len(rows)

    def _paint_steps(self, p: QPainter, area: QRectF) -> None:
        old, new = self._steps
        if new is None or area.height() < 40.0:
            return
        t = look.theme()
        deepest = max(float(-one.sag.min()) for one in (old, new) if one is not None)
        span = float(new.t[-1])
        draw_text(p, area.left(), area.top() + 12, "speed under the same load", t.muted,
                  size=look.SMALL)  # fmt: skip
        zero = area.top() + 22.0
        high = area.bottom() - zero - 4.0
        line(p, area.left(), zero, area.right(), zero, t.ink, 1, Qt.PenStyle.DashLine)
        for one, color, label in ((old, t.muted, "before"), (new, t.speed, "after")):
            if one is None:
                continue
            keep = one.t <= span
            points = [QPointF(area.left() + area.width() * float(x) / span,
                              zero - high * float(y) / deepest)
                      for x, y in zip(one.t[keep], one.sag[keep], strict=True)]  # fmt: skip
            p.setPen(QPen(color, 1.8))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawPolyline(QPolygonF(points))
            low = max(points, key=lambda q: q.y())
            dip = units.told(f"{label} {-one.sag.min():.0f} rpm")
            draw_text(p, low.x() + 6, low.y(), dip, color, size=look.SMALL, halo=t.halo)
