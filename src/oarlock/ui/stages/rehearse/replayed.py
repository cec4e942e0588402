"""A run of the drive over its simulation: what follows, the current, and what is left."""

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QRect
from PySide6.QtWidgets import QLabel, QWidget

from oarlock.records import Run
from oarlock.ui.kit import theme as look
from oarlock.ui.kit import units
from oarlock.ui.kit.buttons import link_button
from oarlock.ui.kit.numbers import Panel
from oarlock.ui.stages.rehearse.pictures import RunPlot
from oarlock.views.replayed import Over, ReplayPicture, offered

_SHARES = (0.44, 0.32, 0.24)


class ReplayPlots:
    """Three linked plots: measured in ink, simulated in colour, and the difference."""

    def __init__(self, parent: QWidget) -> None:
        t = look.theme()
        self.shown: ReplayPicture | None = None
        self.follows = RunPlot("measured, and simulated; asked, dashed", "", (t.ink, t.speed),
                               last=False)  # fmt: skip
        self.current = RunPlot("measured, and simulated", "", (t.ink, t.q), last=False)
        self.left = RunPlot("measured less simulated", "", (t.torque,), last=True)
        for plot in self._plots:
            plot.setParent(parent)
            plot.moved.connect(self.move_cursor)
            plot.zoomed.connect(self._show_range)
            plot.hide()

    @property
    def _plots(self) -> tuple[RunPlot, ...]:
        return self.follows, self.current, self.left

    def place(self, room: QRect) -> None:
        """Lay them out in a part of the stage."""
        y = float(room.top())
        for plot, share in zip(self._plots, _SHARES, strict=True):
            height = share * room.height()
            plot.setGeometry(room.left(), round(y), room.width(), round(height))
            y += height

    def show_replay(self, shown: ReplayPicture) -> None:
        """Show a replay, the cursor where both are farthest apart."""
        self.shown = shown
        for plot, over in self._shown_in(shown):
            curves = [(v, v, v) for v in (over.measured, over.simulated)]
            plot.show_run(shown.t, curves, asked=over.asked, text=f"{over.name}, {over.unit}")
        follows = shown.follows.told_in(units.by_name())
        left, unit = follows.left
        text = f"{follows.name}, {unit}"
        self.left.show_run(shown.t, [(left, left, left)], text=text)
        for plot in self._plots:
            plot.show()
        self.move_cursor(float(shown.t[int(np.argmax(np.abs(left)))]))

    def hide(self) -> None:
        """Make room for something else."""
        for plot in self._plots:
            plot.hide()

    def move_cursor(self, at: float) -> None:
        """Put the cursor at a time, in all of them."""
        shown = self.shown
        if shown is None:
            return
        n = int(np.clip(np.searchsorted(shown.t, at, side="right") - 1, 0, shown.t.size - 1))
        for plot, over in self._shown_in(shown):
            here = (("measured", over.measured[n]), ("simulated", over.simulated[n]))
            told = tuple(
                (f"{word} {_told(value, over.unit)}", float(value)) for word, value in here
            )
            plot.show_cursor(at, told)
        left, unit = shown.follows.told_in(units.by_name()).left
        text = f"{1e3 * at:.1f} ms: {_told(float(left[n]), unit)}"
        self.left.show_cursor(at, ((text, float(left[n])),))

    def _shown_in(self, shown: ReplayPicture) -> tuple[tuple[RunPlot, Over], ...]:
        """Return each plot with what it shows, in the units that were chosen."""
        scales = units.by_name()
        return ((self.follows, shown.follows.told_in(scales)),
                (self.current, shown.current.told_in(scales)))  # fmt: skip

    def _show_range(self, low: float, high: float) -> None:
        for plot in self._plots:
            plot.show_range(low, high)


def _told(value: float, unit: str) -> str:
    return f"{value:.3g} {unit}".replace("-", "−").replace(" °", "°")


class ReplayBlock:
    """A block of the numbers that offers the newest tests of the drive."""

    def __init__(self, panel: Panel, replay: Callable[[Run], None]) -> None:
        self._block = panel.block("Replay a run", "over its simulation")
        self._replay = replay
        self.links = [link_button("") for _ in range(4)]
        self._runs: list[Run] = []
        for n, link in enumerate(self.links):
            link.clicked.connect(lambda *_, n=n: self._replay(self._runs[n]))
            self._block.add(link)
        self._none = QLabel("no test of a loop was played yet")
        self._none.setFont(look.font(look.SMALL))
        self._block.add(self._none)

    @property
    def first(self) -> Run | None:
        """The run that is offered first."""
        return self._runs[0] if self._runs else None

    def offer(self, runs: list[Run]) -> None:
        """List what can be replayed of the runs of the axis."""
        self._runs = offered(runs)
        for n, link in enumerate(self.links):
            link.setVisible(n < len(self._runs))
            if n < len(self._runs):
                run = self._runs[n]
                link.setText(f"{run.id}  {units.told(run.title)}")
                link.setToolTip(f"Simulate run {run.id} and lay it over what was measured")
        self._none.setVisible(not self._runs)
