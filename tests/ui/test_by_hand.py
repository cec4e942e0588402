"""Tuning by hand in the real window, on a practice drive that really runs."""

from collections.abc import Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from pytestqt.qtbot import QtBot

from oarlock.control.speed_design import speed_gains
from oarlock.experiments.reading import runs_like
from oarlock.ui.frame.app import Application
from oarlock.ui.stages.current.stage import CurrentStage
from oarlock.ui.stages.speed.stage import SpeedStage
from oarlock.views.screen import SWEEP, SpeedSettings
from tests.conftest import CALM, wait
from tests.demos import demo_with
from tests.speed_axis import tuned_winch
from tests.ui.conftest import window_on
from tests.ui.test_speed import _type


@pytest.fixture
def tuned(qtbot: QtBot, tmp_path: Path) -> Iterator[Application]:
    """The window on a winch whose speed loop has gains, its practice drive connected."""
    for opened in window_on(qtbot, demo_with(tuned_winch(), tmp_path / "demo")):
        opened.bench.connect_drive(" ".join(("practice", *CALM, "--pace", "2")))
        wait(qtbot, lambda: opened.bench.connected)  # noqa: B023 - there is one
        yield opened


def _speed(opened: Application) -> SpeedStage:
    opened.window.show_stage("speed")
    stage = opened.window.stage("speed")
    assert isinstance(stage, SpeedStage)
    return stage


def _click(qtbot: QtBot, stage: SpeedStage | CurrentStage) -> None:
    qtbot.mouseClick(stage.by_hand.button, Qt.MouseButton.LeftButton)


@pytest.mark.long
def test_a_gain_that_is_typed_goes_to_the_running_drive(qtbot: QtBot, tuned: Application) -> None:
    stage, session, hand = _speed(tuned), tuned.session, tuned.bench.hand
    _click(qtbot, stage)
    assert stage.by_hand.button.text() == "Press again to start"
    assert "until you end it" in stage.test._note.text()
    assert not tuned.bench.busy
    _click(qtbot, stage)
    assert tuned.bench.busy
    assert stage.by_hand.button.text() == "End by hand"
    wait(qtbot, lambda: len(hand.answers) >= 2)
    assert stage.track_plot._when == "newest answer"
    assert stage.track_plot._result is not None
    before = speed_gains(session.axis)
    assert before is not None

    _type(qtbot, stage.panel.gains["Kp"].entry, f"{0.6 * before.Kp:.4g}")
    now = session.axis
    assert stage.track_plot._result is None  # nothing was answered with these yet
    assert "taken over before the next answer" in stage.test._note.text()
    wait(qtbot, lambda: hand.in_force is not None and hand.in_force.loops == now.loops)
    wait(qtbot, lambda: hand.newest("speed step") is not None)
    assert len(stage.track_plot._trail._curves[-1].x) > 10
    marker = next(m for m in tuned.window.strip._strip.markers if m.handle)
    assert marker.rings[0] == pytest.approx(marker.hertz)
    assert marker.rings[1] > 1.2 * marker.hertz  # what it would go back to

    _type(qtbot, stage.panel.gains["Kp"].entry, f"{30.0 * before.Kp:.4g}")
    wait(qtbot, lambda: "would swing up" in stage.test._note.text())
    assert hand.in_force is not None
    assert hand.in_force.loops == now.loops
    session.undo()
    _click(qtbot, stage)
    wait(qtbot, lambda: not tuned.bench.busy)
    first, second = session.runs
    assert first.title.startswith("by hand, ")
    assert not runs_like(first, session.axis)
    assert runs_like(second, session.axis)
    assert stage.by_hand.button.text() == "By hand"
    assert not hand.answers or not hand.kind
    assert tuned.window.current is stage
    session.take_back(first)
    assert speed_gains(session.axis) == before


def test_a_drag_acts_on_the_drive_and_another_machine_ends_it(
    qtbot: QtBot, tuned: Application
) -> None:
    tuned.window.show_stage("current")
    stage = tuned.window.stage("current")
    assert isinstance(stage, CurrentStage)
    hand, session = tuned.bench.hand, tuned.session
    for _ in range(2):
        _click(qtbot, stage)
    wait(qtbot, lambda: len(hand.answers) >= 2)
    stage.drag_to(500.0)
    assert session.dragging
    dragged = session.axis
    wait(qtbot, lambda: hand.in_force is not None and hand.in_force.loops == dragged.loops)
    stage.end_drag()
    wait(qtbot, lambda: hand.newest("current step") is not None)
    assert stage.step_plot._step is not None
    session.enter("machine.R", "0.9 ohm")
    wait(qtbot, lambda: not tuned.bench.busy)
    assert tuned.bench.live.state != "running"
    assert len(session.runs) == 2
    assert {run.ended for run in session.runs} == {"done"}


@pytest.mark.long
def test_a_swing_is_put_back_on_screen_too(qtbot: QtBot, tuned: Application) -> None:
    """The machine is lighter than the axis knows: gains that look stable swing on it."""
    stage, session, hand = _speed(tuned), tuned.session, tuned.bench.hand
    J = session.axis.machine.inertia
    gains = speed_gains(session.axis)
    assert J is not None
    assert gains is not None
    session.enter("machine.inertia", f"{2.2e3 * J.value:.4g} g m2")
    start = session.axis.with_loop_gains("speed", gains)
    session.edit("the old gains", start)
    for _ in range(2):
        _click(qtbot, stage)
    wait(qtbot, lambda: len(hand.answers) >= 2)
    _type(qtbot, stage.panel.gains["Kp"].entry, f"{3.0 * gains.Kp:.4g}")
    put_back = "Put the gains back"
    wait(qtbot, lambda: session.undo_label == put_back or not hand.kind, 90.0)
    assert session.undo_label == put_back
    assert speed_gains(session.axis) == gains
    shown = len(hand.answers)
    wait(qtbot, lambda: len(hand.answers) >= min(shown + 3, 6) or not hand.kind)
    assert "the gains before are back" in hand.said  # until other gains are sent
    tuned.bench.stop()
    wait(qtbot, lambda: not tuned.bench.busy)


def test_a_sweep_is_not_repeated_and_a_lost_drive_keeps_the_answers(
    qtbot: QtBot, tuned: Application
) -> None:
    stage, session, hand = _speed(tuned), tuned.session, tuned.bench.hand
    session.show(speed=SpeedSettings(kind=SWEEP))
    stage.test.restore(session.screen.speed)
    stage.refresh()
    assert not stage.by_hand.button.isEnabled()
    session.show(speed=SpeedSettings())
    stage.test.restore(session.screen.speed)
    stage.refresh()
    for _ in range(2):
        _click(qtbot, stage)
    wait(qtbot, lambda: len(hand.answers) >= 2)
    assert tuned.bench._practice is not None
    tuned.bench._practice.stop()
    wait(qtbot, lambda: not tuned.bench.busy)
    assert len(session.runs) == 1
    assert session.runs[0].settings["repeats"] == len(hand.answers)
    wait(qtbot, lambda: not tuned.bench.connected)


def test_another_experiment_that_runs_is_not_taken_for_it(qtbot: QtBot, tuned: Application) -> None:
    stage, bench = _speed(tuned), tuned.bench
    stage.run()
    assert bench.busy
    for _ in range(2):
        _click(qtbot, stage)
    assert not bench.hand.kind
    assert "under way" in tuned.window.message.text()
    bench.commissioning.begin()
    bench.commissioning.go_on()
    assert bench.commissioning.running is None
    bench.stop()
    wait(qtbot, lambda: not bench.busy)
