"""The file with its gains and cords, the proof in lanes, and which symbol is which."""

import math

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QFontMetricsF, QPainter, QPainterPath, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from oarlock.handover.patch import Change
from oarlock.handover.proof import Lane, Proof
from oarlock.quantities.display import digits, unit_symbol
from oarlock.ui.kit import theme as look
from oarlock.ui.kit.numbers import ROW, Entry, plain
from oarlock.ui.kit.paint import dot, draw_text, hatch, line
from oarlock.views.handover import HandoverPicture

_LINE = 16.0
_LEAST_LINE, _LEAST_GAIN = 14.0, 17.0  # px: below, the view scrolls
_ELIDE = Qt.TextElideMode.ElideRight


class FileView(QWidget):
    """The file's lines at the left, the gains at the right, cords between."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self._shown: HandoverPicture | None = None
        self.setAccessibleName("File as it is and as it will be")

    def show_file(self, shown: HandoverPicture) -> None:
        """Show a file."""
        self._shown = shown
        rows = dict(shown.labels) | {h.key: h.label for h in shown.handed}
        self.setMinimumHeight(
            round(max(34.0 + _LEAST_LINE * len(shown.lines), 66.0 + _LEAST_GAIN * len(rows)))
        )
        changes = shown.patch.changes if shown.patch else ()
        self.setAccessibleDescription(
            "; ".join(f"line {c.line} {c.symbol}: {c.before} becomes {c.after}" for c in changes)
        )
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t, shown = QPainter(self), look.theme(), self._shown
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        if shown is None or shown.patch is None or shown.path is None:
            draw_text(p, 0, 30, "No file is shown yet.", t.muted)
            return
        w = self.width()
        file_right, gain_left = round(0.43 * w), round(0.51 * w)
        draw_text(p, 24, 12, shown.path.name, t.ink, bold=True)
        draw_text(p, file_right - 118, 12, "as it is", t.muted, size=look.SMALL, align="right")
        draw_text(p, file_right - 8, 12, "as it will be", t.muted, size=look.SMALL, align="right")
        top = 22.0
        rows = shown.lines
        each = min(float(_LINE), (self.height() - top - 12.0) / max(len(rows), 1))
        p.fillRect(QRectF(0, top, file_right, each * len(rows) + 8), t.ground)
        ends: dict[str, float] = {}
        for i, row in enumerate(rows):
            y = top + 14 + each * i
            self._paint_line(p, row.number, row.text, y, file_right, changed=row.change)
            if row.change is not None:
                ends[row.change.key] = y - 4
        self._paint_gains(p, shown, ends, file_right, gain_left, top)

    def _paint_line(
        self, p: QPainter, number: int, text: str, y: float, right: float, *, changed: Change | None
    ) -> None:
        t = look.theme()
        mono = look.font(11, mono=True)
        metrics = QFontMetricsF(mono)
        p.setFont(mono)
        p.setPen(t.muted)
        p.drawText(QPointF(4, y), f"{number:3d}")
        change = changed
        if change is None:
            p.drawText(QPointF(32, y), metrics.elidedText(text, _ELIDE, right - 40))
            return
        p.setPen(t.ink)
        p.drawText(QPointF(32, y), change.symbol)
        before, after = change.before, change.after
        differs = before != after
        # Symbol and number may not meet: a long number loses its last digits here.
        left = right - 118 - 40 - metrics.horizontalAdvance(change.symbol)
        before = metrics.elidedText(before, _ELIDE, left)
        p.setPen(t.muted)
        p.drawText(QPointF(right - 118 - metrics.horizontalAdvance(before), y), before)
        if differs:
            p.fillRect(QRectF(right - 100, y - 12, 96, 15), t.wash)
            p.fillRect(QRectF(right - 100, y - 12, 3, 15), t.accent)
        p.setPen(t.ink if differs else t.muted)
        shown = metrics.elidedText(after, _ELIDE, 92) if differs else "stays"
        p.drawText(QPointF(right - 10 - metrics.horizontalAdvance(shown), y), shown)
        if differs:
            line(p, right - 114, y - 4, right - 104, y - 4, t.muted)

    def _paint_gains(
        self,
        p: QPainter,
        shown: HandoverPicture,
        ends: dict[str, float],
        left: float,
        gain: float,
        top: float,
    ) -> None:
        t, w = look.theme(), self.width()
        was, will, axis_left = gain + 130, gain + 214, w - 118.0
        draw_text(p, gain, 12, "gain", t.muted, size=look.SMALL)
        draw_text(p, was, 12, "was", t.muted, size=look.SMALL, align="right")
        draw_text(p, will, 12, "will be", t.muted, size=look.SMALL, align="right")
        by_key = {h.key: h for h in shown.handed}
        rows = dict(shown.labels) | {h.key: h.label for h in shown.handed}
        each = min(24.0, (self.height() - top - 44.0) / len(rows))
        wall = self._bead_axis(p, axis_left, top, 8 + each * len(rows))
        for i, (key, label) in enumerate(rows.items()):
            y = top + 18 + each * i
            handed = by_key.get(key)
            draw_text(p, gain, y, label, t.ink if handed else t.muted)
            if handed is None:
                draw_text(p, will, y, "no symbol", t.muted, align="right")
                continue
            scale, unit = (1e6, "µs") if handed.unit == "s" else (1.0, unit_symbol(handed.unit))
            draw_text(p, was, y, digits(scale * handed.was, 4), t.muted, align="right")
            draw_text(p, will, y, f"**{digits(scale * handed.will_be, 4)}**", t.ink, align="right")
            draw_text(p, will + 6, y, unit, t.muted, size=11)
            self._bead(p, axis_left, wall, y - 4, handed.lost)
            start = ends.get(key)
            if start is not None:
                path = QPainterPath(QPointF(left + 4, start))
                middle = 0.5 * (left + gain)
                path.cubicTo(middle, start, middle, y - 4, gain - 8, y - 4)
                p.setPen(QPen(t.accent, 1.4))
                p.setBrush(Qt.BrushStyle.NoBrush)
                p.drawPath(path)
                for x, at in ((left + 4, start), (gain - 8, y - 4)):
                    dot(p, x, at, t.accent, filled=True, radius=2)
        y = top + 26 + each * len(rows)
        draw_text(p, self.width() - 2, y + 8, "changed by rounding", t.muted, size=look.SMALL,
                  align="right")  # fmt: skip

    def _bead_axis(self, p: QPainter, left: float, top: float, height: float) -> float:
        t = look.theme()
        for exponent, label in ((-9, "ppb"), (-6, "ppm"), (-2, "1 %")):
            x = left + (exponent + 10) * 12.5
            line(p, x, top, x, top + height, t.rule)
            draw_text(p, x, 12, label, t.muted, size=look.SMALL, align="center")
        x = left + 8 * 12.5
        line(p, x, top, x, top + height, t.attention, 2)
        hatch(p, QRectF(x + 1, top, 12, height), look.faded(t.attention, 110))
        return x

    def _bead(self, p: QPainter, left: float, wall: float, y: float, lost: float) -> None:
        t = look.theme()
        if lost == 0.0:
            draw_text(p, left, y + 4, "exact", t.muted, size=look.SMALL)
            return
        x = min(left + (math.log10(max(lost, 1e-10)) + 10) * 12.5, wall)
        line(p, left, y, x, y, t.accent, 1)
        dot(p, x, y, t.accent, filled=True, radius=3)


_LANE, _LANES = 34.0, 50.0  # px: the height of a lane where there is room, and the first one's top


class ProofView(QWidget):
    """One lane for each axis: what the compiled controller put out, and how it compares."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self._proof: Proof | None = None
        self._text = ""

    def show_proof(self, proof: Proof | None, text: str) -> None:
        """Show a proof, or why there is none."""
        self._proof, self._text = proof, text
        self.setAccessibleName("Proof")
        self.setAccessibleDescription(proof.sentence if proof else text)
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t = QPainter(self), look.theme()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        line(p, 0, 0, self.width(), 0, t.rule)
        width = draw_text(p, 0, 22, "Proof", t.ink, size=look.NAME, bold=True)
        caption = "compiled C against the float32 model: outputs and integrator, bit by bit"
        draw_text(p, width + 10, 22, caption, t.muted, size=look.SMALL)
        if self._proof is None or self._proof.missing:
            text = self._proof.missing if self._proof else self._text
            area = QRectF(0, 36, self.width() - 16, 62)
            hatch(p, area, look.faded(t.attention, 70))
            draw_text(p, area.center().x(), area.center().y() + 5, text, t.attention,
                      align="center", halo=t.halo)  # fmt: skip
            return
        w = self.width()
        for x, title in (
            (w - 196, "samples"),
            (w - 138, "differ"),
            (w - 84, "worst"),
            (w - 16, "limited"),
        ):
            draw_text(p, x, 44, title, t.muted, size=look.SMALL, align="right")
        for lane, area in zip(self._proof.lanes, self.lane_areas(), strict=True):
            self._paint_lane(p, lane, area)

    def lane_areas(self) -> list[QRectF]:
        """Return where each lane's output is drawn: all of them have room."""
        many = len(self._proof.lanes) if self._proof else 0
        pitch = min(_LANE, (self.height() - _LANES) / max(many, 1))
        return [QRectF(72, _LANES + pitch * i, self.width() - 72 - 262, pitch - 5)
                for i in range(many)]  # fmt: skip

    def _paint_lane(self, p: QPainter, lane: Lane, area: QRectF) -> None:
        t, w, y = look.theme(), self.width(), area.center().y() + 5
        color = {"d": t.d, "q": t.q}.get(lane.axis_name, t.torque)
        draw_text(p, 0, y, lane.title, t.ink)
        p.fillRect(area, t.ground)
        most = float(abs(lane.output).max()) or 1.0
        count = max(int(area.width()), 1)
        step = max(lane.samples // count, 1)
        p.setPen(QPen(look.faded(color, 150), 1))
        for i in range(min(count, lane.samples // step)):
            part = lane.output[i * step : (i + 1) * step]
            x = area.left() + i
            middle, half = area.center().y(), 0.48 * area.height()
            low, high = float(part.min()) / most, float(part.max()) / most
            top, bottom = (
                middle - half * high - 0.5,
                middle - half * low + 0.5,
            )  # never without height
            p.drawLine(QPointF(x, top), QPointF(x, bottom))
        bad = lane.differ > 0
        draw_text(p, w - 196, y, f"{lane.samples}", t.ink, align="right")
        draw_text(p, w - 138, y, f"**{lane.differ}**", t.attention if bad else t.ink, align="right")
        draw_text(p, w - 84, y, f"{lane.worst:.3g} {lane.unit}", t.muted, align="right")
        draw_text(p, w - 16, y, f"{lane.saturated}", t.muted, align="right")


class SymbolRow(QWidget):
    """A gain and the name that it has in the file."""

    def __init__(self, label: str) -> None:
        super().__init__()
        self._label = label
        self.setFixedHeight(ROW + 2)
        self.entry = Entry(f"Symbol of {plain(label)}", self)
        self.entry.setFont(look.font(11, mono=True))
        self.entry.setGeometry(92, 1, 124, ROW)
        t = look.theme()
        self.entry.setStyleSheet(
            f"QLineEdit {{ background: {t.panel.name()}; border: 1px solid {t.rule.name()}; }}"
            f"QLineEdit:focus {{ border: 1px solid {t.accent.name()}; }}"
        )

    def paintEvent(self, _event: QPaintEvent) -> None:
        draw_text(QPainter(self), 0, 16, self._label, look.theme().ink)
