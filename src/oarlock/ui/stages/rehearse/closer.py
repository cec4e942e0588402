"""Beside the plots: the vectors at the cursor, and a few periods of the bridge there."""

import cmath
import math
from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, QRect, QRectF, Qt, QTimer
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget
from shiboken6 import isValid

from oarlock.cancel import Cancel
from oarlock.errors import OarlockError
from oarlock.quantities.display import digits
from oarlock.rehearse.lens import Lens, look_closer
from oarlock.session.jobs import Done, Failed, Jobs, Stopped
from oarlock.ui.kit import theme as look
from oarlock.ui.kit.buttons import small_button
from oarlock.ui.kit.paint import draw_text, elided
from oarlock.ui.kit.plot import Plot, linear_ticks
from oarlock.views.rehearsal import RehearsePicture
from oarlock.views.vectors import Vectors, vectors_at

WIDTH = 262  # px
_LEAST = 120  # px of height for one of the two
_REST = 150  # ms that the cursor rests before the bridge is looked at
_FRAME, _WHOLE = 40, 12.0  # ms between pictures, s for the range that is played
_PERIODS = 4
_LATER = "looks closer once the cursor rests"
_FLAT = 0.02  # A: less is shown no larger
_GATE = 13  # px for each leg


class VectorView(QWidget):
    """Voltage in the bus's hexagon, current and flux, seen from the stator."""

    def __init__(self) -> None:
        super().__init__()
        self.shown: Vectors | None = None

    def show_vectors(self, shown: Vectors) -> None:
        """Show what turns at the cursor."""
        self.shown = shown
        self.setAccessibleName("Vectors: " + ", ".join(text for text, _, _ in self._arrows(shown)))
        self.update()

    def _arrows(self, v: Vectors) -> list[tuple[str, complex, QColor]]:
        """Return (what it is, share of the circle, colour) of each."""
        t = look.theme()
        largest = max(1.25 * abs(v.flux), 1e-9)
        return [
            (f"ψ {1e3 * abs(v.flux):.3g} mWb", v.flux / largest, t.torque),
            (f"i {digits(abs(v.amperes), 3)} A", v.amperes / v.limit, t.ink),
            (f"u {digits(abs(v.volts), 3)} V", v.volts / v.v_max, t.accent),
        ]

    def paintEvent(self, _event: QPaintEvent) -> None:
        if self.shown is None:
            return
        v, t = self.shown, look.theme()
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        draw_text(p, 0, 13, f"At {v.at:.3g} s", t.ink, size=look.SMALL, bold=True)
        draw_text(p, self.width() - 4, self.height() - 4, f"bus {digits(v.bus, 3)} V", t.attention,
                  size=look.SMALL, align="right")  # fmt: skip
        middle = QPointF(0.5 * self.width(), 0.5 * (self.height() + 14))
        reach = 0.5 * min(self.width() - 60.0, self.height() - 34.0)  # of the hexagon's corners
        circle = reach * math.sqrt(3.0) / 2.0
        corners = [middle + _point(cmath.rect(reach, n * math.tau / 6)) for n in range(6)]
        p.setPen(QPen(t.attention, 1.5))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.drawPolygon(QPolygonF(corners))
        p.setPen(QPen(t.rule, 1.0, Qt.PenStyle.DashLine))
        p.drawEllipse(middle, circle, circle)
        turned = cmath.rect(circle, v.theta)
        names = {"d": (turned, t.d), "q": (1j * turned, t.q)}
        for name, (direction, color) in names.items():
            p.setPen(QPen(t.muted, 1.0, Qt.PenStyle.DashLine))
            p.drawLine(middle - _point(direction), middle + _point(direction))
            at = middle + _point(1.12 * direction)
            draw_text(p, at.x(), at.y() + 4, name, color, size=look.SMALL, bold=True,
                      align="center")  # fmt: skip
        taken = [1.12 * direction for direction, _ in names.values()]
        for (text, share, color), y in zip(self._arrows(v), (self.height() - 4, 48, 32),
                                           strict=True):  # fmt: skip
            self._paint_arrow(p, middle, share * turned, color, text[0], taken)
            draw_text(p, 0, y, text, color, size=look.SMALL, bold=True)

    def _paint_arrow(
        self, p: QPainter, middle: QPointF, vector: complex, color: QColor, name: str,
        taken: list[complex],
    ) -> None:  # fmt: skip
        """Draw one arrow, with its sign beside the tip where there is room."""
        tip = middle + _point(vector)
        p.setPen(QPen(color, 2.2))
        p.drawLine(middle, tip)
        if abs(vector) <= 7.0:
            return
        p.setBrush(color)
        p.setPen(Qt.PenStyle.NoPen)
        p.drawPolygon(_head(tip, cmath.phase(vector)))
        beside = vector * (1.0 + 10.0 / abs(vector))
        if abs(vector) > 18.0 and all(abs(beside - other) > 15.0 for other in taken):
            taken.append(beside)
            at = middle + _point(beside)
            draw_text(p, at.x(), at.y() + 4, name, color, size=look.SMALL, bold=True,
                      align="center", halo=look.theme().halo)  # fmt: skip


