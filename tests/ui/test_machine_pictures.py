"""What is written into the operating map covers none of its curves."""

import numpy as np
import pytest
from pytestqt.qtbot import QtBot

from oarlock.ui.frame.app import Application
from oarlock.ui.stages.machine.stage import MachineStage
from tests.ui.written import written


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
    boxes = written(monkeypatch, "machine.pictures")
    plot = stage.torque
    plot.grab()
    text, box = next(one for one in boxes.items() if one[0].startswith("**"))
    assert "N·m" in text
    for curve in (plot._torque, plot._power):
        x, y = curve.x, curve.y
        there = np.array([plot.px(float(at)) for at in x])
        within = (there >= box.left()) & (there <= box.right())
        assert within.any()
        heights = np.array([plot.py(float(at)) for at in y[within]])
        assert not np.any((heights > box.top()) & (heights < box.bottom()))
    assert not any(other != text and box.intersects(at) for other, at in boxes.items())
