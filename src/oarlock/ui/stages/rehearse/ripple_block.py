"""Torque ripple of a scenario, by what makes it."""

from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QWidget

from oarlock.ui.kit import theme as look
from oarlock.ui.kit import units
from oarlock.ui.kit.buttons import link_button
from oarlock.ui.kit.numbers import Panel
from oarlock.ui.kit.paint import draw_text
from oarlock.views.rehearsal import Split

_ROW = 20
_LEFT, _RIGHT = 104.0, 66.0  # px, of names and of numbers
_HINT, _STALE = "as it switches", "stale"


class RippleBlock:
    """A block of the numbers, filled on request: it takes a simulation for each cause."""

    def __init__(self, panel: Panel) -> None:
        self._block = block = panel.block("Torque ripple", _HINT)
        self._whole = block.row("All causes", "Torque that nobody asked for, effective value")
        self._whole.show_value(*units.pair("–", "N·m"))
        self._share = block.row("Of rated torque", "All causes together")
        self._share.show_value("–", "%")
        self.bars = CauseBars()
        block.add(self.bars)
        self.button = link_button("Find by cause")
        self.button.setToolTip("Simulates the scenario with each cause alone")
        block.add(self.button)
        self._of = ""
        self.told: tuple[Split, str] | None = None  # what is shown, and of what it is

    def mark(self, now: str) -> None:
        """Say that it is stale where `now` tells of another axis or scenario."""
        self._block.set_hint(_STALE if self._of and self._of != now else _HINT)

    def show_split(self, shown: Split, of: str) -> None:
        """Show what came of it; `of` tells which axis and scenario it is of."""
        self.told, self._of = (shown, of), of
        self.mark(of)
        self._whole.show_value(*units.pair(shown.whole, "N·m"))
        self._share.show_value(shown.of_rated, "%")
        self.bars.show_causes(shown)

    def show_again(self, told: tuple[Split, str] | None) -> None:
        """Show what another window has shown; None: nothing."""
        if told is not None:
            self.show_split(*told)


def _size(torque: str) -> str:
    """Return a torque (N·m) with the unit that was chosen."""
    return " ".join(units.pair(torque, "N·m"))


class CauseBars(QWidget):
    """One bar for each cause, as long as its part of all squares."""

    def __init__(self) -> None:
        super().__init__()
        self._shown: Split | None = None
        self.setFixedHeight(0)

    def show_causes(self, shown: Split) -> None:
        """Show the causes, the largest at the top."""
        self._shown = shown
        self.setFixedHeight(_ROW * len(shown.causes) + 4)
        told = "; ".join(f"{name} {100 * share:.0f} %, {_size(size)}"
                         for name, share, size in shown.causes)  # fmt: skip
        self.setAccessibleName(f"What makes it: {told}")
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        if self._shown is None:
            return
        p, t = QPainter(self), look.theme()
        room = self.width() - _LEFT - _RIGHT
        for n, (name, share, size) in enumerate(self._shown.causes):
            y = 14.0 + _ROW * n
            draw_text(p, 0, y, name, t.ink, size=look.SMALL)
            p.fillRect(QRectF(_LEFT, y - 9, max(share * room, 1.0), 10), t.torque)
            draw_text(p, self.width(), y, _size(size), t.muted, size=look.SMALL, align="right")