def _point(vector: complex) -> QPointF:
    return QPointF(vector.real, -vector.imag)


def _head(tip: QPointF, phase: float) -> QPolygonF:
    ends = [tip - _point(cmath.rect(9.0, phase + side)) for side in (-0.32, 0.32)]
    return QPolygonF([tip, *ends])


class LensPlot(Plot):
    """The current of phase a over a few periods, and what the legs do."""

    def __init__(self) -> None:
        super().__init__(left=60, right=6, top=36, bottom=24, name="Lens")
        t = look.theme()
        self.shown: Lens | None = None
        self._trouble = ""
        self._averaged = self.curve(t.ink, 1.2, Qt.PenStyle.DashLine)
        self._current = self.curve(t.q, 1.6)
        self.over(self._annotate)

    def show_lens(self, shown: Lens | None, trouble: str = "") -> None:
        """Show a closer look, or why there is none."""
        self.shown, self._trouble = shown, trouble
        if shown is None:
            self._averaged.clear()
            self._current.clear()
            self.setAccessibleName(f"Lens: {trouble or 'nothing yet'}")
            self.refresh()
            return
        self.setAccessibleName(f"Lens: switching adds ±{digits(0.5 * shown.swing, 2)} A")
        self.setToolTip(f"Ripple {digits(shown.ripple, 2)} A rms; dead time "
                        f"{digits(1e6 * shown.dead_time, 3)} µs, which costs the dead voltage "
                        "of the Machine stage")  # fmt: skip
        t = np.append(0.0, 1e6 * shown.t)
        current = np.append(shown.averaged[0, 0], shown.currents[:, 0])
        self._current.show(t, current)
        self._averaged.show(1e6 * shown.averaged_t, shown.averaged[:, 0])
        end = 1e6 * shown.seconds
        ticks = linear_ticks(0.0, end, 3)
        if ticks:
            ticks[-1] = (ticks[-1][0], f"{ticks[-1][1]} µs")
        self.set_x(0.0, end, ticks)
        low, high = float(current.min()), float(current.max())
        if high - low < _FLAT:
            low, high = 0.5 * (low + high - _FLAT), 0.5 * (low + high + _FLAT)
        room = high - low
        legs = 3 * _GATE + 8.0
        below = legs / max(self.area.height() - legs, 20.0)
        self.set_y(low - (0.08 + 1.2 * below) * room, high + 0.08 * room,
                   linear_ticks(low, high, 4, "A"))  # fmt: skip
        self.refresh()

    def _annotate(self, p: QPainter) -> None:
        t, area, shown = look.theme(), self.area, self.shown
        draw_text(p, 0, 14, "Lens", t.ink, size=look.SMALL, bold=True)
        if shown is None:
            told = elided(self._trouble or _LATER, self.width() - 4.0, look.SMALL)
            color = t.attention if self._trouble else t.muted
            draw_text(p, 0, 30, told, color, size=look.SMALL)
            return
        draw_text(p, 34, 14, f"{shown.periods:g} carrier periods; dashed: averaged", t.muted,
                  size=look.SMALL)  # fmt: skip
        added = f"phase a: switching adds ±{digits(0.5 * shown.swing, 2)} A"
        draw_text(p, 0, 30, added, t.ink, size=look.SMALL)
        for n, (name, color) in enumerate((("a", t.q), ("b", t.muted), ("c", t.muted))):
            top = area.bottom() - (3 - n) * _GATE - 3
            draw_text(p, area.left() - 6, top + 8, name, t.muted, size=look.SMALL, align="right")
            for begin, end, share in _levels(shown, n):
                left, right = self.px(1e6 * begin), self.px(1e6 * end)
                height = share * (_GATE - 4)
                p.fillRect(QRectF(left, top + _GATE - 4 - height, right - left, height), color)


