"""The middle of the Machine stage before there is an operating map: what is measured, in order."""

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from oarlock.ui.kit import theme as look
from oarlock.ui.kit.paint import draw_text, elided, line
from oarlock.views.machine_begun import Begun, Coming

_ROW, _LEAST, _TOP = 30, 20, 62


class ComingTable(QWidget):
    """One line for each measurement: what it asks, what it finds, how far it moves."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self._shown: Begun | None = None

    def show_begun(self, shown: Begun) -> None:
        """Show what comes."""
        if shown != self._shown:
            self._shown = shown
            told = "; ".join(f"{row.what}: {row.finds}" for row in shown.coming)
            self.setAccessibleName(f"What is measured, in order. {told}")
            self.update()

    def _row_height(self) -> float:
        """Return the height of a row, px: all of them fit a low window."""
        many = len(self._shown.coming) if self._shown else 1
        return min(_ROW, max((self.height() - _TOP - 2) // max(many, 1), _LEAST))

    def paintEvent(self, _event: QPaintEvent) -> None:
        shown = self._shown
        if shown is None:
            return
        p, t = QPainter(self), look.theme()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        w = self.width()
        columns = _columns(w)
        draw_text(p, 0, 20, "WHAT IS MEASURED, IN ORDER", t.muted, size=look.SMALL, bold=True)
        for name, x in zip(("", "finds", "shaft", "at most", "takes"), columns, strict=True):
            right = name in ("at most", "takes")
            draw_text(p, x, 48, name, t.muted, size=look.SMALL, align="right" if right else "left")
        line(p, 0, 54, w, 54, t.rule)
        first = next((n for n, row in enumerate(shown.coming) if not row.done), -1)
        for n, row in enumerate(shown.coming):
            self._paint_row(p, row, _TOP + n * self._row_height(), columns,
                            shown.waits if n == first else "", first=n == first)  # fmt: skip

    def _paint_row(
        self, p: QPainter, row: Coming, top: float, columns: tuple[float, ...], waits: str, *,
        first: bool,
    ) -> None:  # fmt: skip
        t, y = look.theme(), top + 0.5 * self._row_height() + 4.0
        p.setPen(QPen(t.accent if row.done else t.ink, 1.4,
                      Qt.PenStyle.SolidLine if row.done else Qt.PenStyle.DotLine))  # fmt: skip
        p.setBrush(t.accent if row.done else Qt.BrushStyle.NoBrush)
        p.drawEllipse(QPointF(5.0, y - 4.5), 4.0, 4.0)
        ink = t.ink if first or row.done else t.muted
        draw_text(p, 18, y, row.what, ink, bold=first)
        finds = waits or row.finds
        room = columns[2] - columns[1] - 10.0
        draw_text(p, columns[1], y, elided(finds, room), t.attention if waits else ink)
        draw_text(p, columns[2], y, elided(row.moves, columns[3] - columns[2] - 56.0), ink)
        draw_text(p, columns[3], y, row.current, ink, align="right")
        draw_text(p, columns[4], y, row.seconds, ink, align="right")
        bottom = top + self._row_height() - 1
        line(p, 0, bottom, self.width(), bottom, t.rule)


def _columns(width: float) -> tuple[float, ...]:
    """Return where each column begins, or ends where it is set to the right, px."""
    return 0.0, 0.27 * width, 0.60 * width, width - 74.0, width - 4.0
