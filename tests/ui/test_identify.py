"""The Identify stage: a run through all quantities, its pauses, and recordings from elsewhere."""

import math
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt
from pytestqt.qtbot import QtBot

from oarlock.practice.truth import draw
from oarlock.records.quantity import KEYS
from oarlock.ui.frame.app import Application
from oarlock.ui.stages.identify.import_panel import ImportPanel
from oarlock.ui.stages.identify.stage import IdentifyStage
from oarlock.views.identify import resistances
from tests.conftest import wait
from tests.model_link import ModelLink


@pytest.fixture
def bench(opened: Application) -> Iterator[Application]:
    """The demo's window on a simulated drive without a process: faster than real time."""
    plant = draw("winch", 0)
    opened.bench._link = ModelLink(plant, tick=1.0)
    opened.bench._latest = opened.bench.live
    opened.bench._silences = -10_000
    opened.bench.changed.emit()
    opened.window.show_stage("identify")
    yield opened
    opened.bench._link = None


def stage_of(made: Application) -> IdentifyStage:
    stage = made.window.stage("identify")
    assert isinstance(stage, IdentifyStage)
    return stage


def press(qtbot: QtBot, widget: object) -> None:
    qtbot.mouseClick(widget, Qt.MouseButton.LeftButton)


def test_a_sequence_pauses_skips_and_goes_on(qtbot: QtBot, bench: Application) -> None:
    stage, session = stage_of(bench), bench.session
    press(qtbot, stage.measure_all)
    assert "May the shaft turn?" in stage.note.text()
    press(qtbot, stage.measure_all)
    assert session.screen.may_turn is True
    assert stage.measure_all.text() == "Pause after this"
    press(qtbot, stage.measure_all)
    wait(qtbot, lambda: not bench.bench.busy, 60.0)
    assert stage.sequence is not None
    assert list(stage.sequence.done) == ["resistance"]
    assert stage.chosen == "inductance_d"
    assert stage.skip.isVisible()
    press(qtbot, stage.skip)
    press(qtbot, stage.skip)
    assert stage.chosen == "flux"
    assert stage.measure_all.text() == "Go on"
    press(qtbot, stage.measure_all)
    press(qtbot, stage.measure_all)  # and pause after the flux
    wait(qtbot, lambda: not bench.bench.busy, 60.0)
    assert list(stage.sequence.done) == ["resistance", "flux"]
    assert session.axis.is_adopted("machine.psi")
    assert not session.axis.is_adopted("machine.Ld")
    # Once more by itself: repeats lie over one another, and are held against one another.
    stage.choose("flux")
    stage.run()
    wait(qtbot, lambda: not bench.bench.busy, 60.0)
    assert len(session.now.findings("flux")) == 2
    assert "2 runs agree" in stage.checks.accessibleName()


@pytest.mark.parametrize("size", [(1024, 700), (1280, 800)])
def test_what_moves_stands_whole_before_it_moves(
    qtbot: QtBot, bench: Application, size: tuple[int, int]
) -> None:
    """The longest announcements, as they are and as a question."""
    stage = stage_of(bench)
    bench.window.resize(*size)
    qtbot.wait(30)
    said = []
    for key in ("flux", "inertia"):
        stage.choose(key)
        for asked in (False, True):
            if asked:
                press(qtbot, stage.measure if key == "flux" else stage.measure_all)
                assert "May the shaft turn?" in stage.note.text()
            qtbot.wait(10)
            note = stage.note
            assert note.heightForWidth(note.width()) <= note.height()
            assert note.geometry().bottom() < stage.height()
            assert stage.measure.geometry().bottom() < note.y()
            assert stage.checks.geometry().bottom() < stage.measure.y()
            assert stage.evidence.height() > 60
            said.append(note.text())
    assert any("more gently from there" in text for text in said)
    assert bench.session.runs == ()


def test_a_locked_shaft_stops_the_sequence_and_nothing_is_adopted(
    qtbot: QtBot, bench: Application
) -> None:
    from dataclasses import replace

    stage, session = stage_of(bench), bench.session
    bench.bench._link = ModelLink(replace(draw("winch", 0), brake_stuck=True), tick=1.0)
    session.show(may_turn=True)
    stage.choose("inertia")
    stage.run()
    wait(qtbot, lambda: not bench.bench.busy, 60.0)
    assert not session.axis.is_adopted("machine.inertia")
    assert not stage.adopt.isVisible()
    assert not stage.reason.isVisible()  # there is no number to adopt
    assert stage.answer == "Inertia does not hold, yet"
    assert "locked" in stage.checks.accessibleName()


