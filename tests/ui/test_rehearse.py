"""The Rehearse stage in the real window: simulated, read by a cursor, zoomed, refused, stale."""

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from benchmarks.machines import sensed
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from oarlock.control.position_design import design_position
from oarlock.control.speed_design import usual_speed
from oarlock.experiments.loops.speed_test import SpeedStep, usual_step
from oarlock.machine.axis_file import format_axis
from oarlock.machine.speed_loop import KEY, SpeedGains
from oarlock.practice.truth import draw
from oarlock.records import Run
from oarlock.rehearse.bins import COLUMNS
from oarlock.rehearse.run import rehearse
from oarlock.rehearse.scenario import Control
from oarlock.session.new_project import hollow
from oarlock.session.perform import perform
from oarlock.store.project import Project
from oarlock.ui.frame.app import Application
from oarlock.ui.stages.rehearse.pictures import _apart
from oarlock.ui.stages.rehearse.stage import RehearseStage
from oarlock.views.rail import stages
from oarlock.views.rehearsal import scenario_of
from oarlock.views.rehearsal_drawn import picked
from oarlock.views.rehearse import usual_scenario
from oarlock.views.stage import State
from tests.conftest import wait
from tests.model_link import Hasty, ModelLink
from tests.speed_axis import known_winch, tuned_winch
from tests.ui.conftest import window_on


@pytest.fixture
def tuned(qtbot: QtBot, demo_path: Path) -> Iterator[Application]:
    """The demo's window with all loops of the winch tuned."""
    axis = tuned_winch()
    axis = axis.with_loop_gains("position", design_position(axis).gains)
    project = Project.open(demo_path)
    project.save_axis(axis.name, format_axis(axis), "tuned")
    project.close()
    yield from window_on(qtbot, demo_path)


def stage_of(opened: Application) -> RehearseStage:
    opened.window.show_stage("rehearse")
    stage = opened.window.current
    assert isinstance(stage, RehearseStage)
    return stage


def simulated(qtbot: QtBot, opened: Application) -> RehearseStage:
    stage = stage_of(opened)
    stage.run()
    wait(qtbot, lambda: stage.shown is not None and stage._working is None, 60.0)
    return stage


def rail_of(opened: Application) -> tuple[State, str]:
    found = next(s for s in stages(opened.session.now) if s.key == "rehearse")
    return found.state, found.line


def test_the_demos_lift(qtbot: QtBot, tuned: Application) -> None:
    assert rail_of(tuned)[0] is State.EMPTY
    stage = simulated(qtbot, tuned)
    assert stage.answer.startswith("It gets there, ")
    assert "% of the bus" in stage.reasons[0]
    assert stage.plots["asked"].isVisible()
    state, line = rail_of(tuned)
    assert state is State.VALID
    assert line.endswith("° behind")
    assert stage.came.rows["peak"].value != ""
    assert stage.read_out().unit == "Hz"


def test_one_cursor_and_one_range_for_all_plots(qtbot: QtBot, tuned: Application) -> None:
    stage = simulated(qtbot, tuned)
    assert stage.shown is not None
    assert stage._cursor == stage.shown.tightest
    plot = stage.plots["current"]
    qtbot.mouseClick(plot, Qt.MouseButton.LeftButton,
                     pos=QPoint(round(plot.px(1.0)), round(plot.area.center().y())))  # fmt: skip
    assert stage._cursor == pytest.approx(1.0, abs=0.02)
    assert all(p._cursor == stage._cursor for p in stage.plots.values())
    assert "at 1.0" in tuned.window.strip.accessibleDescription()  # its read-out goes with it
    last = stage.plots["volts"]
    qtbot.keyClick(last, Qt.Key.Key_Right)
    assert stage._cursor > 1.0
    qtbot.keyClick(last, Qt.Key.Key_Plus)
    spans = {p.x_range for p in stage.plots.values()}
    assert len(spans) == 1
    low, high = spans.pop()
    assert high - low == pytest.approx(0.8 * 4.0, rel=0.01)
    qtbot.keyClick(last, Qt.Key.Key_0)
    assert last.x_range[1] == pytest.approx(4.0, abs=0.01)


