"""What a scenario comes to on machines within the uncertainty, and what moves it."""

import math

from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QLabel, QWidget

from oarlock.machine.speed_loop import KEY, SpeedGains
from oarlock.quantities.display import digits
from oarlock.rehearse.holding import Holding
from oarlock.session.session import Session
from oarlock.ui.kit import theme as look
from oarlock.ui.kit.buttons import link_button
from oarlock.ui.kit.numbers import Panel
from oarlock.ui.kit.paint import draw_text, line
from oarlock.views.rehearsal import Varied

_ROW, _SHOWN = 20, 6
_HINT, _STALE = "±2 standard u each", "stale: new values"


class WithinBlock:
    """A block of the numbers, filled by a study."""

    def __init__(self, panel: Panel, session: Session) -> None:
        self._session = session
        self._gains: SpeedGains | None = None
        self._block = block = panel.block("Uncertainty", _HINT)
        self._done = block.row("To the end", "Machines that come to the end of the scenario")
        self._figure = block.row("–", "Middle of all; nine in ten lie between the two beside it")
        self.bars = MovedBars()
        block.add(self.bars)
        self._shares = QLabel()
        self._shares.setWordWrap(True)
        self._shares.setFont(look.font(look.SMALL))
        self._shares.setToolTip("Parts of the figure's variance (Sobol, first order)")
        self._shares.hide()
        block.add(self._shares)
        self._worst = block.row("Worst margin", "Of the speed loop, on any of the machines")
        self._worst.show_value("–", "°")
        self._gain = block.row("Gain margin", "Of the speed loop, the least on any of the machines")
        self._gain.show_value("–", "dB")
        self.take = link_button("")
        self.take.setToolTip(
            "Smaller gains of the speed loop, that keep on all machines the phase margin\n"
            "that it has now, and 6 dB of gain margin where it has as much"
        )
        self.take.clicked.connect(self._take)
        self.take.hide()
        block.add(self.take)
        self._done.show_value("–")
        self._of = ""
        self.told: tuple[Varied, str] | None = None  # what is shown, and of what it is

    def mark(self, now: str) -> None:
        """Say that it is stale where `now` tells of another axis or scenario."""
        self._block.set_hint(_STALE if self._of and self._of != now else _HINT)

    def show_varied(self, shown: Varied, of: str) -> None:
        """Show what came of it; `of` tells which axis and scenario it is of."""
        self.told, self._of = (shown, of), of
        self.mark(of)
        self._done.show_value(f"{shown.done}", f"of {shown.count}")
        self._figure.show_value(digits(shown.middle, 3), shown.unit,
                                f"{digits(shown.low, 2)}–{digits(shown.high, 2)}",
                                name=shown.figure)  # fmt: skip
        self.bars.show_varied(shown)
        self._shares.setText(f"Of its scatter: {shown.shares}")
        self._shares.setVisible(bool(shown.shares))
        self._show_holding(shown.holding)

    def show_again(self, told: tuple[Varied, str] | None) -> None:
        """Show what another window has shown; None: nothing."""
        if told is not None:
            self.show_varied(*told)

    def _show_holding(self, found: Holding | None) -> None:
        self._gains = found.gains if found is not None else None
        self.take.setVisible(self._gains is not None)
        if found is None:
            self._worst.show_value("–", "°")
            self._gain.show_value("–", "dB")
            return
        least, whole = (decibels(one) for one in (found.worst_gain, found.nominal_gain))
        self._gain.show_value(least, "dB", f"of {whole}")
        nominal = f"of {math.degrees(found.nominal):.1f}"
        if found.unstable:
            self._worst.show_value("unstable", "", f"on {found.unstable}", color="attention")
        else:
            self._worst.show_value(f"{math.degrees(found.worst):.1f}", "°", nominal)
        if self._gains is not None:
            g = self._gains
            self.take.setText(f"Take Kp {digits(g.Kp, 3)}, Ki {digits(g.Ki, 3)} for all")

    def _take(self) -> None:
        if self._gains is not None:
            axis = self._session.axis.with_loop_gains(KEY, self._gains)
            axis = self._session.followed(axis, KEY)
            self._session.edit("Gains that hold on all machines", axis)
            self.take.hide()


def decibels(gain: float) -> str:
    """Return a gain margin as it is shown."""
    if not 0.0 < gain < math.inf:
        return "–"
    return f"{20.0 * math.log10(gain):.1f}"


class MovedBars(QWidget):
    """One bar for each value: from what the figure becomes with less of it, to more."""

    def __init__(self) -> None:
        super().__init__()
        self._shown: Varied | None = None
        self.setFixedHeight(_ROW)

    def show_varied(self, shown: Varied) -> None:
        """Show what moves the figure most, at the top."""
        self._shown = shown
        self.setFixedHeight(_ROW * min(len(shown.moved), _SHOWN) + 4)
        told = "; ".join(
            f"{name} does not come to the end" if math.isnan(low) or math.isnan(high)
            else f"{name} {low:.3g} to {high:.3g} {shown.unit}"
            for name, _, low, high in shown.moved[:_SHOWN]
        )  # fmt: skip
        self.setAccessibleName(f"What moves it: {told}")
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t, shown = QPainter(self), look.theme(), self._shown
        if shown is None or not shown.moved:
            draw_text(p, 0, 14, "not simulated yet", t.muted, size=look.SMALL)
            return
        rows = shown.moved[:_SHOWN]
        reached = [x for *_, a, b in rows for x in (a, b) if not math.isnan(x)] or [0.0]
        low, high = min(reached), max(reached)
        left, right = 96.0, float(self.width() - 58)
        per = (right - left) / max(high - low, 1e-12)
        middle = left + (min(max(shown.middle, low), high) - low) * per
        for n, (name, ratio, a, b) in enumerate(rows):
            y = 14.0 + _ROW * n
            draw_text(p, 0, y, f"{name} ±{100 * ratio:.2g} %", t.ink, size=look.SMALL)
            if math.isnan(a) or math.isnan(b):
                draw_text(p, self.width(), y, "does not come to the end", t.attention,
                          size=look.SMALL, align="right")  # fmt: skip
                continue
            start, end = left + (min(a, b) - low) * per, left + (max(a, b) - low) * per
            p.fillRect(QRectF(start, y - 9, max(end - start, 1.0), 10), t.torque)
            most = f"{digits(max(a, b), 3)} {shown.unit}".replace(" °", "°")
            draw_text(p, self.width(), y, most, t.muted, size=look.SMALL, align="right")
        line(p, middle, 2, middle, _ROW * len(rows), t.ink)
