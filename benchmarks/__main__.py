"""`make bench`: every speed against its bar, each measured here and now, as one table.

Ratios are of two measurements in this run. Absolute times depend on the machine; their bars are
those of the design at 1280x800, offscreen.
"""

import math
import os
import resource
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
from PySide6.QtCore import QCoreApplication, QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget
from tests.speed_axis import tuned_winch

from benchmarks.machines import the_axis
from oarlock.cancel import Cancel
from oarlock.control._steps import recur
from oarlock.control.compiled import warm
from oarlock.control.current import design_current
from oarlock.control.position_design import design_position
from oarlock.demo.project import make_demo
from oarlock.drive.canopen_link import CanopenLink
from oarlock.drive.practice_process import PracticeProcess
from oarlock.drive.runner import play
from oarlock.drive.steps import Limits, Plan, Step
from oarlock.errors import LinkTimeout
from oarlock.experiments.common.gentle import gentle_gains
from oarlock.ui.stages.base import StageView
from oarlock.views.current import picture


@dataclass(frozen=True)
class Row:
    """One measured figure against its bar."""

    name: str
    value: float
    bar: float
    unit: str
    at_least: bool = False

    @property
    def holds(self) -> bool:
        return self.value >= self.bar if self.at_least else self.value <= self.bar


_ROUNDS = 5  # of drags: the machine is shared, what comes between only adds


def median_ms(work: Callable[[], object], repeats: int = 200) -> float:
    times = []
    for _ in range(repeats):
        begun = time.perf_counter()
        work()
        times.append(time.perf_counter() - begun)
    return 1e3 * statistics.median(times)


def analysis(*, short: bool = False) -> list[Row]:
    warm()
    axis = the_axis()
    steps = np.linspace(300, 1200, 40 if short else 400)
    tuned = [
        axis.with_target(target).with_gains(design_current(axis, target).gains)
        for target in (replace(axis.target, value=math.tau * f) for f in steps)
    ]
    turn = iter(tuned * _ROUNDS)

    def show() -> None:
        picture(next(turn), "q", 1.4, 1.6e-3)

    whole = min(median_ms(show, len(tuned)) for _ in range(_ROUNDS))
    loop = design_current(axis).q
    fast = median_ms(lambda: loop.step(400))
    a = np.array(loop.closed.den)
    b = np.zeros((2, a.size))
    for row, way in zip(b, (loop.closed, loop.effort), strict=True):
        row[a.size - len(way.num) :] = way.num
    one, out = np.ones(400), np.empty((2, 400))
    plain = median_ms(lambda: recur(b, a, one, np.zeros(a.size - 1), out), 30)
    return [
        Row("analysis of one drag position", whole, 0.5, "ms"),
        Row("plain Python over compiled step response", plain / fast, 10.0, "×", at_least=True),
    ]


