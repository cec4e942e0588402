"""What is written into the operating map covers none of its curves."""

import numpy as np
import pytest
from PySide6.QtGui import QColor, QPainter
from pytestqt.qtbot import QtBot

from oarlock.ui.frame.app import Application
from oarlock.ui.kit import theme as look
from oarlock.ui.kit.paint import text_width
from oarlock.ui.stages.machine.stage import MachineStage


@pytest.mark.parametrize("omega", [165.0, 180.0, 251.0, 320.0, 400.0])
def test_the_torque_at_the_cursor_stands_clear_of_the_curves(
    qtbot: QtBot, opened: Application, monkeypatch: pytest.MonkeyPatch, omega: float
) -> None:
    opened.window.resize(1280, 800)
    opened.window.show()
    qtbot.waitExposed(opened.window)
    opened.window.show_stage("machine")
    stage = opened.window.stage("machine")
    assert isinstance(stage, MachineStage)
    stage.move_cursor(omega)
    written: list[tuple[str, float, float, float, float]] = []

    def noted(_p: QPainter, x: float, y: float, text: str, *_a: QColor, **how: str) -> float:
        size = int(how.get("size", look.BODY))
        width = text_width(text, size)
        left = x - width if how.get("align") == "right" else x
        written.append((text, left, left + width, y - 0.75 * size, y))
        return width

    monkeypatch.setattr("oarlock.ui.stages.machine.pictures.draw_text", noted)
    plot = stage.torque
    plot.grab()
    text, left, right, top, bottom = next(one for one in written if one[0].startswith("**"))
    assert "N·m" in text
    for curve in (plot._torque, plot._power):
        x, y = curve.getData()
        there = np.array([plot.px(float(at)) for at in x])
        within = (there >= left) & (there <= right)
        assert within.any()
        heights = np.array([plot.py(float(at)) for at in y[within]])
        assert not np.any((heights > top) & (heights < bottom))
    for other, a, b, high, low in written:
        if other != text and low > top and high < bottom:
            assert b <= left or a >= right
