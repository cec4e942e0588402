"""The demo's job done by hand in the real window: machine, identify, loop, verify, handover."""

import sys
import time
from pathlib import Path

import pytest
from PySide6.QtCore import QPoint, Qt
from pytestqt.qtbot import QtBot

from oarlock.session.session import Session
from oarlock.store.project import Project
from oarlock.ui.frame.app import Application, application
from oarlock.ui.stages.current.stage import CurrentStage
from oarlock.ui.stages.handover.stage import HandoverStage
from oarlock.ui.stages.identify.stage import IdentifyStage
from oarlock.ui.stages.machine.stage import MachineStage
from oarlock.views.rail import stages
from oarlock.views.stage import State
from tests.conftest import CALM, wait
from tests.forks import end, python


def machine(opened: Application) -> MachineStage:
    stage = opened.window.stage("machine")
    assert isinstance(stage, MachineStage)
    return stage


def identify(opened: Application) -> IdentifyStage:
    stage = opened.window.stage("identify")
    assert isinstance(stage, IdentifyStage)
    return stage


def current(opened: Application) -> CurrentStage:
    stage = opened.window.stage("current")
    assert isinstance(stage, CurrentStage)
    return stage


def handover(opened: Application) -> HandoverStage:
    stage = opened.window.stage("handover")
    assert isinstance(stage, HandoverStage)
    return stage


def state(session: Session, key: str) -> State:
    return next(stage.state for stage in stages(session.now) if stage.key == key)


def rests(stage: IdentifyStage) -> bool:
    """Whether the sequence is at its end, or waits where a quantity did not hold."""
    return stage.sequence is None or stage.sequence.paused


@pytest.mark.long
@pytest.mark.timeout(500)
def test_from_datasheet_to_written_header(qtbot: QtBot, live: Application) -> None:
    window, session = live.window, live.session
    rail = window.rail

    # Identify all six, each adopted before the next one needs it.
    qtbot.mouseClick(rail.item("identify"), Qt.MouseButton.LeftButton)
    stage = identify(live)
    assert stage.isVisible()
    assert stage.answer == "Nothing measured yet"
    assert "At most 12.0 A" in stage.note.text()
    # The shaft will turn in three of them: that is asked once.
    qtbot.mouseClick(stage.measure_all, Qt.MouseButton.LeftButton)
    assert "May the shaft turn?" in stage.note.text()
    assert not live.bench.busy
    for _ in range(3):
        qtbot.mouseClick(stage.measure_all, Qt.MouseButton.LeftButton)
        assert not stage.measure.isEnabled()  # one at a time
        wait(qtbot, lambda: window.top_bar.cancel_button.isVisible())
        wait(qtbot, lambda: rests(stage) and not live.bench.busy, 90.0)
        if "heartbeat" not in session.runs[-1].ended:  # else this machine stood still
            break
    measured = len(session.runs)
    assert stage.answer == "All six quantities hold"
    assert state(session, "identify") is State.VALID
    assert session.axis.machine.R.adopted is not None

    # Current loop: type a crossover, then run the step that verifies it.
    qtbot.keyClick(window, Qt.Key.Key_4, Qt.KeyboardModifier.ControlModifier)
    loop = current(live)
    assert loop.isVisible()
    entry = next(iter(loop._numbers.given.values())).entry
    entry.setFocus()
    entry.selectAll()
    qtbot.keyClicks(entry, "700")
    qtbot.keyClick(entry, Qt.Key.Key_Return)
    assert loop.answer.startswith("700 Hz, with")
    qtbot.keyClick(window, Qt.Key.Key_F5)
    wait(qtbot, lambda: len(session.runs) == measured + 1 and not live.bench.busy)
    assert session.runs[-1].kind == "current step"
    assert session.now.verification("q") is not None
    assert state(session, "current") is State.VALID
    assert window.logbook.model.rowCount() == measured + 1

    # Handover: prove, then write.
    qtbot.mouseClick(rail.item("handover"), Qt.MouseButton.LeftButton)
    firm = handover(live)
    assert firm.shown is not None
    path = firm.shown.path
    assert path is not None
    assert path.parent == session.path.parent
    before = path.read_bytes()
    assert not firm.write.isEnabled()
    qtbot.mouseClick(firm.prove, Qt.MouseButton.LeftButton)
    wait(qtbot, lambda: not firm.proving)
    assert firm.shown.proof is not None
    assert firm.shown.proof.exact
    assert path.read_bytes() == before  # nothing is written before it is seen
    qtbot.mouseClick(firm.write, Qt.MouseButton.LeftButton)
    assert path.read_bytes() == firm.shown.patch.after if firm.shown.patch else False
    assert state(session, "handover") is State.VALID
    assert firm.answer.startswith("Yes: the file holds exactly")


