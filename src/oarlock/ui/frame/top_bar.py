"""The top bar: what is open, how the drive is, what is under way, and Stop."""

from collections.abc import Mapping

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import (
    QAbstractButton,
    QHBoxLayout,
    QMenu,
    QPushButton,
    QSizePolicy,
    QWidget,
)

from oarlock.drive.link import Live
from oarlock.machine import Parameter
from oarlock.quantities.shown import Shown, chosen
from oarlock.session.jobs import Doing
from oarlock.ui.kit import theme as look
from oarlock.ui.kit import units
from oarlock.ui.kit.paint import draw_text, elided, line, text_width

_LINK = 190  # px, of the link's name at most
_NAME = 150  # px, of a project's or an axis's name at most
_STILL = 0.6  # rad/s: below it a resolver's noise is all there is


class StopButton(QAbstractButton):
    """Always there, always live: it de-energises with one message."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFixedSize(QSize(128, 30))
        self.setText("Stop")
        self.setAccessibleName("Stop")
        self.setAccessibleDescription("De-energise the drive at once. Escape does the same.")
        self.setToolTip("De-energise the drive at once. Esc does the same, always.")

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t = QPainter(self), look.theme()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        w, h, cut = self.width(), self.height(), 8
        corners = [(cut, 0), (w - cut, 0), (w, cut), (w, h - cut), (w - cut, h), (cut, h),
                   (0, h - cut), (0, cut)]  # fmt: skip
        p.setPen(QPen(t.ink, 2) if self.hasFocus() else Qt.PenStyle.NoPen)
        p.setBrush(t.stop.darker(120) if self.isDown() else t.stop)
        p.drawPolygon(QPolygonF([QPointF(x, y) for x, y in corners]))
        draw_text(p, 28, 20, "STOP", t.on_accent, size=look.NAME, bold=True)
        draw_text(p, 88, 20, "Esc", t.on_accent, size=look.SMALL)


class TopBar(QWidget):
    """One line over everything."""

    stop = Signal()
    connect_asked = Signal()
    cancel = Signal()
    axis_chosen = Signal(str)  # in the menu of axes

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFixedHeight(look.TOP_BAR)
        self._project = self._axis = ""
        self._link, self._state, self._is_up = "no drive", "", False
        self._live = Live(state="de-energised")
        self._doing = Doing()
        self._trouble = ""
        self._units = Shown()
        self._pairs: float | None = None
        self.connect_button = QPushButton("Connect…")
        self.connect_button.setToolTip("Connect the practice drive, or a drive on a CAN interface")
        self.cancel_button = QPushButton("Cancel")
        self.numbers_button = QPushButton("Numbers  F9")
        self.numbers_button.setToolTip("Show or hide the numbers of this stage")
        self.numbers_button.hide()
        self.stop_button = StopButton()
        self.project_button, self.project_menu = self._flat("Projects, new and open")
        self.axis_button, self.axis_menu = self._flat("Axes of this project")
        self.axis_button.setFont(look.font(look.NAME, bold=True))
        for button in (self.connect_button, self.cancel_button, self.numbers_button):
            button.setFixedHeight(26)
            button.setFont(look.font(look.BODY))
        self.cancel_button.hide()
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 8, 0)
        row.addStretch(1)
        row.addWidget(self.cancel_button)
        row.addWidget(self.connect_button)
        row.addWidget(self.numbers_button)
        row.addSpacing(8)
        row.addWidget(self.stop_button)
        self.stop_button.clicked.connect(self.stop)
        self.connect_button.clicked.connect(self.connect_asked)
        self.cancel_button.clicked.connect(self.cancel)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def _flat(self, tip: str) -> tuple[QPushButton, QMenu]:
        """Return a button that is its text, with a menu that is filled when it opens."""
        made = QPushButton(self)
        made.setFlat(True)
        made.setFont(look.font(look.BODY))
        made.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        made.setToolTip(tip)
        made.setStyleSheet("QPushButton { text-align: left; padding: 0 2px; }")
        menu = QMenu(made)
        made.setMenu(menu)
        return made, menu

    def show_project(self, project: str, axis: str) -> None:
        """Show what is open; each name is a button with a menu."""
        if (project, axis) == (self._project, self._axis):
            return
        self._project, self._axis = project, axis
        x = look.MARGIN - 4
        for made, text, size, bold in (
            (self.project_button, elided(project, _NAME), look.BODY, False),
            (self.axis_button, elided(axis, _NAME, look.NAME, bold=True), look.NAME, True),
        ):
            made.setText(text)
            made.setAccessibleName(f"{made.toolTip()}: {text}")
            wide = round(text_width(text, size, bold=bold)) + 26
            made.setGeometry(x, 5, wide, 30)
            x += wide + 10
        self.update()

    def show_link(self, name: str, *, connected: bool, connecting: bool, waiting: bool) -> None:
        """Show whether a drive answers, or is looked for after it was lost."""
        self._is_up = connected
        self._link = name if connected else "connecting…" if connecting else "no drive"
        if waiting:
            self._link = "drive lost, looking for it"
        self.connect_button.setVisible(not connected and not connecting)
        self.setAccessibleDescription(f"{self._link}, {self._state}")
        self.update()

    def show_units(
        self, kept: Mapping[str, str], pole_pairs: Parameter, rated: float | None
    ) -> None:
        """Show values in the units that were chosen: the shaft's speed here, all in pictures.

        Parameters
        ----------
        rated : N·m, of the axis

        """
        self._pairs = pole_pairs.value if pole_pairs.is_known else None
        self._units = chosen(dict(kept))
        units.choose(self._units, self._pairs, rated)
        self.update()

    def show_live(self, live: Live) -> None:
        """Show what the drive says of itself."""
        if live != self._live:
            self._live = live
            self.update()

    def show_doing(self, doing: Doing) -> None:
        """Show progress; an empty text ends it."""
        self._doing = doing
        self.cancel_button.setVisible(bool(doing.text))
        self.update()

    def show_trouble(self, text: str) -> None:
        """Show that something could not be saved."""
        self._trouble = text
        self.setToolTip(text)
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t = QPainter(self), look.theme()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.fillRect(self.rect(), t.ground)
        line(p, 0, self.height() - 1, self.width(), self.height() - 1, t.rule)
        draw_text(p, self.project_button.geometry().right() + 3, 25, "/", t.muted)
        x = float(self.axis_button.geometry().right())
        if self._trouble:
            room = self._free_until() - x - 24.0
            draw_text(p, x + 24, 25, elided(self._trouble, room, bold=True), t.attention, bold=True)
            return
        centre = max(x + 60, 336.0)
        self._paint_link(p, centre)
        if self._doing.text:
            self._paint_doing(p, centre)
        elif self._is_up:
            wanted = min(720.0, self._free_until() - 290.0)
            self._paint_live(p, max(wanted, centre + 36.0 + self._link_room() + 20.0))

    def _paint_link(self, p: QPainter, x: float) -> None:
        t, y = look.theme(), 20.0
        color = t.accent if self._is_up else t.muted
        style = Qt.PenStyle.SolidLine if self._is_up else Qt.PenStyle.DashLine
        line(p, x, y, x + 27, y, color, 2, style)
        p.setPen(QPen(color, 2))
        p.setBrush(color if self._is_up else t.ground)
        p.drawEllipse(QPointF(x + 13, y), 5, 5)
        if self._doing.text:
            return
        text = self._link
        if self._is_up:
            state = self._live.state + (
                f" · {self._live.trip.words}" if self._live.trip.words else ""
            )
            text = f"{elided(self._link, _LINK)} · connected · **{state}**"
        draw_text(p, x + 36, 25, text, t.ink)

    def _link_room(self) -> float:
        """Return the room that the link's text takes at most, px: it does not move what follows."""
        text = f"{elided(self._link, _LINK)} · connected · **de-energised**"
        trip = self._live.trip.words
        return text_width(f"{text} · {trip}" if trip else text)

    def _paint_live(self, p: QPainter, x: float) -> None:
        t, live = look.theme(), self._live
        turning = live.speed if abs(live.speed) > _STILL else 0.0
        speed, unit_of_speed = self._units.speed_in(turning, self._pairs)
        for name, value, unit in (
            ("bus", f"{live.bus:.0f}", "V"),
            ("shaft", f"{speed:.0f}", unit_of_speed),
            ("stage", f"{live.temperature}", "°C"),
        ):
            wide = text_width(f"{name} ") + text_width(value, look.NAME, bold=True)
            if x + wide + 4 + text_width(unit) > self._free_until():
                return  # a narrow window has no room for all of them
            x += draw_text(p, x, 25, f"{name} ", t.muted)
            x += draw_text(p, x, 25, value, t.ink, size=look.NAME, bold=True)
            x += draw_text(p, x + 4, 25, unit, t.muted) + 24

    def _free_until(self) -> float:
        """Return where the first button at the right begins, px."""
        buttons = (self.cancel_button, self.connect_button, self.numbers_button, self.stop_button)
        return min(b.x() for b in buttons if b.isVisible()) - 8.0

    def _paint_doing(self, p: QPainter, x: float) -> None:
        t = look.theme()
        text = f"**{self._doing.text}**"
        draw_text(p, x + 36, 20, text, t.ink)
        width = max(text_width(text), 260.0)
        p.fillRect(QRectF(x + 36, 28, width, 4), t.rule)
        p.fillRect(QRectF(x + 36, 28, width * min(self._doing.fraction, 1.0), 4), t.accent)