def test_a_text_that_makes_no_sense_is_told_below_it(qtbot: QtBot, tuned: Application) -> None:
    stage = stage_of(tuned)
    stage.scenario.text.setPlainText('duration = "1 s"\n[[points]]\nby = "fast"')
    stage.run()
    assert "scenario, point 1" in stage.scenario.trouble.text()
    assert stage.shown is None
    stage.scenario.text.setPlainText(
        'control = "speed"\nduration = "1 s"\n[[points]]\nspeed = "9000 rpm"'
    )
    stage.run()
    wait(qtbot, lambda: "above the top speed" in stage.scenario.trouble.text())


def test_it_is_stale_when_gains_change_and_kept_over_a_restart(
    qtbot: QtBot, tuned: Application
) -> None:
    simulated(qtbot, tuned)
    tuned.session.enter("machine.R", "2.4 ohm l-l")
    assert rail_of(tuned)[0] is State.STALE
    tuned.session.undo()
    assert rail_of(tuned)[0] is State.VALID


def test_what_changes_while_it_runs_makes_it_stale(qtbot: QtBot, tuned: Application) -> None:
    stage = stage_of(tuned)
    stage.run()
    tuned.session.enter("machine.R", "2.4 ohm l-l")  # before its end can have been taken
    wait(qtbot, lambda: stage.shown is not None and stage._working is None, 60.0)
    assert rail_of(tuned)[0] is State.STALE
    assert "simulate again" in stage.note.text()


def test_it_can_be_stopped(qtbot: QtBot, tuned: Application) -> None:
    stage = stage_of(tuned)
    text = stage.scenario.text.toPlainText().replace('"4 s"', '"600 s"')
    stage.scenario.text.setPlainText(text)
    stage.run()
    qtbot.wait(50)
    stage.run()
    wait(qtbot, lambda: stage._working is None, 20.0)
    assert stage.shown is None