def drag(*, short: bool = False) -> list[Row]:
    """Drag each loop's handle in a project whose three loops have gains that follow one another."""
    from oarlock.ui.frame.app import Application, application
    from oarlock.ui.kit import theme as look
    from oarlock.ui.stages.speed.stage import SpeedStage

    qt = application()
    look.load_fonts()
    warm()
    rows: list[Row] = []
    with tempfile.TemporaryDirectory() as folder:
        opened = Application(make_demo(Path(folder)))
        axis = tuned_winch()
        axis = axis.with_loop_gains("position", design_position(axis).gains)
        opened.session.edit("all loops", replace(axis, name=opened.session.axis.name))
        opened.window.resize(1280, 800)
        opened.window.show()
        for key, low, high in (("current", 100.0, 900.0), ("speed", 10.0, 25.0),
                               ("position", 2.0, 6.0)):  # fmt: skip
            bare = BareWindow(SHOWN[key])
            bare.resize(1280, 800)
            bare.show()
            opened.window.show_stage(key)
            stage = opened.window.stage(key)
            for _ in range(20):
                qt.processEvents()
            while isinstance(stage, SpeedStage) and stage.ways.working:
                qt.processEvents()  # the search for ways round the resonance takes its share
            times, plain = [], []
            for i in range(20 if short else 300):
                hertz = low + (0.5 + 0.5 * math.sin(i / 20.0)) * (high - low)
                times.append(_painted(qt, partial(stage.drag_to, hertz)))
                plain.append(_painted(qt, partial(bare.shift, i)))
            beside = _beside_a_job(qt, stage, low, high) if key == "current" and not short else 0.0
            opened.session.end_drag("bench", keep=False)
            middle = statistics.median(times)
            rows += [
                Row(f"drag of the {key} loop, over a bare window's repaint",
                    middle / statistics.median(plain), 1.5, "×"),
                Row("  recompute and repaint, median", middle, 16.7, "ms"),
                Row("  95th percentile", sorted(times)[int(0.95 * len(times))], 33.0, "ms"),
            ]  # fmt: skip
            if beside:
                rows.append(Row("  beside a job that computes in Python, over it", beside / middle,
                                4.0, "×"))  # fmt: skip
            bare.close()
        opened.close()
        opened.window.close()
    return rows


def _beside_a_job(qt: QCoreApplication, stage: StageView, low: float, high: float) -> float:
    """Return the median ms of a position while another thread computes in plain Python."""
    ends = threading.Event()

    def compute() -> None:
        while not ends.is_set():
            sum(n * n % 7 for n in range(1000))

    beside = threading.Thread(target=compute, daemon=True)
    beside.start()
    try:
        hertz = np.geomspace(low, high, 30).tolist()
        return statistics.median([_painted(qt, partial(stage.drag_to, one)) for one in hertz])
    finally:
        ends.set()
        beside.join()


def _painted(qt: QCoreApplication, move: Callable[[], object]) -> float:
    """Return how long (ms) a move takes until all of it is painted."""
    begun = time.perf_counter()
    move()
    qt.processEvents()
    qt.processEvents()
    return 1e3 * (time.perf_counter() - begun)


@dataclass(frozen=True)
class Shown:
    """How much a window shows: counted call by call while all of it is painted."""

    curves: int
    dashed: int  # of the curves
    points: int  # of all curves
    areas: int
    lines: int
    marks: int
    labels: int


SHOWN = {
    "current": Shown(curves=5, dashed=1, points=374, areas=16, lines=129, marks=30, labels=163),
    "speed": Shown(curves=8, dashed=2, points=2324, areas=19, lines=142, marks=24, labels=156),
    "position": Shown(curves=8, dashed=2, points=3750, areas=11, lines=152, marks=18, labels=138),
}


