"""The numbers of the move that is tried, and its ramp as the axis's own."""

from collections.abc import Callable

from oarlock.experiments.loops.position_move import PositionMove
from oarlock.machine import Axis
from oarlock.ui.kit import units
from oarlock.ui.kit.buttons import link_button
from oarlock.ui.kit.numbers import GivenRow, Panel
from oarlock.views.position import TEST_LABELS, is_ramp, test_texts


class MoveBlock:
    """One block of the panel."""

    def __init__(
        self, panel: Panel, given: Callable[[str, str], None], keep: Callable[[], None]
    ) -> None:
        block = panel.block("The move", "there and back")
        self.rows: dict[str, GivenRow] = {}
        for name, label in TEST_LABELS.items():
            row = GivenRow(label, "", choice=False)
            row.given.connect(lambda text, n=name: given(n, text))
            self.rows[name] = row
            block.add(row)
        self.ramp = link_button("")
        self.ramp.setToolTip("Speed, acceleration and jerk time that the firmware is to move with")
        self.ramp.clicked.connect(keep)
        block.add(self.ramp)

    def show_move(self, test: PositionMove, axis: Axis) -> None:
        """Show a move's numbers, and whether the axis moves by its ramp."""
        for name, (text, unit) in test_texts(test, units.speeds()).items():
            self.rows[name].show_unit(unit)
            self.rows[name].show_value(text, chosen=False)
        kept = is_ramp(axis, test)
        self.ramp.setText("is the axis's ramp, handed over" if kept else "make it the axis's ramp")
        self.ramp.setEnabled(not kept)
