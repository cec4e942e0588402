"""The Rehearse stage by its clock: frames of a long run, and a point of a scenario that is dragged.

The window is drawn offscreen, each of its four plots anew for each frame.
"""

import os
import statistics
import tempfile
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
from PySide6.QtCore import QEventLoop, QTimer
from PySide6.QtWidgets import QApplication

from oarlock.demo.project import make_demo
from oarlock.machine import Axis
from oarlock.machine.axis_file import format_axis
from oarlock.rehearse.bins import COLUMNS
from oarlock.store.project import Project
from oarlock.ui.frame.app import Application, application
from oarlock.ui.kit import theme as look
from oarlock.ui.stages.rehearse.stage import RehearseStage

POINTS = 200_000
_SPEED = """name = "Passage"
control = "speed"
duration = "5 s"
[[points]]
at = "0.2 s"
speed = "300 rpm"
acceleration = "400 rad/s2"
[[points]]
at = "2.5 s"
speed = "-300 rpm"
acceleration = "400 rad/s2"
"""


def until(condition: Callable[[], bool], seconds: float = 60.0) -> float:
    """Let the window work until a condition holds; return the seconds that it took."""
    begun, waking = time.perf_counter(), QTimer()
    waking.start(2)  # ms
    while not condition():
        QApplication.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents)
        if time.perf_counter() - begun > seconds:
            raise TimeoutError("the window does not come to it")
    return time.perf_counter() - begun


def simulated(stage: RehearseStage) -> None:
    """Have the scenario of 5 s simulated and drawn."""
    stage.scenario.put(_SPEED, joined=False)
    stage.run()
    until(lambda: stage.shown is not None and not stage.is_working)


def frames(stage: RehearseStage, many: int) -> float:
    """Return frames a second while a run of `POINTS` bins is moved and zoomed, all plots drawn."""
    assert stage.shown is not None
    rng = np.random.default_rng(0)
    t = np.arange(POINTS, dtype=np.float64) * 1e-3
    mean = {name: np.cumsum(rng.standard_normal(POINTS)) for name in COLUMNS}
    least, most = ({name: mean[name] + side * rng.random(POINTS) for name in COLUMNS}
                   for side in (-3.0, 3.0))  # fmt: skip
    run = replace(stage.shown.run, t=t, mean=mean, least=least, most=most)
    stage.show_picture(replace(stage.shown, run=run))
    QApplication.processEvents()
    begun = time.perf_counter()
    for n in range(many):
        width = t[-1] * 0.5 ** (4.0 * abs(2.0 * n / many - 1.0))  # in and out again, moving on
        low = (t[-1] - width) * n / many
        stage.plots["asked"].zoomed.emit(low, low + width)
        QApplication.processEvents()  # each plot is drawn once
    return many / (time.perf_counter() - begun)


def drag(stage: RehearseStage, many: int) -> float:
    """Return the median milliseconds from a drag until what comes of it is drawn.

    Both points are dragged, one after the other; before the first nothing stays as it was.
    """
    simulated(stage)
    plot, times = stage.plots["asked"], []
    for n in range(many):
        before = stage.shown
        begun = time.perf_counter()
        plot.dragged.emit(n % 2, (0.2, 2.5)[n % 2] + 0.005 * n, (300.0, -300.0)[n % 2] + n)
        until(lambda shown=before: stage.shown is not shown)  # type: ignore[misc]
        QApplication.processEvents()
        times.append(time.perf_counter() - begun)
        until(lambda: not stage.is_working)
    plot.dropped.emit()
    until(lambda: not stage.is_working)
    return 1e3 * statistics.median(times)


def measured(axis: Axis, *, many: int = 60) -> tuple[float, float]:
    """Return (frames a second of a long run, ms of a drag) in a window on a tuned winch."""
    qt = application()
    qt.setStyle("Fusion")
    look.load_fonts()
    with tempfile.TemporaryDirectory() as folder:
        path = make_demo(Path(folder) / "demo")
        project = Project.open(path)
        project.save_axis(axis.name, format_axis(axis), "tuned")
        project.close()
        opened = Application(path)
        opened.window.resize(1280, 800)
        opened.start(practice=False)
        try:
            opened.window.show_stage("rehearse")
            stage = opened.window.current
            assert isinstance(stage, RehearseStage)
            simulated(stage)
            return frames(stage, many), drag(stage, max(many // 3, 5))
        finally:
            opened.close()
            opened.window.close()