def test_the_windings_temperature_is_noted_and_refused(qtbot: QtBot, bench: Application) -> None:
    stage, session = stage_of(bench), bench.session
    stage.winding.setText("very warm")
    stage.winding.editingFinished.emit()
    assert session.screen.winding is None
    stage.winding.setText("34 °C")
    stage.winding.editingFinished.emit()
    assert session.screen.winding == 34.0
    stage.run()
    wait(qtbot, lambda: not bench.bench.busy, 60.0)
    run, finding = session.now.finding("resistance") or (None, None)
    assert run is not None
    assert finding is not None
    assert run.settings["winding"] == 34.0
    session.adopt(finding, run)
    cold = session.axis.machine.R.value / (1 + 0.00393 * 14.0)
    assert resistances(session.now) == pytest.approx((cold, 0.0))
    session.enter("machine.max_temperature", "130 °C")
    hot = cold * (1 + 0.00393 * 110.0)
    assert resistances(session.now) == pytest.approx((cold, hot))
    assert float(stage._hot.value) == pytest.approx(hot, rel=0.01)


def spin(folder: Path, scale: float = 1.0) -> Path:
    t = np.arange(0, 0.4, 1e-4)
    volts = scale * math.sqrt(3) * 0.155 * 300.0 * np.cos(300.0 * t)
    path = folder / "spin.csv"
    lines = [f"{1e3 * a:.4f};{1e3 * b:.3f}" for a, b in zip(t, volts, strict=True)]
    path.write_text("\n".join(["T (ms);CH1 (mV)", *lines]) + "\n")
    return path


def panel_on(stage: IdentifyStage, path: Path) -> ImportPanel:
    panel = stage.open_import(path)
    assert panel is not None
    return panel


def test_a_recording_lands_where_an_experiment_does(
    qtbot: QtBot, opened: Application, tmp_path: Path
) -> None:
    opened.window.show_stage("identify")
    stage, session = stage_of(opened), opened.session
    stage.choose("flux")
    panel = panel_on(stage, spin(tmp_path))
    column, unit, _ = panel.picks["vab"]
    assert (column.currentText(), unit.currentText()) == ("CH1", "mV")
    assert panel.message.text().startswith("Read as: the voltage between two open terminals")
    press(qtbot, panel.read)
    wait(qtbot, lambda: session.now.finding("flux") is not None)
    found = session.now.finding("flux")
    assert found is not None
    assert found[0].title == "from file spin.csv"
    assert found[1].estimates["machine.psi"].value == pytest.approx(0.155, rel=1e-3)
    assert stage.adopt.isVisible()
    press(qtbot, stage.adopt)
    assert session.axis.machine.psi.value == pytest.approx(0.155, rel=1e-3)


def test_the_preview_says_what_is_missing(
    qtbot: QtBot, opened: Application, tmp_path: Path
) -> None:
    opened.window.show_stage("identify")
    stage = stage_of(opened)
    stage.choose("flux")
    panel = panel_on(stage, spin(tmp_path))
    panel.quantity.setCurrentIndex(KEYS.index("inertia"))
    assert not panel.read.isEnabled()
    assert "inertia needs" in panel.message.text()
    panel.quantity.setCurrentIndex(KEYS.index("inductance_d"))
    panel.frequency.setText("often")
    panel.picks["i"][0].setCurrentText("T")
    press(qtbot, panel.read)
    assert panel.isVisible()
    assert "often" in panel.message.text()
    panel.reject()
    assert stage.open_import(tmp_path / "gone.csv") is None


def test_a_slip_in_a_recording_is_asked_about(
    qtbot: QtBot, opened: Application, tmp_path: Path
) -> None:
    opened.window.show_stage("identify")
    stage, session = stage_of(opened), opened.session
    stage.choose("flux")
    panel = panel_on(stage, spin(tmp_path, 1 / math.sqrt(3)))
    press(qtbot, panel.read)
    wait(qtbot, lambda: session.now.finding("flux") is not None)
    assert not session.axis.is_adopted("machine.psi")
    assert "line to line" in stage.checks.accessibleName()
    assert stage.reason.isVisible()
    again = panel_on(stage, spin(tmp_path, 1 / math.sqrt(3)))
    again.phase.setChecked(True)
    press(qtbot, again.read)
    wait(qtbot, lambda: len(session.now.findings("flux")) == 2)
    assert stage.adopt.isVisible()
