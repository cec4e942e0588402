"""A way round the resonance is painted anew where something of it changed, and only there."""

from dataclasses import replace
from typing import Any, cast

import numpy as np
import pytest
from PySide6.QtCore import QEvent, QObject
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from oarlock.ui.stages.speed.ways_panel import WayCard
from oarlock.views.speed_ways import Card

WAY = cast("Any", object())
CARD = Card(way=WAY, title="Notch", hint="211", dip="26 rpm, 51 ms", margins="38 Hz, 55°, 8.0 dB",
            bears="190 to 240 Hz", may_use=True, t=np.linspace(0.0, 0.1, 50),
            sag=-np.ones(50))  # fmt: skip


class Paints(QObject):
    """Counts how often a widget is painted."""

    def __init__(self, watched: QObject) -> None:
        super().__init__(watched)
        self.many = 0
        watched.installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        self.many += event.type() is QEvent.Type.Paint
        return False


@pytest.mark.parametrize(
    ("card", "deepest", "used", "anew"),
    [
        (CARD, 3.0, False, False),
        (replace(CARD, t=CARD.t.copy()), 3.0, False, False),  # worked out again, the same
        (CARD, 3.0, True, True),
        (CARD, 4.0, False, True),
        (replace(CARD, dip="13 rpm, 51 ms"), 3.0, False, True),
        (replace(CARD, way=cast("Any", object())), 3.0, False, True),
    ],
)
def test_it_is_painted_where_it_changed(
    qtbot: QtBot, card: Card, deepest: float, used: bool, anew: bool
) -> None:
    widget = WayCard(cast("Any", None))
    qtbot.addWidget(widget)
    widget.resize(260, 64)
    widget.show_card(CARD, 3.0, used=False)
    widget.show()
    qtbot.waitExposed(widget)
    QApplication.processEvents()
    paints = Paints(widget)
    QApplication.processEvents()
    before = paints.many
    widget.show_card(card, deepest, used=used)
    QApplication.processEvents()
    widget.hide()
    assert (paints.many > before) == anew