def test_the_machine_is_entered_as_printed(qtbot: QtBot, opened: Application) -> None:
    opened.window.show_stage("machine")
    stage = machine(opened)
    row = stage.rows["machine.R"]
    before = stage.answer
    entry = row.entry
    entry.setFocus()
    entry.selectAll()
    qtbot.keyClicks(entry, "3.0 ohm l-l")
    qtbot.keyClick(entry, Qt.Key.Key_Return)
    assert opened.session.axis.machine.R.value == 1.5
    assert stage.answer != before  # the map was redrawn
    entry.selectAll()
    qtbot.keyClicks(entry, "3 furlongs")
    qtbot.keyClick(entry, Qt.Key.Key_Return)
    assert "not a unit" in row.error
    assert stage._refusal.isVisible()
    assert opened.session.axis.machine.R.value == 1.5
    qtbot.keyClick(entry, Qt.Key.Key_Escape)
    entry.selectAll()
    qtbot.keyClicks(entry, "1.7 ohm l-l")
    qtbot.keyClick(entry, Qt.Key.Key_Return)
    assert row.error == ""
    qtbot.keyClick(opened.window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert opened.session.axis.machine.R.value == 1.5
    assert entry.text() == "3.0 ohm l-l"
    qtbot.keyClick(
        opened.window,
        Qt.Key.Key_Z,
        Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier,
    )
    assert opened.session.axis.machine.R.value == 0.85


def test_one_speed_cursor_runs_through_all_plots(qtbot: QtBot, opened: Application) -> None:
    opened.window.show_stage("machine")
    stage = machine(opened)
    plot = stage.torque
    spot = QPoint(round(plot.px(1000.0)), round(plot.area.center().y()))
    qtbot.mouseClick(plot, Qt.MouseButton.LeftButton, pos=spot)
    assert stage.shown is not None
    assert stage.shown.omega * 60 / 6.2832 == pytest.approx(1000.0, abs=15.0)
    stage.setFocus()
    before = stage.shown.omega
    qtbot.keyClick(stage, Qt.Key.Key_Right)
    assert stage.shown.omega > before
    qtbot.keyClick(stage, Qt.Key.Key_Left, Qt.KeyboardModifier.ShiftModifier)
    assert stage.shown.omega < before
    assert "electrical frequency" in stage.read_out().caption
    assert opened.session.screen.map_omega == stage.shown.omega


def test_the_crossover_is_dragged_on_the_strip_and_in_the_plot(
    qtbot: QtBot, opened: Application
) -> None:
    opened.window.show_stage("current")
    loop, strip = current(opened), opened.window.strip
    assert loop.shown is not None

    def at(hertz: float) -> QPoint:
        return QPoint(round(strip.x_of(hertz)), 40)

    qtbot.mousePress(strip, Qt.MouseButton.LeftButton, pos=at(849.0))
    for hertz in (800, 700, 600):
        qtbot.mouseMove(strip, at(hertz))
        assert loop.shown.crossover == pytest.approx(hertz, rel=0.02)
        assert opened.session.dragging
    qtbot.mouseRelease(strip, Qt.MouseButton.LeftButton, pos=at(600.0))
    assert not opened.session.dragging
    assert loop.answer.startswith("60")
    assert opened.session.undo_label.startswith("Set crossover")
    plot = loop.gain_plot
    here = QPoint(round(plot.at(loop.shown.crossover)), 60)
    there = QPoint(round(plot.at(1200.0)), 60)
    qtbot.mousePress(plot, Qt.MouseButton.LeftButton, pos=here)
    qtbot.mouseMove(plot, there)
    assert loop.shown.crossover == pytest.approx(1200.0, rel=0.02)
    assert "brisk" in loop.answer
    qtbot.mouseRelease(plot, Qt.MouseButton.LeftButton, pos=there)
    # However far it is pulled, 30° of margin stay.
    loop.drag_to(7000.0)
    assert loop.shown.phase_margin == pytest.approx(30.0, abs=0.01)
    opened.session.end_drag("x", keep=False)
    qtbot.keyClick(opened.window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert loop.shown.crossover == pytest.approx(600.0, rel=0.02)
    strip.setFocus()
    before = loop.shown.crossover
    qtbot.keyClick(strip, Qt.Key.Key_Right)
    assert loop.shown.crossover == pytest.approx(1.01 * before, rel=1e-6)
    qtbot.keyClick(strip, Qt.Key.Key_Left, Qt.KeyboardModifier.ShiftModifier)
    assert loop.shown.crossover == pytest.approx(1.01 * before / 1.1, rel=1e-6)


def test_the_frequency_plots_stand_under_their_part_of_the_strip(
    qtbot: QtBot, opened: Application
) -> None:
    window = opened.window
    window.show_stage("current")
    loop = current(opened)
    for size in ((1280, 800), (1600, 1000), (1024, 700)):
        window.resize(*size)
        qtbot.waitUntil(lambda s=size: window.width() == s[0])  # type: ignore[misc]
        qtbot.wait(20)
        for plot in (loop.gain_plot, loop.phase_plot):
            for hertz in (100.0, 849.0, 8000.0):
                spot = plot.mapTo(window, QPoint(0, 0)).x() + plot.at(hertz)
                assert spot == pytest.approx(window.strip.x_of(hertz), abs=1.5)


def test_a_figure_that_cannot_be_is_refused_in_place(qtbot: QtBot, opened: Application) -> None:
    opened.window.show_stage("current")
    loop = current(opened)
    rows = list(loop._numbers.given.values())
    before = opened.session.axis
    for row, text, words in (
        (rows[1], "9000", "at most 3871 Hz"),
        (rows[2], "12", "30° to 89°"),
        (rows[3], "soon", "not a number"),
    ):
        row.entry.setFocus()
        row.entry.selectAll()
        qtbot.keyClicks(row.entry, text)
        qtbot.keyClick(row.entry, Qt.Key.Key_Return)
        assert words in loop._numbers._message.text()
        assert loop._numbers._message.isVisible()
        qtbot.keyClick(row.entry, Qt.Key.Key_Escape)
    assert opened.session.axis == before


def test_a_step_that_the_bus_cuts_is_recognised_and_said(qtbot: QtBot, live: Application) -> None:
    live.window.show_stage("current")
    loop = current(live)
    loop.verify.size_entry.setFocus()
    loop.verify.size_entry.selectAll()
    qtbot.keyClicks(loop.verify.size_entry, "6")
    qtbot.keyClick(loop.verify.size_entry, Qt.Key.Key_Return)
    assert "the bus cuts 6 A" in loop.reasons[1]
    qtbot.mouseClick(loop.verify.start, Qt.MouseButton.LeftButton)
    wait(qtbot, lambda: len(live.session.runs) == 1 and not live.bench.busy)
    assert live.session.runs[0].figures["cut"] == 1.0
    assert "The bus, not the gains" in loop.reasons[0]
    assert state(live.session, "current") is State.ATTENTION


def test_a_failed_check_needs_a_reason(qtbot: QtBot, live: Application) -> None:
    live.session.enter("machine.R", "0.86 ohm l-l")  # a line-to-line value for a phase one
    live.window.show_stage("identify")
    stage = identify(live)
    qtbot.mouseClick(stage.measure, Qt.MouseButton.LeftButton)
    wait(qtbot, lambda: len(live.session.runs) == 1 and not live.bench.busy)
    assert stage.answer == "R does not hold, yet"
    assert not stage.adopt.isVisible()
    assert stage.reason.isVisible()
    qtbot.keyClick(stage.reason, Qt.Key.Key_Return)  # no reason: nothing happens
    assert live.session.axis.machine.R.adopted is None
    qtbot.keyClicks(stage.reason, "entry was line to line")
    qtbot.keyClick(stage.reason, Qt.Key.Key_Return)
    assert live.session.axis.machine.R.adopted is not None
    assert "entry was line to line" in live.session.runs[0].note


@pytest.mark.long
@pytest.mark.timeout(300)
def test_a_killed_window_comes_back_as_it_was(demo_path: Path, tmp_path: Path) -> None:
    """kill -9 in the middle of work; everything that was on screen is there again."""
    program = f"""
import sys, time
from pathlib import Path
from oarlock.ui.frame.app import Application, application
from oarlock.ui.kit import theme as look
qt = application(); look.load_fonts()
a = Application(Path({str(demo_path)!r})); a.window.resize(1280, 800)
a.start(practice=False)
a.bench.connect_drive({" ".join(("practice", *CALM))!r})
def pump(until, seconds=30):
    end = time.monotonic() + seconds
    while not until() and time.monotonic() < end:
        qt.processEvents(); time.sleep(0.005)
pump(lambda: a.bench.connected)
a.session.enter('machine.R', '1.70 ohm l-l')
a.window.show_stage('current')
stage = a.window.stage('current')
stage.drag_to(640.0); stage.end_drag()
stage.run()
pump(lambda: a.session.runs)
a.session.change_run(1, pinned=True, note='before the kill')
pump(lambda: False, 0.9)
print(stage.answer, flush=True)
pump(lambda: False, 60)
"""
    child = python("-c", program)
    assert child.stdout is not None
    answer = child.stdout.readline().decode().strip()
    end(child)
    assert answer.startswith("640 Hz")
    session = Session(Project.open(demo_path), lambda call: call())
    assert session.axis.machine.R.best.source == "1.70 ohm l-l"
    assert session.axis.target.value == pytest.approx(6.2832 * 640.0, rel=1e-3)
    assert session.screen.stage == "current"
    (run,) = session.runs
    assert (run.pinned, run.note) == (True, "before the kill")
    assert session.record(run.id) is not None
    assert run in session.wanted_readings()
    session.close()
    time.sleep(0.1)


def test_a_job_that_computes_gives_the_interpreter_back_soon(qtbot: QtBot) -> None:
    """Painting gives it away hundreds of times: what it waits for each time adds up."""
    application()
    assert sys.getswitchinterval() <= 2e-4
