"""A plot that hangs under its own part of the strip, with the handle of a loop in it."""

import math

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPolygonF

from oarlock.ui.kit import theme as look
from oarlock.ui.kit.paint import draw_text, hatch, line
from oarlock.ui.kit.plot import Plot

_GRAB = 12  # px
_DIGITS = (1, 2, 5)


class FrequencyPlot(Plot):
    """Frequencies at the same pixels per decade as on the strip; the crossover can be dragged."""

    dragged = Signal(float)  # Hz
    released = Signal()
    filter_dragged = Signal(int, float)  # number, Hz
    filter_released = Signal()

    def __init__(self, name: str, *, bottom: int, low: float, high: float, left: int = 48) -> None:
        super().__init__(left=left, right=0, top=0, bottom=bottom, name=name)
        self._crossover = self._nyquist = math.nan  # Hz
        self._verified = False
        self._dragging = False
        self._filters: tuple[float, ...] = ()  # Hz, of what can be dragged beside the handle
        self._filter: int | None = None  # that is dragged
        ticks = []
        for exponent in range(5):
            for digit in _DIGITS:
                hertz = digit * 10.0**exponent
                if low <= hertz <= high:
                    text = f"{hertz / 1000:g}k" if hertz >= 1000 else f"{hertz:g}"
                    ticks.append((math.log10(hertz), text))
        self.set_x(math.log10(low), math.log10(high), ticks)

    def place(self, crossover: float, nyquist: float, *, verified: bool) -> None:
        """Say where handle and half the sampling lie; the latter stands in the frame's picture."""
        if nyquist != self._nyquist:
            self.remake_frame()
        self._crossover, self._nyquist, self._verified = crossover, nyquist, verified

    def place_filters(self, hertz: tuple[float, ...]) -> None:
        """Say where the loop's filters lie, by their numbers."""
        self._filters = hertz

    def paint_filters(self, p: QPainter) -> None:
        """Draw the filters' handles along the lower edge."""
        t, y = look.theme(), self.area.bottom() - 8.0
        for hertz in self._filters:
            x = self.at(hertz)
            if self.area.left() < x < self.area.right():
                line(p, x, y - 22, x, y - 7, t.accent, 1, Qt.PenStyle.DotLine)
                p.setPen(Qt.PenStyle.NoPen)
                p.setBrush(t.accent)
                p.drawPolygon(QPolygonF([QPointF(x - 7, y - 6), QPointF(x + 7, y - 6),
                                         QPointF(x, y + 6)]))  # fmt: skip

    def at(self, hertz: float) -> float:
        """Return the viewport position of a frequency."""
        return self.px(math.log10(max(hertz, 1e-3)))

    def paint_nyquist(self, p: QPainter) -> None:
        """Hatch what lies beyond half the sampling."""
        if not math.isfinite(self._nyquist):
            return
        t, x = look.theme(), self.at(self._nyquist)
        area = QRectF(x, self.area.top(), self.area.right() - x, self.area.height())
        hatch(p, area, look.faded(t.muted, 60))
        line(p, x, self.area.top(), x, self.area.bottom(), t.ink)

    def paint_handle_line(self, p: QPainter) -> None:
        """Draw the handle's line over the whole height."""
        x = self.at(self._crossover)
        line(p, x, 0, x, self.area.bottom(), look.theme().accent, 2)

    def paint_bands(self, p: QPainter) -> None:
        """Paint the bands of guidance, where a phase is read: good, brisk, risky."""
        t, right = look.theme(), self.at(self._nyquist)
        for low, alpha in ((60, 18), (45, 32), (30, 48)):
            top = self.py(-180.0 + low)
            bottom = self.py(-180.0 + {60: 45, 45: 30, 30: 0}[low])
            rect = QRectF(self.area.left(), top, right - self.area.left(), bottom - top)
            p.fillRect(rect, look.faded(t.attention, alpha))
        self.paint_nyquist(p)
        line(p, self.area.left(), self.py(-180), self.area.right(), self.py(-180), t.ink)

    def paint_band_names(self, p: QPainter) -> None:
        """Write what the bands of guidance are."""
        t, right = look.theme(), self.at(self._nyquist)
        for low, word in ((60, "60° good"), (45, "45° brisk"), (30, "30° risky")):
            draw_text(p, right - 7, self.py(-180.0 + low) + 14, word, t.attention,
                      size=look.SMALL, align="right")  # fmt: skip

    def _near(self, event: QMouseEvent) -> bool:
        return abs(event.position().x() - self.at(self._crossover)) < _GRAB

    def _filter_at(self, event: QMouseEvent) -> int | None:
        """Return the number of the filter whose handle is under the mouse."""
        if event.position().y() < self.area.bottom() - 26.0:
            return None
        near = [n for n, hertz in enumerate(self._filters)
                if abs(event.position().x() - self.at(hertz)) < _GRAB]  # fmt: skip
        return near[0] if near else None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._filter = self._filter_at(event)
        self._dragging = self._filter is not None or self._near(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._dragging:
            hertz = 10.0 ** self.x_at(event.position().x())
            if self._filter is None:
                self.dragged.emit(hertz)
            else:
                self.filter_dragged.emit(self._filter, hertz)
            return
        near = self._near(event) or self._filter_at(event) is not None
        self.setCursor(Qt.CursorShape.SizeHorCursor if near else Qt.CursorShape.ArrowCursor)

    def mouseReleaseEvent(self, _event: QMouseEvent) -> None:
        if self._dragging:
            self._dragging = False
            if self._filter is None:
                self.released.emit()
            else:
                self.filter_released.emit()
