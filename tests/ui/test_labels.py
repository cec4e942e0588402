"""No label of a loop's pictures meets another, wherever its handle stands and at any size."""

from collections.abc import Iterator
from itertools import combinations
from pathlib import Path

import pytest
from PySide6.QtCore import QRectF
from pytestqt.qtbot import QtBot

from oarlock.control.position_design import design_position
from oarlock.ui.frame.app import Application
from oarlock.ui.kit.plot import Plot
from tests.demos import demo_with
from tests.speed_axis import tuned_winch
from tests.ui.conftest import window_on
from tests.ui.written import written

PAINTED = {
    "current": ("current.pictures", "current.frequency_pictures"),
    "speed": ("speed.pictures", "speed.frequency_pictures"),
    "position": ("position.pictures",),
}
DRAGGED = {
    "current": (200.0, 350.0, 560.0, 900.0, 1400.0, 1778.0),
    "speed": (8.0, 14.0, 20.0, 25.0, 30.0),
    "position": (1.5, 3.0, 5.0, 6.0),
}


@pytest.fixture
def tuned(qtbot: QtBot, tmp_path: Path) -> Iterator[Application]:
    """The window on a winch with gains for all three loops."""
    axis = tuned_winch()
    axis = axis.with_loop_gains("position", design_position(axis).gains)
    yield from window_on(qtbot, demo_with(axis, tmp_path / "demo"))


@pytest.mark.parametrize("size", [(1024, 700), (1280, 800), (1600, 1000)])
@pytest.mark.parametrize("key", list(PAINTED))
def test_no_labels_meet(
    qtbot: QtBot, tuned: Application, monkeypatch: pytest.MonkeyPatch, key: str,
    size: tuple[int, int],
) -> None:  # fmt: skip
    tuned.window.resize(*size)
    tuned.window.show_stage(key)
    stage = tuned.window.stage(key)
    qtbot.wait(50)
    every: list[tuple[str, QRectF]] = []
    for pictures in PAINTED[key]:
        written(monkeypatch, pictures, every=every)
    seen, met = 0, []
    for hertz in DRAGGED[key]:
        stage.drag_to(hertz)
        for plot in (one for one in stage.findChildren(Plot) if one.isVisible()):
            every.clear()
            plot.grab()
            seen += len(every)
            inner = [(text, box.adjusted(1, 1, -1, -1)) for text, box in every]
            met += [(hertz, a, b) for (a, A), (b, B) in combinations(inner, 2) if A.intersects(B)]
    stage.end_drag()
    assert seen > 5 * len(DRAGGED[key])
    assert not met