class BareWindow(QWidget):
    """Paints as much as a loop's window shows, and nothing is computed or decided for it."""

    def __init__(self, shown: Shown) -> None:
        super().__init__()
        self._shown, self._at = shown, 0
        x = np.linspace(0.0, 1.0, shown.points // shown.curves)
        shapes = [np.column_stack([1280 * x, 400 + 9 * n * np.sin(9 * x + n)])
                  for n in range(shown.curves)]  # fmt: skip
        self._shapes = [QPolygonF([QPointF(a, b) for a, b in s.tolist()]) for s in shapes]

    def shift(self, at: int) -> None:
        """Repaint everything a little further on."""
        self._at = at
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.fillRect(self.rect(), QColor("white"))
        for n, shape in enumerate(self._shapes):
            dashed = n < self._shown.dashed
            style = Qt.PenStyle.DashLine if dashed else Qt.PenStyle.SolidLine
            p.setPen(QPen(QColor("black"), 1.6, style))
            p.drawPolyline(shape.translated(0.0, self._at % 7 + n))
        p.setPen(QPen(QColor("black"), 1.0))
        for n in range(self._shown.lines):
            p.drawLine(QPointF(20 + 8 * n, 100 + self._at % 7), QPointF(20 + 8 * n, 300))
        for n in range(self._shown.areas):
            p.drawConvexPolygon(QPolygonF([QPointF(9 + 60 * n, 9), QPointF(9, 20), QPointF(20, 9)]))
        for n in range(self._shown.marks):
            p.drawEllipse(QPointF(20 + 40 * n, 300 + self._at % 7), 5.0, 5.0)
        for n in range(self._shown.labels):
            text = f"{n * 7.3 + self._at * 0.1:.1f} Hz"
            p.drawText(QPointF(20 + 120 * (n % 10), 40 + 48 * (n // 10)), text)


_BARE = """
import time, sys; begun = time.perf_counter()
import numpy as np, pyqtgraph as pg
from PySide6.QtWidgets import QApplication, QMainWindow
qt = QApplication([]); w = QMainWindow(); p = pg.PlotWidget(); p.plot(np.arange(100.0))
w.setCentralWidget(p); w.resize(1280, 800); w.show()
for _ in range(3): qt.processEvents()
w.grab(); print(time.perf_counter() - begun)
"""
_OURS = """
import time, sys; begun = time.perf_counter()
import gc; gc.disable()  # as `oarlock` does until the window stands
from pathlib import Path
from oarlock.ui.frame.app import Application, application
from oarlock.ui.kit import theme as look
qt = application(); look.load_fonts()
a = Application(Path(sys.argv[1])); a.window.resize(1280, 800); a.window.show()
for _ in range(3): qt.processEvents()
a.window.grab(); print(time.perf_counter() - begun)
a.close()
"""


def start(*, short: bool = False) -> list[Row]:
    # Installed packages come with their byte code; ours must be allowed to write its own.
    env = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}
    with tempfile.TemporaryDirectory() as folder:
        project = make_demo(Path(folder))

        def once(program: str) -> float:
            command = [sys.executable, "-c", program, str(project)]
            ran = subprocess.run(command, capture_output=True, text=True, check=True, env=env)
            return float(ran.stdout.split()[0])

        once(_BARE), once(_OURS)  # the disk's cache
        pairs = [(once(_BARE), once(_OURS)) for _ in range(1 if short else 7)]
    bare, ours = (min(column) for column in zip(*pairs, strict=True))
    return [Row("window usable after start, over a bare window with a plot", ours / bare, 1.5, "×")]


def link(*, short: bool = False) -> list[Row]:
    drive = PracticeProcess()
    made = CanopenLink(drive.channel)
    try:
        key = ["Current controller.Kp d"]
        begun = time.perf_counter()
        many = 100 if short else 2000
        for _ in range(many):
            made.read(key)
        reads = many / (time.perf_counter() - begun)
        plan = Plan(
            name="hold",
            steps=(Step(duration=4096 * 62.5e-6, i_d=1.0),),
            channels=("t", "ia", "ib", "ic", "id", "iq", "vd", "vq"),
            limits=Limits(current=8.0, speed=10.0, travel=1.0, time=5.0),
            gains=gentle_gains(the_axis(), 800.0),
        )
        record = play(plan, the_axis(), made, settings={}, cancel=Cancel())
        if record.ended != "done":
            raise LinkTimeout(f"the drive {record.ended}", place=made.name)
        times = []
        for _ in range(3):
            begun = time.perf_counter()
            made.upload(4096, 8, lambda _f, _d: None, Cancel())
            times.append(time.perf_counter() - begun)
        load = practice_load(made, drive.pid, plan)
    finally:
        made.close()
        drive.stop()
    return [
        Row("parameters read over the link", reads, 2000.0, "1/s", at_least=True),
        Row("upload of 8 x 4096 float32", min(times), 1.5, "s"),
        Row("practice drive at 16 kHz, share of one core", 100 * load, 25.0, "%"),
    ]


def practice_load(made: CanopenLink, pid: int, plan: Plan) -> float:
    """Return the drive's share of a core while it holds a current in real time."""
    from dataclasses import replace

    long = replace(
        plan,
        steps=(Step(duration=3.0, i_d=1.0),),
        decimation=16,
    )

    def seconds() -> float:
        fields = Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()
        return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")

    before, begun = seconds(), time.perf_counter()
    record = play(long, the_axis(), made, settings={}, cancel=Cancel())
    used, passed = seconds() - before, time.perf_counter() - begun
    if record.ended != "done" or passed > 5.0:  # a busy machine: there is no share to tell
        return math.nan
    return used / passed


_JOB = """
import resource, sys, os
from pathlib import Path
from oarlock.demo.job import run_job
run_job(Path(sys.argv[1]), lambda _text: None)
from oarlock.ui.frame.screenshots import take_screenshots
take_screenshots(Path(sys.argv[1]) / 'river-survey.oarlock', Path(sys.argv[1]))
print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024)
"""


def memory(*, short: bool = False) -> list[Row]:
    if short:
        return []  # the headless demo runs by itself
    with tempfile.TemporaryDirectory() as folder:
        command = [sys.executable, "-c", _JOB, str(Path(folder) / "out")]
        ran = subprocess.run(command, capture_output=True, text=True, check=True)
    megabytes = float(ran.stdout.split()[-1])
    return [Row("resident memory after the demo's job with its window", megabytes, 400.0, "MB")]


READER = """
import resource, sys, time
from pathlib import Path
import numpy as np
from oarlock.records.csv_file import read_record
path, ours = Path(sys.argv[1]), sys.argv[2] == "ours"
before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
begun = time.perf_counter()
if ours:
    read_record(path)
else:
    np.loadtxt(path, delimiter=",", skiprows=3, comments=None)
spent = time.perf_counter() - begun
print(spent, (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) * 1024)
"""


def reader(*, short: bool = False) -> list[Row]:
    """A recording of ten million rows: time against numpy's text reader, memory against arrays."""
    rows = 200_000 if short else 10_000_000
    rng = np.random.default_rng(0)
    block = "\n".join(
        f"{k * 1e-4:.4f},{a:.6g},{b:.6g}" for k, (a, b) in enumerate(rng.normal(size=(100_000, 2)))
    )
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "long.csv"
        with path.open("w") as file:
            file.write('# experiment = "flux"\n# sample_time = 1e-4\nt [s],vab [V],iq [A]\n')
            for _ in range(rows // 100_000):
                file.write(block + "\n")
        told = {}
        for which in ("numpy", "ours"):
            out = subprocess.run([sys.executable, "-c", READER, str(path), which],
                                 capture_output=True, text=True, check=True).stdout  # fmt: skip
            told[which] = tuple(float(word) for word in out.split())
    arrays = rows * 3 * 8
    return [
        Row("reading 10 million rows, over numpy's reader", told["ours"][0] / told["numpy"][0],
            3.0, "×"),
        Row("  its memory over the arrays", told["ours"][1] / arrays, 3.0, "×"),
    ]  # fmt: skip


def main(*, short: bool = False) -> int:
    """Measure everything; return 1 where a bar was missed."""
    print(f"{'':60}{'measured':>10}{'bar':>12}")
    missed = 0
    for measure in (analysis, drag, start, link, memory, reader):
        for row in measure(short=short):
            sign = "≥" if row.at_least else "≤"
            verdict = "" if row.holds else "  MISSED"
            missed += not row.holds
            bar = f"{sign} {row.bar:g} {row.unit}"
            print(f"{row.name:60}{row.value:10.3g}{bar:>12}{verdict}", flush=True)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(f"{'(this benchmark itself used)':60}{peak:10.3g}{'MB':>12}")
    return 1 if missed else 0


if __name__ == "__main__":
    sys.exit(main())