def test_on_many_machines(
    qtbot: QtBot, tuned: Application, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("oarlock.ui.stages.rehearse.stage._MANY", 4)
    stage = stage_of(tuned)
    stage.scenario.text.setPlainText(
        'control = "speed"\nduration = "0.2 s"\n[[points]]\nspeed = "300 rpm"'
    )
    stage.vary.click()
    wait(qtbot, lambda: stage._working is None, 120.0)
    assert stage.answer == "All 4 machines come to the end"
    assert stage.note.text().startswith("Dotted: how far they reach")
    assert stage.shown is not None
    drawn = [item.x.size for item in stage.plots["asked"]._bands[:2]]
    assert min(drawn) > 100
    assert stage._within._done.value == "4"
    assert "inertia" in stage._within.bars.accessibleName()
    heading = stage._within._block._heading
    assert "±2" in heading._hint
    stage.scenario.text.setPlainText(stage.scenario.text.toPlainText().replace("300", "200"))
    assert "stale" in heading._hint
    stage.scenario.text.setPlainText(stage.scenario.text.toPlainText().replace("200", "300"))
    assert "±2" in heading._hint
    tuned.session.enter("machine.R", "2.4 ohm l-l")
    assert "stale" in heading._hint
    tuned.session.undo()
    assert "±2" in heading._hint
    stage.run()
    wait(qtbot, lambda: stage._working is None, 60.0)
    assert stage.answer == stage.shown.answer  # of one machine again
    assert not stage.plots["asked"]._spread


def test_files_in_and_out(qtbot: QtBot, tuned: Application, tmp_path: Path) -> None:
    stage = stage_of(tuned)
    path = tmp_path / "mine.toml"
    stage.scenario.save_file(path)
    assert "Lift" in path.read_text()
    path.write_text('control = "current"\nduration = "20 ms"\n[[points]]\ncurrent = "2 A peak"\n')
    stage.take_file(path)
    wait(qtbot, lambda: stage.shown is not None, 30.0)
    assert stage.shown is not None
    assert stage.shown.run.scenario.control is Control.CURRENT
    stage.take_file(tmp_path / "none.toml")
    assert "no such file" in stage.scenario.trouble.text()


def test_a_usual_scenario_for_each_loop_that_is_there() -> None:
    inner = known_winch()
    assert scenario_of(usual_scenario(inner)).control is Control.CURRENT
    speed = tuned_winch()
    assert scenario_of(usual_scenario(speed)).control is Control.SPEED
    full = speed.with_loop_gains("position", design_position(speed).gains)
    assert scenario_of(usual_scenario(full)).control is Control.POSITION
    assert scenario_of(usual_scenario(hollow("m"))).control is Control.CURRENT


def kept_run(opened: Application) -> Run:
    """A step of speed played on the winch and kept in the logbook, without a drive's process."""
    axis = opened.session.axis
    speed = usual_speed(axis)
    step = SpeedStep(speed=speed, amplitude=usual_step(axis, speed), repeats=4)
    plant = draw("winch", 0)
    done = perform(
        step, sensed(axis, plant), ModelLink(plant, seed=3), lambda _f, _d: None, Hasty()
    )
    return opened.session.keep(done)


def test_a_run_of_the_drive_over_its_simulation(qtbot: QtBot, tuned: Application) -> None:
    stage = stage_of(tuned)
    assert not any(link.isVisible() for link in stage.replays.links)
    assert stage.replays._none.isVisible()
    assert not stage.over.isEnabled()
    run = kept_run(tuned)
    stage.refresh()
    link = stage.replays.links[0]
    assert link.isVisible()
    assert link.text() == f"{run.id}  {run.title}"
    assert stage.over.text() == f"Over run {run.id}"
    stage.over.click()
    wait(qtbot, lambda: stage.replay_plots.shown is not None, 60.0)
    shown = stage.replay_plots.shown
    assert shown is not None
    assert stage.answer == shown.answer
    assert "from the model" in stage.reasons[0]
    assert stage.replay_plots.follows.isVisible()
    assert f"Run {run.id}" in stage.note.text()
    assert not stage.came.rows["top"].isVisible()  # figures of a scenario that was not simulated
    plot = stage.replay_plots.current
    qtbot.mouseClick(plot, Qt.MouseButton.LeftButton,
                     pos=QPoint(round(plot.px(0.02)), round(plot.area.center().y())))  # fmt: skip
    cursors = {p._cursor for p in (stage.replay_plots.follows, plot, stage.replay_plots.left)}
    assert len(cursors) == 1
    assert cursors.pop() == pytest.approx(0.02, abs=0.002)
    tuned.session.enter("machine.R", "2.4 ohm l-l")
    assert "changed since" in stage.note.text()
    tuned.session.undo()
    assert "changed since" not in stage.note.text()
    tuned.toggle_theme()  # a window in other colours shows it as well
    stage = stage_of(tuned)
    assert stage.replay_plots.shown is shown
    assert stage.answer == shown.answer
    assert stage.replay_plots.follows.isVisible()
    stage.run()  # back to the scenario
    wait(qtbot, lambda: stage.shown is not None and stage._working is None, 60.0)
    assert stage.came.rows["top"].isVisible()
    stage.replay_first()
    wait(qtbot, lambda: stage.replay_plots.shown is not None and stage._working is None, 60.0)
    assert not stage.came.rows["top"].isVisible()
    stage.run()
    wait(qtbot, lambda: stage.replay_plots.shown is None and stage._working is None, 60.0)
    before = stage.shown
    tuned.toggle_theme()
    stage = stage_of(tuned)
    assert stage.shown is before
    assert stage.plots["asked"].isVisible()
    assert "It gets there" in stage.answer
    assert stage.replay_plots.shown is None
    assert not stage.replay_plots.follows.isVisible()
    assert stage.plots["asked"].isVisible()


def test_labels_at_the_cursor_are_a_line_apart() -> None:
    assert _apart([50.0, 52.0], 26.0, 100.0) == [50.0, 64.0]
    assert _apart([52.0, 50.0], 26.0, 100.0) == [64.0, 50.0]
    assert _apart([98.0, 99.0], 26.0, 100.0) == [86.0, 100.0]
    assert _apart([10.0], 26.0, 100.0) == [26.0]
    assert _apart([40.0, 80.0], 26.0, 100.0) == [40.0, 80.0]


def looked(stage: RehearseStage) -> bool:
    return stage.closer.lens.shown is not None and not stage.closer.pending


def test_vectors_and_lens_at_the_cursor(qtbot: QtBot, tuned: Application) -> None:
    stage = simulated(qtbot, tuned)
    closer = stage.closer
    assert closer.vectors.isVisible()
    wait(qtbot, lambda: looked(stage), 20.0)
    first = closer.lens.shown
    assert first is not None
    assert first.begun == pytest.approx(stage._cursor, abs=3e-4)
    assert "switching adds ±" in closer.lens.accessibleName()
    assert "A rms; dead time" in closer.lens.toolTip()
    stage.move_cursor(0.45)  # on its way down
    assert closer.vectors.shown is not None
    assert closer.vectors.shown.at == 0.45
    assert stage.shown is not None
    volts = picked(stage.shown, 0.45)["volts"]
    assert abs(closer.vectors.shown.volts) == pytest.approx(volts, rel=0.05)
    wait(qtbot, lambda: closer.lens.shown is not first and looked(stage), 20.0)
    assert closer.lens.shown is not None
    assert closer.lens.shown.begun == pytest.approx(0.45, abs=3e-4)


def test_the_cursor_runs_through_what_is_shown(
    qtbot: QtBot, tuned: Application, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("oarlock.ui.stages.rehearse.closer._WHOLE", 0.6)
    stage = simulated(qtbot, tuned)
    for plot in stage.plots.values():
        plot.show_range(1.0, 1.5)
    qtbot.mouseClick(stage.closer.play, Qt.MouseButton.LeftButton)
    assert stage.closer.playing
    assert stage._cursor == 1.0  # from the left of what is shown
    wait(qtbot, lambda: stage._cursor > 1.2, 10.0)
    qtbot.mouseClick(stage.closer.play, Qt.MouseButton.LeftButton)
    assert not stage.closer.playing
    assert 1.2 < stage._cursor < 1.5
    qtbot.mouseClick(stage.closer.play, Qt.MouseButton.LeftButton)
    stage.closer.hide()
    assert not stage.closer.playing
    assert stage.closer.play.text() == "▸"
    stage.move_cursor(1.3)
    qtbot.mouseClick(stage.closer.play, Qt.MouseButton.LeftButton)
    wait(qtbot, lambda: not stage.closer.playing, 10.0)
    assert stage._cursor == 1.5


def test_a_switching_inverter_is_chosen_and_what_was_averaged_is_stale(
    qtbot: QtBot, tuned: Application
) -> None:
    stage = simulated(qtbot, tuned)
    assert stage.came.rows["ripple"].value == "–"
    assert "switching" in stage._lacks.text()
    box = stage.scenario.bridge_box
    box.setFocus()
    qtbot.keyClick(box, Qt.Key.Key_Down)
    assert stage.scenario.bridge.value == "space vector"
    assert rail_of(tuned)[0] is State.STALE
    assert "simulate again" in stage.note.text()
    assert "switching" not in stage._lacks.text()
    text = 'control = "speed"\nduration = "0.2 s"\n[[points]]\nspeed = "300 rpm"'
    stage.scenario.text.setPlainText(text)
    before = stage.shown
    stage.run()
    wait(qtbot, lambda: stage.shown is not before and stage._working is None, 60.0)
    assert rail_of(tuned)[0] is State.VALID
    assert float(stage.came.rows["ripple"].value) > 0.0
    assert stage.read_out().lines == ("switching inverter",)
    tuned.toggle_theme()
    again = stage_of(tuned)
    assert again.scenario.bridge_box.currentText() == "switching, space vector"
    assert "Hz" in tuned.window.strip.accessibleDescription()
    assert "switching inverter" in tuned.window.strip.accessibleDescription()


def test_many_machines_and_causes_stay_in_a_window_of_other_colours(
    qtbot: QtBot, tuned: Application
) -> None:
    stage = simulated(qtbot, tuned)
    stage.run_varied()
    wait(qtbot, lambda: bool(stage._over_many) and stage._working is None, 90.0)
    stage.run_split()
    wait(qtbot, lambda: stage.ripple.told is not None and stage._working is None, 90.0)
    said, bars = stage.answer, stage._within.bars.accessibleName()
    causes = stage.ripple.bars.accessibleName()
    reach = [item.y.tolist() for item in stage.plots["current"]._bands]
    assert "machines" in said
    assert sum(len(one) for one in reach) > 100
    tuned.toggle_theme()
    again = stage_of(tuned)
    assert again is not stage
    assert again.answer == said
    assert again._within.bars.accessibleName() == bars
    assert again.ripple.bars.accessibleName() == causes
    assert [item.y.tolist() for item in again.plots["current"]._bands] == reach
    again.run()  # one machine alone again
    wait(qtbot, lambda: not again._over_many and again._working is None, 60.0)
    tuned.toggle_theme()
    last = stage_of(tuned)
    assert "machines" not in last.answer
    assert last._within.bars.accessibleName() == bars


def test_a_carrier_that_does_not_fit_is_said_in_the_lens(qtbot: QtBot, tuned: Application) -> None:
    tuned.session.enter("inverter.pwm_frequency", "17 kHz")
    stage = simulated(qtbot, tuned)
    wait(qtbot, lambda: "no whole number" in stage.closer.lens.accessibleName(), 20.0)
    tuned.session.show(bridge="sine")
    stage.run()
    wait(qtbot, lambda: stage.scenario.trouble.text() != "", 20.0)
    assert "17000 Hz of PWM" in stage.scenario.trouble.text()


def drawn(stage: RehearseStage, key: str) -> int:
    """How many points of a kept run a plot shows."""
    x = stage.plots[key]._before[0].x
    return 0 if x is None else len(x)


def test_before_and_after_lie_over_one_another(qtbot: QtBot, tuned: Application) -> None:
    stage = simulated(qtbot, tuned)
    before = stage.shown
    qtbot.mouseClick(stage.came.keep, Qt.MouseButton.LeftButton)
    assert stage.came.before is before
    assert drawn(stage, "behind") == 0  # nothing to compare with yet but itself
    gains = tuned.session.axis.loops["speed"].gains
    assert isinstance(gains, SpeedGains)
    softer = replace(gains, Kp=0.5 * gains.Kp, Ki=0.5 * gains.Ki)
    tuned.session.edit("softer", tuned.session.axis.with_loop_gains("speed", softer))
    stage.run()
    wait(qtbot, lambda: stage.shown is not before and stage._working is None, 60.0)
    assert drawn(stage, "behind") > 100
    assert "was" in stage.came.rows["behind"].accessibleDescription()
    assert stage.shown is not None
    assert before is not None
    assert stage.shown.figures.following_peak > 1.2 * before.figures.following_peak
    tuned.toggle_theme()
    stage = stage_of(tuned)
    assert stage.came.before is before
    assert drawn(stage, "current") > 100
    qtbot.mouseClick(stage.came.keep, Qt.MouseButton.LeftButton)
    assert stage.came.before is None
    assert drawn(stage, "behind") == 0
    assert "was" not in stage.came.rows["behind"].accessibleDescription()


def test_a_run_of_another_loop_is_no_longer_compared_with(qtbot: QtBot, tuned: Application) -> None:
    stage = simulated(qtbot, tuned)
    before = stage.shown
    stage.came.keep.click()
    text = 'control = "speed"\nduration = "0.2 s"\n[[points]]\nspeed = "300 rpm"'
    stage.scenario.text.setPlainText(text)
    stage.run()
    wait(qtbot, lambda: stage.shown is not before and stage._working is None, 60.0)
    assert stage.came.before is None
    assert drawn(stage, "asked") == 0


def pull(qtbot: QtBot, stage: RehearseStage, number: int, to: tuple[float, float]) -> None:
    """Drag a point of the scenario by the mouse, px away from where it lies."""
    plot = stage.plots["asked"]
    one = plot.handles[number]
    start = QPoint(round(plot.px(one.at)), round(plot._height(one.value)))
    view, left = plot, Qt.MouseButton.LeftButton
    qtbot.mousePress(view, left, pos=start)
    for n in range(1, 5):
        at = start + QPoint(round(to[0] * n / 4), round(to[1] * n / 4))
        event = QMouseEvent(QMouseEvent.Type.MouseMove, QPointF(at), view.mapToGlobal(QPointF(at)),
                            left, left, Qt.KeyboardModifier.NoModifier)  # fmt: skip
        QApplication.sendEvent(view, event)
        qtbot.wait(20)
    qtbot.mouseRelease(view, left, pos=start + QPoint(round(to[0]), round(to[1])))


def test_a_point_is_dragged_and_what_comes_of_it_is_drawn(qtbot: QtBot, tuned: Application) -> None:
    stage = simulated(qtbot, tuned)
    plot, before = stage.plots["asked"], stage.shown
    assert len(plot.handles) == 2
    text = stage.scenario.text.toPlainText()
    first = plot.handles[0]
    pull(qtbot, stage, 0, (40.0, -20.0))
    now = plot.handles[0]
    assert now.at == pytest.approx(first.at + 40.0 / plot._per_x, abs=0.02)
    assert -6.0 < now.value < -4.0
    assert f'by = "{now.value:.6g}"' in stage.scenario.text.toPlainText()
    wait(qtbot, lambda: stage._working is None and not stage.drag.active, 60.0)
    assert stage.shown is not None
    assert stage.shown is not before
    assert stage.shown.run.scenario.points[0].at == pytest.approx(now.at)
    assert rail_of(tuned)[0] is State.VALID  # of the scenario as it was let go
    stage.scenario.text.undo()  # all of the drag at once
    assert stage.scenario.text.toPlainText() == text


def test_a_press_beside_a_handle_moves_the_cursor(qtbot: QtBot, tuned: Application) -> None:
    stage = simulated(qtbot, tuned)
    plot, text = stage.plots["asked"], stage.scenario.text.toPlainText()
    qtbot.mouseClick(plot, Qt.MouseButton.LeftButton,
                     pos=QPoint(round(plot.px(1.3)), round(plot.area.center().y())))  # fmt: skip
    assert stage._cursor == pytest.approx(1.3, abs=0.02)
    assert stage.scenario.text.toPlainText() == text


def test_the_ripple_is_split_by_cause_and_goes_stale(qtbot: QtBot, tuned: Application) -> None:
    stage = stage_of(tuned)
    short = 'control = "speed"\nduration = "0.2 s"\n[[points]]\nspeed = "300 rpm"'
    stage.scenario.text.setPlainText(short)
    assert stage.ripple.bars.height() == 0  # nothing is drawn of what nobody asked for
    stage.ripple.button.click()
    wait(qtbot, lambda: stage.ripple.bars._shown is not None, 60.0)
    assert stage.note.text().startswith("Most of the torque ripple comes from: ")
    told = stage.ripple.bars.accessibleName()
    for cause in ("dead time", "current sense", "position counts", "switching"):
        assert cause in told
    assert 0.0 < float(stage.ripple._share.value) < 100.0
    assert float(stage.ripple._whole.value) > 0.0
    heading = stage.ripple._block._heading
    assert heading._hint == "as it switches"
    stage.scenario.text.setPlainText(short.replace("300", "400"))
    assert heading._hint == "stale"


def test_gains_that_hold_on_all_machines_are_offered_and_taken(
    qtbot: QtBot, tuned: Application
) -> None:
    J = tuned.session.axis.parameter("machine.inertia")
    vague = replace(J, adopted=replace(J.best, std=0.12 * J.value))
    tuned.session.edit("vague", tuned.session.axis.with_parameter("machine.inertia", vague))
    stage = stage_of(tuned)
    short = 'control = "speed"\nduration = "0.2 s"\n[[points]]\nspeed = "300 rpm"'
    stage.scenario.text.setPlainText(short)
    within = stage._within
    assert within.take.isHidden()
    stage.run_varied()
    wait(qtbot, lambda: not within.take.isHidden(), 90.0)
    assert within.take.text().endswith(" for all")
    assert float(within._worst.value) < 55.0
    before = tuned.session.axis.loops[KEY].gains
    within.take.click()
    after = tuned.session.axis.loops[KEY].gains
    assert isinstance(before, SpeedGains)
    assert isinstance(after, SpeedGains)
    assert after.Kp < before.Kp
    tuned.session.undo()
    assert tuned.session.axis.loops[KEY].gains == before


def test_a_plots_name_stays_clear_of_its_curves_in_a_low_window(
    qtbot: QtBot, tuned: Application
) -> None:
    stage = simulated(qtbot, tuned)
    for height in (700, 1000, 700):
        tuned.window.resize(1024, height)
        qtbot.wait(50)
        for plot in stage.plots.values():
            top = max(float(np.max(values)) for _, values in plot._drawn)
            assert plot.py(top) >= plot.area.top() + 15.0


def test_a_preview_goes_on_from_what_is_shown(
    qtbot: QtBot, tuned: Application, monkeypatch: pytest.MonkeyPatch
) -> None:
    stage = simulated(qtbot, tuned)
    assert stage.shown is not None
    taken: list[object] = []
    plain = rehearse

    def watched(*args: object, **given: object) -> object:
        taken.append(given.get("since"))
        return plain(*args, **given)  # type: ignore[arg-type]

    monkeypatch.setattr("oarlock.views.rehearsal.rehearse", watched)
    before, handle = stage.shown, stage.plots["asked"].handles[1]
    stage.plots["asked"].dragged.emit(1, handle.at + 0.1, handle.value)
    wait(qtbot, lambda: stage.shown is not before and not stage.is_working)
    assert taken[0] is before.run
    stage.plots["asked"].dropped.emit()
    wait(qtbot, lambda: len(taken) > 1 and not stage.is_working)


def test_a_long_run_is_drawn_as_a_hatching_until_it_is_looked_at_closely(
    qtbot: QtBot, tuned: Application
) -> None:
    stage = simulated(qtbot, tuned)
    assert stage.shown is not None
    many = 60_000
    t = np.arange(many, dtype=np.float64) * 1e-3
    columns = {name: np.sin(t) for name in COLUMNS}
    run = replace(stage.shown.run, t=t, mean=columns, least=columns, most=columns)
    stage.show_picture(replace(stage.shown, run=run))
    curve = stage.plots["volts"]._means[0]
    x = curve.x
    assert len(x) < 4 * stage.plots["volts"].area.width()
    assert curve.drawn_with.widthF() == 1.0
    stage.plots["volts"].zoomed.emit(10.0, 11.0)
    x = curve.x
    assert 1000 <= len(x) <= 1003
    assert curve.drawn_with.widthF() == 1.8


def test_what_is_wrong_stands_whole_below_the_text(qtbot: QtBot, tuned: Application) -> None:
    stage = stage_of(tuned)
    stage.scenario.text.setPlainText('control = "speed"duration = "1 s"')
    stage.run()
    wait(qtbot, lambda: stage.scenario.trouble.isVisible())
    qtbot.wait(50)
    said, text = stage.scenario.trouble, stage.scenario.text
    assert said.height() >= said.heightForWidth(said.width())
    assert said.geometry().top() >= text.geometry().bottom()


def test_what_it_came_to_is_told_when_the_project_opens_again(
    qtbot: QtBot, tuned: Application, demo_path: Path
) -> None:
    stage = stage_of(tuned)
    assert stage.answer == "Not simulated yet"
    simulated(qtbot, tuned)
    line = next(one.line for one in stages(tuned.session.now) if one.key == "rehearse")
    told = tuned.session.screen.rehearsed["time"]
    stage.shown = None
    stage.refresh()
    assert stage.answer == f"Simulated at {told}: {line}"