def _levels(lens: Lens, n: int) -> list[tuple[float, float, float]]:
    """Return (begin, end, share of the bus) of each time in which a leg is not at the bottom."""
    made: list[tuple[float, float, float]] = []
    begins = np.append(0.0, lens.t[:-1])
    for begin, end, volts in zip(begins, lens.t, lens.legs[:, n], strict=True):
        share = round(float(volts) / lens.bus, 3)
        if made and made[-1][1] == begin and made[-1][2] == share:
            made[-1] = (made[-1][0], float(end), share)
        else:
            made.append((float(begin), float(end), share))
    return [one for one in made if one[2] > 0.0]


class Closer:
    """Both, and when they are looked at."""

    def __init__(self, parent: QWidget, jobs: Jobs, move: Callable[[float], None],
                 span: Callable[[], tuple[float, float]]) -> None:  # fmt: skip
        self._jobs, self._move, self._span = jobs, move, span
        self.vectors, self.lens = VectorView(), LensPlot()
        self.play = small_button("▸", "Play the time that is shown")
        self._shown: RehearsePicture | None = None
        self._at = 0.0
        self._looking: Cancel | None = None
        for widget in (self.vectors, self.lens, self.play):
            widget.setParent(parent)
            widget.hide()
        self._rest, self._clock = QTimer(parent), QTimer(parent)
        self._rest.setSingleShot(True)
        self._rest.setInterval(_REST)
        self._rest.timeout.connect(self._look)
        self._clock.setInterval(_FRAME)
        self._clock.timeout.connect(self._step)
        self.play.clicked.connect(self.toggle_play)
        self._fits = (False, False)

    @property
    def pending(self) -> bool:
        """Whether the lens is still to show what lies at the cursor."""
        return self._rest.isActive() or self._looking is not None

    @property
    def playing(self) -> bool:
        """Whether the cursor runs by itself."""
        return self._clock.isActive()

    def place(self, room: QRect) -> None:
        """Lay both out, or the lens alone where there is room for one only."""
        both = room.height() >= 2 * _LEAST
        self._fits = (both, room.height() >= _LEAST)
        share = round(0.5 * room.height()) if both else 0
        self.vectors.setGeometry(room.left(), room.top(), room.width(), share)
        self.lens.setGeometry(room.left(), room.top() + share, room.width(), room.height() - share)
        self.play.setGeometry(room.right() - 28, room.top() - 4, 24, 22)
        self._show_those_that_fit()

    def _show_those_that_fit(self) -> None:
        there = self._shown is not None
        self.vectors.setVisible(there and self._fits[0])
        self.play.setVisible(there and self._fits[0])
        self.lens.setVisible(there and self._fits[1])

    def follow(self, shown: RehearsePicture, at: float) -> None:
        """Show the vectors at a time, and the bridge once the cursor rests there."""
        if shown is not self._shown:
            self.lens.show_lens(None)
        self._shown, self._at = shown, at
        self.vectors.show_vectors(vectors_at(shown, at))
        self._rest.start()
        self._show_those_that_fit()

    def hide(self) -> None:
        """Make room for something else."""
        self._shown = None
        self._end()
        self._show_those_that_fit()

    def _end(self) -> None:
        self._rest.stop()
        self._clock.stop()
        self.play.setText("▸")
        if self._looking is not None:
            self._looking.set()
            self._looking = None

    def _look(self) -> None:
        shown, at = self._shown, self._at
        if shown is None:
            return
        if self._looking is not None:
            self._looking.set()
        looking = self._looking = self._jobs.start(
            lambda _progress, cancel: look_closer(shown.run, shown.axis, at, periods=_PERIODS,
                                                  cancel=cancel),
            on_end=lambda outcome: self._ended(outcome, looking), name="lens",
        )  # fmt: skip

    def _ended(self, outcome: Done[Lens] | Stopped | Failed, looking: Cancel) -> None:
        if not isValid(self.lens) or looking is not self._looking:
            return
        self._looking = None
        if isinstance(outcome, Done):
            self.lens.show_lens(outcome.value)
        elif isinstance(outcome, Failed):
            if not isinstance(outcome.error, OarlockError):
                raise outcome.error
            self.lens.show_lens(None, outcome.error.cause)

    def toggle_play(self) -> None:
        """Let the cursor run through the time that is shown, or stop it."""
        if self._clock.isActive():
            self._clock.stop()
        elif self._shown is not None:
            low, high = self._span()
            if not low <= self._at < high - 0.01 * (high - low):
                self._move(low)
            self._clock.start()
        self.play.setText("■" if self._clock.isActive() else "▸")

    def _step(self) -> None:
        low, high = self._span()
        at = self._at + (high - low) * _FRAME / (1e3 * _WHOLE)
        if at >= high:
            self._clock.stop()
            self.play.setText("▸")
        self._move(min(at, high))
