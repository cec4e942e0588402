"""Dragging a point of the scenario: the text follows, and what comes of it is drawn meanwhile."""

from collections.abc import Callable

from PySide6.QtCore import QObject

from oarlock.errors import InputError
from oarlock.ui.kit import units
from oarlock.ui.stages.rehearse.pictures import RunPlot
from oarlock.ui.stages.rehearse.scenario_block import ScenarioBlock
from oarlock.views.scenario_edit import Handle, moved


class PointDrag(QObject):
    """Simulates as often as there is time for it, and once more where the point is let go."""

    def __init__(
        self, plot: RunPlot, scenario: ScenarioBlock, busy: Callable[[], bool],
        preview: Callable[[], None], run: Callable[[], None],
    ) -> None:  # fmt: skip
        super().__init__(plot)
        self._scenario, self._busy, self._preview, self._run = scenario, busy, preview, run
        self.active = False
        self._changed = self._let_go = False
        plot.dragged.connect(self._drag)
        plot.dropped.connect(self._drop)

    def _drag(self, number: int, at: float, value: float) -> None:
        try:
            text = moved(self._scenario.text.toPlainText(), number, Handle(at, value),
                         units.by_name())  # fmt: skip
        except InputError as error:
            self._scenario.refuse(error)
            return
        self._scenario.put(text, joined=self.active)
        self.active = self._changed = True
        self.go_on()

    def _drop(self) -> None:
        if self.active:
            self.active, self._changed, self._let_go = False, False, True
            self.go_on()

    def go_on(self) -> None:
        """Simulate what has changed, if nothing is being simulated."""
        if self._busy():
            return
        if self._let_go:
            self._let_go = False
            self._run()
        elif self._changed:
            self._changed = False
            self._preview()
