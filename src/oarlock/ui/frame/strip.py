"""The timescales strip: one logarithmic frequency axis for the whole design."""

import math

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QPolygonF,
    QResizeEvent,
)
from PySide6.QtWidgets import QSizePolicy, QWidget

from oarlock.ui.frame.loop_lane import paint_loops
from oarlock.ui.kit import theme as look
from oarlock.ui.kit.numbers import plain
from oarlock.ui.kit.paint import draw_text, hatch, line, text_width
from oarlock.ui.stages.base import ReadOut
from oarlock.views.strip import HIGH, LOW, Marker, Strip

_LEFT = look.RAIL + look.MARGIN
_LANES = {"loops": 40.0, "machine": 64.0, "drive": 86.0}
_AXIS = 103.0
_DECADES = math.log10(HIGH / LOW)
_GRAB = 14.0  # px around a handle


class TimescalesStrip(QWidget):
    """Paints a `Strip`; its handle can be dragged or moved with the arrow keys."""

    dragged = Signal(float)  # Hz, while the mouse moves
    released = Signal()
    nudged = Signal(float)  # ratio, from the keyboard
    rescaled = Signal()  # frequencies lie elsewhere now
    filter_dragged = Signal(int, float)  # number, Hz
    filter_released = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._strip: Strip | None = None
        self._read_out = ReadOut("", "", "")
        self._lane = "loops"
        self._line = False  # whether the handle's line runs on into the plots below
        self._dragging = False
        self._filter: int | None = None  # that is dragged, or chosen for the keys
        self._back: QPixmap | None = None
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)  # its back covers all of it
        self.setFixedHeight(look.STRIP)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAccessibleName("Timescales")
        self.setToolTip(
            "Every corner frequency of the design on one axis.\n"
            "Drag the handle of the loop on screen, or use ← → (1 %) and Shift (10 %).\n"
            "Its filters can be dragged too; ↑ ↓ choose one for the keys.\n"
            "Hatched: its margin would be below 30°.\n"
            "Rings, while you tune by hand: what the drive has, and what it would go back to.\n"
            "A dashed ring: the gains that the drive has saved, with which it would start again."
        )

    def sizeHint(self) -> QSize:
        return QSize(1280, look.STRIP)

    # What it shows

    def show_strip(self, strip: Strip, read_out: ReadOut, *, lane: str, line: bool) -> None:
        """Show a state; `lane` is set in bold, `line` carries the handle's line downwards."""
        old = self._strip
        self._strip = strip
        if old is None or (old.limits, old.end) != (strip.limits, strip.end) or lane != self._lane:
            self._back = None
        self._lane, self._line = lane, line
        self._tell(read_out)
        self.update()

    def show_read_out(self, read_out: ReadOut) -> None:
        """Show the large figure at the right end; nothing else is painted again."""
        if read_out != self._read_out:
            self._tell(read_out)
            self.update(self.width() - self._side, 0, self._side, self.height())

    def _tell(self, read_out: ReadOut) -> None:
        self._read_out = read_out
        handle = self._handle()
        loop = f"{plain(handle.label)}. " if handle else ""
        told = f"{read_out.caption}: {read_out.value} {read_out.unit}. {' '.join(read_out.lines)}"
        self.setAccessibleDescription(loop + told)

    # Geometry

    @property
    def _side(self) -> int:
        """Width of the read-out; a narrow window has none, the stage's answer says the same."""
        return look.NUMBERS if self.width() >= look.NARROW else 0

    @property
    def decade(self) -> float:
        """Pixels per decade."""
        return (self.width() - self._side - _LEFT - look.MARGIN) / _DECADES

    def x_of(self, hertz: float) -> float:
        """Return the position of a frequency, px from the window's left edge."""
        return _LEFT + self.decade * math.log10(max(hertz, 1e-3) / LOW)

    def hertz_at(self, x: float) -> float:
        """Return the frequency at a position."""
        return float(LOW * 10.0 ** ((x - _LEFT) / self.decade))

    def _handle(self) -> Marker | None:
        if self._strip is None:
            return None
        return next((m for m in self._strip.markers if m.handle), None)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.rescaled.emit()

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self._back is None or self._back.size() != self.size() * self.devicePixelRatio():
            self._back = self._paint_back()
        p.drawPixmap(0, 0, self._back)
        if self._strip is None:
            return
        self._paint_read_out(p)
        if event.rect().left() >= self.width() - self._side:
            return  # nothing but the read-out
        self._paint_warning(p, self._strip)
        paint_loops(p, self._strip, self.x_of, _LANES["loops"], self.height() * self._line)
        self._paint_markers(p, self._strip)
        if self.hasFocus():
            p.setPen(QPen(look.theme().accent, 1, Qt.PenStyle.DotLine))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawRect(QRectF(3.5, 3.5, self.width() - self._side - 8, self.height() - 8))

    def _paint_back(self) -> QPixmap:
        ratio, t = self.devicePixelRatio(), look.theme()
        pixmap = QPixmap(self.size() * ratio)
        pixmap.setDevicePixelRatio(ratio)
        pixmap.fill(t.ground)
        p = QPainter(pixmap)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        draw_text(p, look.MARGIN, 19, "TIMESCALES", t.muted, size=look.SMALL, bold=True)
        for name, y in _LANES.items():
            bold = name == self._lane
            color = t.ink if bold else t.muted
            draw_text(p, 148, y + 4, name, color, size=look.BODY, bold=bold, align="right")
        right = self.x_of(HIGH)
        for y in (53, 75):
            line(p, 116, y, right, y, t.grid)
        for exponent in range(5):
            line(p, self.x_of(10.0**exponent), 8, self.x_of(10.0**exponent), _AXIS, t.rule)
        line(p, _LEFT, _AXIS, right, _AXIS, t.muted)
        self._paint_scale(p)
        if self._strip is not None:
            self._paint_limits(p, self._strip)
        if self._side:
            edge = self.width() - self._side
            line(p, edge, 8, edge, self.height() - 8, t.rule)
        line(p, 0, self.height() - 1, self.width(), self.height() - 1, t.rule)
        p.end()
        return pixmap

    def _paint_scale(self, p: QPainter) -> None:
        t = look.theme()
        for exponent in range(5):
            for digit in range(1, 10):
                hertz = digit * 10.0**exponent
                if hertz > HIGH:
                    break
                x = self.x_of(hertz)
                line(p, x, _AXIS, x, _AXIS + (5 if digit in (1, 2, 5) else 3), t.muted)
                if digit in (1, 2, 5):
                    label = f"{hertz / 1000:g}k" if hertz >= 1000 else f"{hertz:g}"
                    label = "1 Hz" if hertz == 1 else label
                    color = t.ink if digit == 1 else t.muted
                    draw_text(p, x, 118, label, color, size=look.SMALL, align="center")

    def _paint_limits(self, p: QPainter, strip: Strip) -> None:
        if strip.nyquist > HIGH:
            return  # the clock is not known, or faster than the strip shows
        t, right = look.theme(), self.x_of(HIGH)
        _, f45, f30 = strip.limits
        nyquist, end = self.x_of(strip.nyquist), self.x_of(strip.end)
        x45, x30 = self.x_of(f45), self.x_of(f30)
        p.fillRect(QRectF(x45, 11, x30 - x45, 40), look.faded(t.attention, 22))
        if end > x30:
            p.fillRect(QRectF(x30, 11, end - x30, 40), look.faded(t.attention, 34))
            hatch(p, QRectF(x30, 11, end - x30, 40), look.faded(t.attention, 90), crossed=True)
        hatch(p, QRectF(nyquist, 8, right - nyquist, _AXIS - 8), look.faded(t.muted, 60))
        line(p, nyquist, 8, nyquist, _AXIS, t.ink)

    def _paint_warning(self, p: QPainter, strip: Strip) -> None:
        """Say what the hatched band means, where the loops' labels leave room for it."""
        if strip.nyquist > HIGH:
            return
        t, text = look.theme(), "margin < 30°"
        low, right = self.x_of(strip.limits[2]) + 4.0, self.x_of(strip.end) - 3.0
        width = text_width(text, look.SMALL)
        if right - low < width:
            return  # the band is too narrow to be named
        taken = []
        for marker in strip.loops:
            half = 0.5 * text_width(marker.label, look.BODY) + 4.0
            taken.append((self.x_of(marker.hertz) - half, self.x_of(marker.hertz) + half))
        for x in (right - width, low):
            if all(x > b or x + width < a for a, b in taken):
                draw_text(p, x, 22, text, t.attention, size=look.SMALL, halo=t.ground)
                return

    def _paint_markers(self, p: QPainter, strip: Strip) -> None:
        t = look.theme()
        colors = {"pole_d": t.d, "pole_q": t.q}
        for lane in ("machine", "drive"):
            row = sorted((m for m in strip.markers if m.lane == lane), key=lambda m: m.hertz)
            y = _LANES[lane]
            for marker in row:
                x = self.x_of(marker.hertz)
                color = colors.get(marker.kind, t.ink)
                if marker.filter >= 0 and marker.filter == self._filter:
                    p.setPen(QPen(t.accent, 1.5))
                    p.setBrush(Qt.BrushStyle.NoBrush)
                    p.drawEllipse(QPointF(x, y), 10.0, 10.0)
                if marker.kind.startswith("pole"):
                    p.setPen(QPen(color, 1.5))
                    p.setBrush(color if marker.measured else Qt.BrushStyle.NoBrush)
                    p.drawRect(QRectF(x - 3, y - 5, 6, 10))
                elif marker.kind in ("dip", "peak"):
                    side = 1.0 if marker.kind == "dip" else -1.0
                    p.setPen(Qt.PenStyle.NoPen)
                    p.setBrush(t.accent)
                    p.drawPolygon(QPolygonF([QPointF(x - 6, y - 5 * side),
                                             QPointF(x + 6, y - 5 * side),
                                             QPointF(x, y + 6 * side)]))  # fmt: skip
                elif marker.kind == "notch":
                    p.setPen(QPen(t.accent, 1.5))
                    p.drawPolyline(QPolygonF([QPointF(x - 7, y - 4), QPointF(x - 3, y - 4),
                                              QPointF(x, y + 5), QPointF(x + 3, y - 4),
                                              QPointF(x + 7, y - 4)]))  # fmt: skip
                else:
                    line(p, x, y - 6, x, y + 6, color, 1)
            self._paint_labels(p, strip, row, y)

    def _paint_labels(self, p: QPainter, strip: Strip, row: list[Marker], y: float) -> None:
        """Write each marker's label beside it where there is room: right, else left, else not.

        What finds no room is told by the strip's tooltip. The handle's line takes no digit away:
        a label goes to its other side, or covers it.
        """
        t = look.theme()
        drawn = [self.x_of(m.hertz) for m in strip.loops if m.handle and self._line]
        taken = [(self.x_of(m.hertz) - 6.0, self.x_of(m.hertz) + 6.0) for m in row]
        for marker in row:
            x, width = self.x_of(marker.hertz), text_width(marker.label, look.SMALL)
            right, left = (x + 8.0, x + 8.0 + width), (x - 8.0 - width, x - 8.0)
            wanted = (left, right) if marker.kind == "dip" else (right, left)

            def crossed(place: tuple[float, float]) -> bool:
                return any(place[0] - 3.0 < at < place[1] + 3.0 for at in drawn)

            for place in sorted(wanted, key=crossed):
                inside = place[0] > _LEFT - 40.0 and place[1] < self.x_of(HIGH) + 4.0
                if inside and all(place[1] < a - 3.0 or place[0] > b + 3.0 for a, b in taken
                                  if (a, b) != (x - 6.0, x + 6.0)):  # fmt: skip
                    taken.append(place)
                    if crossed(place):
                        p.fillRect(QRectF(place[0] - 2, y - 8, width + 4, 16), t.ground)
                    draw_text(p, place[0], y + 4, marker.label, t.ink, size=look.SMALL,
                              halo=t.ground)  # fmt: skip
                    break

    def _paint_read_out(self, p: QPainter) -> None:
        t, out = look.theme(), self._read_out
        if not self._side:
            return
        x = self.width() - look.NUMBERS + look.MARGIN
        draw_text(p, x, 23, out.caption, t.muted, size=look.SMALL)
        width = draw_text(p, x, 52, out.value, t.ink, size=look.READ_OUT, bold=True)
        draw_text(p, x + width + 7, 52, out.unit, t.muted, size=look.NAME)
        for i, text in enumerate(out.lines[:3]):
            color = t.ink if i == 0 else t.muted
            draw_text(p, x, 73 + 18 * i, text, color, size=look.SMALL)

    # Input

    def _filters(self) -> list[Marker]:
        """Return the markers of filters that can be dragged, the lowest first."""
        markers = self._strip.markers if self._strip is not None else ()
        return sorted((m for m in markers if m.filter >= 0), key=lambda m: m.hertz)

    def _filter_at(self, position: QPointF) -> int | None:
        """Return the number of the filter under the mouse."""
        near = [m for m in self._filters() if abs(position.x() - self.x_of(m.hertz)) < 10.0
                and abs(position.y() - _LANES["drive"]) < 12.0]  # fmt: skip
        return near[0].filter if near else None

    def _near_handle(self, position: QPointF) -> bool:
        marker = self._handle()
        if marker is None:
            return False
        return abs(position.x() - self.x_of(marker.hertz)) < _GRAB and position.y() < _AXIS

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        self._filter = self._filter_at(event.position())
        self._dragging = self._filter is not None or self._near_handle(event.position())
        self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._dragging and self._filter is not None:
            self.filter_dragged.emit(self._filter, self.hertz_at(event.position().x()))
        elif self._dragging:
            self.dragged.emit(self.hertz_at(event.position().x()))
        else:
            at = event.position()
            near = self._near_handle(at) or self._filter_at(at) is not None
            self.setCursor(Qt.CursorShape.SizeHorCursor if near else Qt.CursorShape.ArrowCursor)

    def mouseReleaseEvent(self, _event: QMouseEvent) -> None:
        if self._dragging:
            self._dragging = False
            if self._filter is None:
                self.released.emit()
            else:
                self.filter_released.emit()

    def _choose(self, way: int) -> None:
        """Choose the handle or one of its filters for the keys."""
        order = [None, *(m.filter for m in self._filters())]
        at = order.index(self._filter) if self._filter in order else 0
        self._filter = order[(at + way) % len(order)]
        self.update()

    def _nudge(self, ratio: float) -> None:
        """Move what is chosen by a ratio."""
        chosen = next((m for m in self._filters() if m.filter == self._filter), None)
        if chosen is None:
            self.nudged.emit(ratio)
        else:
            self.filter_dragged.emit(chosen.filter, chosen.hertz * ratio)
            self.filter_released.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = 1.10 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.01
        if event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self._choose(1 if event.key() == Qt.Key.Key_Down else -1)
        elif event.key() == Qt.Key.Key_Right:
            self._nudge(step)
        elif event.key() == Qt.Key.Key_Left:
            self._nudge(1.0 / step)
        else:
            super().keyPressEvent(event)
