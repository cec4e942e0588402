"""The Speed loop stage in the real window: design, drag, filters, ways, tests on the drive."""

import math
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QWidget
from pytestqt.qtbot import QtBot

from oarlock.control.designs import retuned
from oarlock.control.position_design import friction_of
from oarlock.control.speed import load_figures
from oarlock.control.speed_design import known_inertia, speed_gains
from oarlock.machine import TargetKind
from oarlock.machine.axis_file import format_axis, parse_axis
from oarlock.machine.filters import FilterKind
from oarlock.machine.parameter import Parameter
from oarlock.machine.speed_loop import KEY, SpeedTarget
from oarlock.practice.truth import draw
from oarlock.quantities import Estimate, Origin
from oarlock.quantities.display import digits
from oarlock.ui.frame.app import Application
from oarlock.ui.frame.logbook import USE
from oarlock.ui.frame.strip import _LANES
from oarlock.ui.kit import theme as look
from oarlock.ui.kit.numbers import Entry
from oarlock.ui.kit.paint import text_width
from oarlock.ui.stages.current.stage import CurrentStage
from oarlock.ui.stages.speed.stage import SpeedStage
from oarlock.views.rail import stages
from oarlock.views.speed import LOAD, STEP
from tests.conftest import CALM, wait
from tests.demos import demo_with
from tests.model_link import ModelLink
from tests.speed_axis import known_winch, tuned_winch
from tests.ui.conftest import window_on
from tests.ui.written import written


@pytest.fixture
def tuned(qtbot: QtBot, tmp_path: Path) -> Iterator[Application]:
    """The window on a winch whose speed loop has gains."""
    yield from window_on(qtbot, demo_with(tuned_winch(), tmp_path / "demo"))


@pytest.fixture
def known(qtbot: QtBot, tmp_path: Path) -> Iterator[Application]:
    """The window on a winch that is known, without gains of its speed loop."""
    yield from window_on(qtbot, demo_with(known_winch(), tmp_path / "demo"))


def _stage(opened: Application) -> SpeedStage:
    opened.window.show_stage("speed")
    stage = opened.window.stage("speed")
    assert isinstance(stage, SpeedStage)
    return stage


def test_without_gains_or_inertia_it_says_what_comes_first(opened: Application) -> None:
    stage = _stage(opened)
    assert stage.answer == "No speed loop yet"
    assert "current loop has no gains" in " ".join(stage.reasons)
    assert not stage.test.start.isEnabled()
    assert stage.ramping._block.isHidden()  # of a ramp that nothing could follow


def test_the_handle_on_the_strip_is_this_loops(qtbot: QtBot, tuned: Application) -> None:
    stage, strip = _stage(tuned), tuned.window.strip
    assert stage.shown is not None
    before = stage.shown.crossover
    start = QPoint(round(strip.x_of(before)), 40)
    qtbot.mousePress(strip, Qt.MouseButton.LeftButton, pos=start)
    end = QPoint(round(strip.x_of(20.0)), 40)
    qtbot.mouseMove(strip, end)
    qtbot.mouseRelease(strip, Qt.MouseButton.LeftButton, pos=end)
    assert stage.shown.crossover == pytest.approx(20.0, rel=0.03)
    assert stage.answer.startswith("20")
    assert tuned.session.undo_label.startswith("Set the speed loop's crossover")
    tuned.session.undo()
    assert stage.shown.crossover == pytest.approx(before)
    strip.setFocus()
    qtbot.keyClick(strip, Qt.Key.Key_Left, Qt.KeyboardModifier.ShiftModifier)
    assert stage.shown.crossover == pytest.approx(before / 1.1, rel=1e-3)


def test_figures_are_given_and_what_cannot_be_is_said(qtbot: QtBot, tuned: Application) -> None:
    stage = _stage(tuned)
    assert stage.shown is not None
    _type(qtbot, stage.panel.given["crossover"].entry, "25")
    assert stage.shown.crossover == pytest.approx(25.0, rel=1e-3)
    _type(qtbot, stage.panel.given["phase_margin"].entry, "60")
    assert stage.shown.phase_margin == pytest.approx(60.0, abs=0.1)
    assert stage.shown.crossover == pytest.approx(25.0, rel=1e-3)
    _type(qtbot, stage.panel.given["crossover"].entry, "400")
    assert "Ask for at most" in stage.panel._message.text()
    _type(qtbot, stage.panel.given["dip"].entry, "70")
    assert stage.panel.given["dip"].entry.text().startswith("70")
    _type(qtbot, stage.panel.gains["weight"].entry, "0.5")
    gains = speed_gains(tuned.session.axis)
    assert gains is not None
    assert gains.weight == 0.5
    _type(qtbot, stage.panel.gains["weight"].entry, "3")
    assert "between 0 and 1" in stage.panel._message.text()
    target = tuned.session.axis.loops[KEY].target
    assert isinstance(target, SpeedTarget)
    assert target.dip is not None


def test_options_are_typed_the_gains_follow_the_observer_and_off_ends_it(
    qtbot: QtBot, tuned: Application
) -> None:
    stage = _stage(tuned)
    assert stage.shown is not None
    qtbot.mouseClick(stage.panel.aims["even"], Qt.MouseButton.LeftButton)
    plain, dip = stage.shown.gains, stage.shown.load.IAE
    rows = stage.panel.options
    assert [row.entry.text() for row in rows.values()] == ["off"] * 3
    overshoot = stage.shown.figures.overshoot
    qtbot.mouseClick(stage.panel.observe, Qt.MouseButton.LeftButton)
    gains = speed_gains(tuned.session.axis)
    assert gains is not None
    assert gains.Ki == 0.0
    assert gains.inertia == pytest.approx(known_inertia(tuned.session.axis))
    assert rows["observer"].entry.text() == digits(gains.observer / math.tau, 3)
    assert stage.shown.follows
    assert stage.shown.phase_margin >= 54.9
    assert 1.05 * dip > stage.shown.load.IAE
    assert stage.shown.figures.overshoot < 0.8 * overshoot
    _type(qtbot, rows["observer"].entry, "12 Hz")
    gains = speed_gains(tuned.session.axis)
    assert gains is not None
    assert gains.observer == pytest.approx(12.0 * math.tau)
    assert not stage.shown.follows
    _type(qtbot, stage.panel.gains["weight"].entry, "0.5")
    assert "settle at weight times" in stage.panel._message.text()
    _type(qtbot, rows["observer"].entry, "off")
    assert "nothing holds a load" in stage.panel._message.text()
    _type(qtbot, rows["reference"].entry, "8")
    overshoot = stage.shown.figures.overshoot
    _type(qtbot, rows["reference"].entry, "off")
    assert stage.shown.figures.overshoot > overshoot + 0.02
    assert not stage.panel.take_friction.isVisible()  # none is known
    known = Estimate(value=0.27, std=0.01, unit="N m", origin=Origin.MEASURED)
    coulomb = Parameter(printed=known, adopted=known)
    tuned.session.edit("friction", tuned.session.axis.with_parameter("mechanics.coulomb", coulomb))
    assert stage.panel.take_friction.isVisible()
    qtbot.mouseClick(stage.panel.take_friction, Qt.MouseButton.LeftButton)
    gains = speed_gains(tuned.session.axis)
    assert gains is not None
    assert gains.friction == pytest.approx(friction_of(tuned.session.axis), rel=1e-3)
    assert not stage.panel.take_friction.isVisible()
    _type(qtbot, rows["observer"].entry, "9000")
    assert "is too much" in stage.panel._message.text()
    _type(qtbot, rows["observer"].entry, "-3")
    assert "below zero" in stage.panel._message.text()
    qtbot.mouseClick(stage.panel.observe, Qt.MouseButton.LeftButton)
    gains = speed_gains(tuned.session.axis)
    assert gains is not None
    assert (gains.observer, gains.inertia) == (0.0, 0.0)
    assert gains.Kp == pytest.approx(plain.Kp)
    wait(qtbot, lambda: len(stage.ways.ways) == 3)  # that job's thread ends with it


def _type(qtbot: QtBot, entry: QWidget, text: str) -> None:
    entry.setFocus()
    entry.selectAll()  # type: ignore[attr-defined]
    qtbot.keyClicks(entry, text)
    qtbot.keyClick(entry, Qt.Key.Key_Return)


def test_aims_set_the_margin_and_stand_on_the_buttons(qtbot: QtBot, known: Application) -> None:
    stage = _stage(known)
    for name, degrees in (("calm", 65.0), ("even", 55.0), ("keen", 45.0)):
        qtbot.mouseClick(stage.panel.aims[name], Qt.MouseButton.LeftButton)
        assert stage.shown is not None
        assert stage.shown.phase_margin >= degrees - 0.1
        assert [n for n, b in stage.panel.aims.items() if b.isChecked()] == [name]


def test_filters_are_added_changed_and_taken_away(qtbot: QtBot, known: Application) -> None:
    stage = _stage(known)
    assert stage.shown is not None
    stage.aim("even")
    without = stage.shown.load.dip
    qtbot.mouseClick(stage.panel.add_notch, Qt.MouseButton.LeftButton)
    filters = known.session.axis.loops[KEY].filters
    assert [f.kind for f in filters] == [FilterKind.NOTCH]
    assert filters[0].frequency / math.tau == pytest.approx(200.0, rel=0.05)
    assert stage.shown.load.dip < 0.5 * without  # a notch lets it be far stiffer
    assert any(m.kind == "notch" for m in known.window.strip._strip.markers)  # type: ignore[union-attr]
    _type(qtbot, stage.panel.entries[0]["depth"].entry, "-20")
    assert known.session.axis.loops[KEY].filters[0].depth == pytest.approx(0.1)
    _type(qtbot, stage.panel.entries[0]["depth"].entry, "3")
    assert "below 0 dB" in stage.panel._message.text()
    again = parse_axis(format_axis(known.session.axis), place="again")
    assert again.loops[KEY] == known.session.axis.loops[KEY]
    stage.filters.drop(0)
    assert not known.session.axis.loops[KEY].filters
    assert stage.shown.margins.stable


def test_ways_round_the_resonance_are_found_and_one_is_taken(
    qtbot: QtBot, known: Application
) -> None:
    stage = _stage(known)
    wait(qtbot, lambda: len(stage.ways.ways) == 3)
    titles = [card.accessibleName().split()[0] for card in stage.ways.cards]
    assert titles == ["Notch", "No", "Stiffer"]
    assert not stage.ways.cards[2].isEnabled()
    qtbot.mouseClick(stage.ways.cards[0], Qt.MouseButton.LeftButton)
    assert len(known.session.axis.loops[KEY].filters) == 1
    assert stage.shown is not None
    assert stage.shown.margins.stable
    assert "holds" in stage.ways.cards[0].accessibleName()
    share = int(stage.reasons[1].split("It gives ")[1].split(" %")[0])
    best = min(way.load.IAE for way in stage.ways.ways if way.stiffer == 1.0)
    t = np.arange(1200.0) * stage.shown.loop.plant.T
    area = load_figures(t, stage.shown.loop.loaded.step(1200)).IAE
    assert share == round(100.0 * min(best / area, 1.0))


def test_tests_are_played_shown_pinned_and_taken_back(
    qtbot: QtBot, tuned: Application, monkeypatch: pytest.MonkeyPatch
) -> None:
    stage, session = _stage(tuned), tuned.session
    tuned.bench.connect_drive(" ".join(("practice", *CALM, "--pace", "8")))
    wait(qtbot, lambda: tuned.bench.connected)
    assert "turns" in stage.test._note.text()
    qtbot.mouseClick(stage.test.start, Qt.MouseButton.LeftButton)
    wait(qtbot, lambda: len(session.runs) == 1 and not tuned.bench.busy, 60.0)
    assert session.runs[0].ended == "done", session.runs[0].ended
    assert session.now.tested(STEP) is not None
    first = session.axis.loops[KEY]
    qtbot.mouseClick(stage.test.which, Qt.MouseButton.LeftButton)
    assert stage.test.which.text() == "load"
    stage.run()
    wait(qtbot, lambda: len(session.runs) == 2 and not tuned.bench.busy, 60.0)
    assert session.now.tested(LOAD) is not None
    assert "dip" in " ".join(tuned.window.logbook.model.marked_text(
        tuned.window.logbook.model.index(0, n)) for n in range(12))  # fmt: skip
    session.change_run(session.runs[0].id, pinned=True)
    stage.drag_to(15.0)
    stage.end_drag()
    assert session.now.tested(STEP) is None  # measured figures leave with their gains
    assert len(stage.measured.pinned(STEP)) == 1
    wait(qtbot, lambda: not session.unwritten)
    model = tuned.window.logbook.model
    assert model.marked_text(model.index(1, USE)) == "use these gains"
    session.take_back(session.runs[0])
    assert session.axis.loops[KEY] == first
    assert session.now.tested(STEP) is not None
    boxes = written(monkeypatch, "speed.pictures")
    for wide, high in ((1024, 700), (1280, 800), (1600, 1000)):
        tuned.window.resize(wide, high)
        qtbot.wait(50)
        boxes.clear()
        stage.track_plot.grab()
        rise = next(box for text, box in boxes.items() if text.startswith("rise"))
        circles = next(box for text, box in boxes.items() if text.startswith("circles"))
        assert not rise.adjusted(0, -2, 4, 4).intersects(circles), (wide, high)


@pytest.mark.parametrize("wide", [1024, 1280, 1600])
def test_no_curve_runs_through_the_gain_margin(wide: int, qtbot: QtBot, tuned: Application) -> None:
    stage = _stage(tuned)
    tuned.window.resize(wide, 800)
    qtbot.wait(50)
    plot, shown = stage.gain_plot, stage.shown
    assert shown is not None
    x = plot.at(shown.margins.phase_crossover / math.tau)
    side, align, first = plot.margin_place(x, shown.nyquist)
    long = text_width("gain margin", look.SMALL)
    left = x + side if align == "left" else x + side - long
    assert left + long < plot.at(shown.nyquist)
    for gain in (shown.open_gain, shown.closed_gain, shown.bare_gain):
        for f, decibels in zip(shown.f, gain, strict=True):
            if left < plot.at(float(f)) < left + long and math.isfinite(decibels):
                assert not first - 12 < plot.py(float(decibels)) < first + 16, f


def test_a_quick_sweep_is_played_and_lies_over_the_predicted_gain(
    qtbot: QtBot, tuned: Application
) -> None:
    stage, session = _stage(tuned), tuned.session
    tuned.bench._link = ModelLink(draw("winch", 0), tick=1.0)
    for _ in range(4):
        qtbot.mouseClick(stage.test.which, Qt.MouseButton.LeftButton)
    assert stage.test.which.text() == "quick sweep"
    assert not stage.test.hand.isEnabled()
    qtbot.keyClick(tuned.window, Qt.Key.Key_F5)
    wait(qtbot, lambda: len(session.runs) == 1 and not tuned.bench.busy, 60.0)
    run = session.runs[0]
    assert (run.kind, run.ended) == ("speed sweep", "done")
    assert run.title.startswith("chirp 2 to ")
    assert stage.gain_plot._sweep is not None
    assert stage.shown is not None
    assert stage.gain_plot._sweep.crossover == pytest.approx(stage.shown.crossover, rel=0.06)
    qtbot.mouseClick(stage.test.which, Qt.MouseButton.LeftButton)
    assert stage.test.which.text() == "multisine"
    qtbot.keyClick(tuned.window, Qt.Key.Key_F5)
    wait(qtbot, lambda: len(session.runs) == 2 and not tuned.bench.busy, 60.0)
    run = session.runs[-1]
    assert (run.kind, run.ended) == ("speed sweep", "done")
    assert run.title.startswith("multisine 2 to ")
    assert stage.gain_plot._sweep.crossover == pytest.approx(stage.shown.crossover, rel=0.06)
    assert stage.gain_plot._sweep.f.size < 50
    qtbot.mouseClick(stage.test.which, Qt.MouseButton.LeftButton)
    assert stage.test.which.text() == "step"


def test_tune_and_try_says_what_moves_tries_it_and_takes_what_holds(
    qtbot: QtBot, known: Application
) -> None:
    stage, session = _stage(known), known.session
    wait(qtbot, lambda: len(stage.ways.ways) == 3)
    qtbot.mouseClick(stage.test.tune, Qt.MouseButton.LeftButton)
    assert "No drive is connected" in stage.test._note.text()
    known.bench.connect_drive(" ".join(("practice", *CALM, "--pace", "8")))
    wait(qtbot, lambda: known.bench.connected)
    qtbot.mouseClick(stage.test.tune, Qt.MouseButton.LeftButton)
    assert stage.test.tune.text() == "Press again to start"
    assert stage.test._note.text().count("turns") >= 2
    assert speed_gains(session.axis) is None  # nothing is taken before it held
    qtbot.mouseClick(stage.test.tune, Qt.MouseButton.LeftButton)
    wait(qtbot, lambda: len(session.runs) == 2 and not known.bench.busy, 90.0)
    assert [run.ended for run in session.runs] == ["done", "done"]
    assert speed_gains(session.axis) is not None, stage.panel._message.text()
    assert len(session.axis.loops[KEY].filters) == 1
    assert session.now.tested(STEP) is not None
    assert session.undo_label == "Take the tuned gains of the speed loop"


def test_gains_whose_test_does_not_hold_are_not_taken(qtbot: QtBot, tuned: Application) -> None:
    stage, session = _stage(tuned), tuned.session
    wait(qtbot, lambda: len(stage.ways.ways) == 3)
    wrong = session.axis.machine.inertia
    assert wrong is not None
    assert wrong.adopted is not None
    heavy = replace(wrong, adopted=replace(wrong.adopted, value=2.2 * wrong.value))
    session.edit("a wrong inertia", session.axis.with_parameter("machine.inertia", heavy))
    wait(qtbot, lambda: not stage.ways.working)
    before = session.axis
    tuned.bench.connect_drive(" ".join(("practice", *CALM, "--pace", "8")))
    wait(qtbot, lambda: tuned.bench.connected)
    for _ in range(2):
        qtbot.mouseClick(stage.test.tune, Qt.MouseButton.LeftButton)
    wait(qtbot, lambda: bool(session.runs) and not tuned.bench.busy, 90.0)
    wait(qtbot, lambda: "old gains are kept" in stage.panel._message.text(), 60.0)
    assert session.axis == before


def test_ways_that_are_found_after_the_axis_was_changed_reach_nobody(
    qtbot: QtBot, known: Application
) -> None:
    stage = _stage(known)
    assert stage.ways.working
    seen = []
    stage.ways.found.connect(lambda: seen.append(True))
    known.go_to_axis(known.session.axis_names[1])
    wait(qtbot, lambda: not known.jobs.busy)
    qtbot.wait(50)
    assert not seen
    assert known.window.current is not stage


def test_the_current_loop_takes_natural_frequency_damping_and_a_weight(
    qtbot: QtBot, known: Application
) -> None:
    known.window.show_stage("current")
    stage = known.window.stage("current")
    assert isinstance(stage, CurrentStage)
    numbers = stage._numbers
    _type(qtbot, numbers.given[TargetKind.NATURAL_FREQUENCY].entry, "400")
    _type(qtbot, numbers.damping.entry, "0.9")
    target = known.session.axis.target
    assert (target.kind, target.damping) == (TargetKind.NATURAL_FREQUENCY, 0.9)
    assert stage.shown is not None
    assert stage.shown.poles == pytest.approx((math.tau * 400.0, 0.9), rel=1e-3)
    before = stage.shown.figures.overshoot
    _type(qtbot, numbers.gains["weight"].entry, "0.5")
    assert known.session.axis.gains is not None
    assert known.session.axis.gains.weight == 0.5
    assert stage.shown.follows  # another weight asks nothing else of the loop
    assert stage.shown.figures.overshoot < before
    _type(qtbot, numbers.gains["weight"].entry, "1.5")
    assert known.session.axis.gains.weight == 0.5
    assert "between 0 and 1" in numbers._message.text()
    _type(qtbot, numbers.given[TargetKind.NATURAL_FREQUENCY].entry, "3000")
    assert known.session.axis.target == target
    assert "forbids" in numbers._message.text() or "margin" in numbers._message.text()


def test_the_current_loops_open_loop_is_swept_from_its_stage(
    qtbot: QtBot, known: Application
) -> None:
    known.window.show_stage("current")
    stage = known.window.stage("current")
    assert isinstance(stage, CurrentStage)
    known.bench.connect_drive(" ".join(("practice", *CALM, "--pace", "8")))
    wait(qtbot, lambda: known.bench.connected)
    qtbot.mouseClick(stage.sweeping.button, Qt.MouseButton.LeftButton)
    assert stage.sweeping.button.text() == "Press again to start"
    assert stage.sweeping.button.width() >= stage.sweeping.button.sizeHint().width()
    assert not known.session.runs
    qtbot.mouseClick(stage.sweeping.button, Qt.MouseButton.LeftButton)
    wait(qtbot, lambda: len(known.session.runs) == 1 and not known.bench.busy, 60.0)
    run = known.session.runs[0]
    assert (run.kind, run.ended) == ("current sweep", "done")
    assert stage.gain_plot._seen is not None
    assert stage.shown is not None
    assert stage.gain_plot._seen.crossover == pytest.approx(stage.shown.crossover, rel=0.08)
    assert stage.sweeping.how.text() == "sines"
    qtbot.mouseClick(stage.sweeping.how, Qt.MouseButton.LeftButton)
    assert stage.sweeping.how.text() == "multisine"
    assert known.session.screen.step.at_once  # kept with the project
    qtbot.mouseClick(stage.sweeping.button, Qt.MouseButton.LeftButton)
    assert stage.sweeping.how.isHidden()  # the question has the room
    qtbot.mouseClick(stage.sweeping.button, Qt.MouseButton.LeftButton)
    wait(qtbot, lambda: len(known.session.runs) == 2 and not known.bench.busy, 60.0)
    assert known.session.runs[1].title.startswith("multisine 60 Hz to ")
    assert not stage.sweeping.how.isHidden()
    assert stage.gain_plot._seen.crossover == pytest.approx(stage.shown.crossover, rel=0.08)
    stage.drag_to(700.0)
    stage.end_drag()
    assert stage.gain_plot._seen is None  # measured points leave with their gains


def test_a_filter_is_dragged_on_the_strip_in_the_plot_and_by_keys(
    qtbot: QtBot, tuned: Application
) -> None:
    stage, strip = _stage(tuned), tuned.window.strip
    assert stage.shown is not None
    hertz, before = stage.shown.filters[0].frequency / math.tau, stage.shown.crossover
    qtbot.mousePress(strip, Qt.MouseButton.LeftButton, pos=QPoint(round(strip.x_of(hertz)), 86))
    qtbot.mouseMove(strip, QPoint(round(strip.x_of(240.0)), 86))
    assert tuned.session.dragging
    qtbot.mouseRelease(strip, Qt.MouseButton.LeftButton, pos=QPoint(round(strip.x_of(240.0)), 86))
    moved = stage.shown.filters[0].frequency / math.tau
    assert moved == pytest.approx(240.0, rel=0.02)
    assert tuned.session.undo_label == "Move a filter"
    assert stage.shown.phase_margin == pytest.approx(55.0, abs=0.2)  # the gains followed
    assert stage.shown.crossover != before

    plot = stage.gain_plot
    low = round(plot.area.bottom()) - 6
    view = plot
    qtbot.mousePress(view, Qt.MouseButton.LeftButton, pos=QPoint(round(plot.at(moved)), low))
    qtbot.mouseMove(view, QPoint(round(plot.at(180.0)), low))
    qtbot.mouseRelease(view, Qt.MouseButton.LeftButton, pos=QPoint(round(plot.at(180.0)), low))
    assert stage.shown.filters[0].frequency / math.tau == pytest.approx(180.0, rel=0.03)
    tuned.session.undo()
    tuned.session.undo()
    assert stage.shown.filters[0].frequency / math.tau == pytest.approx(hertz)

    strip.setFocus()
    qtbot.keyClick(strip, Qt.Key.Key_Right)  # what was dragged last is chosen for the keys
    assert stage.shown.filters[0].frequency / math.tau == pytest.approx(1.01 * hertz)
    qtbot.keyClick(strip, Qt.Key.Key_Down)  # the handle again
    crossover = stage.shown.crossover
    qtbot.keyClick(strip, Qt.Key.Key_Left)
    assert stage.shown.crossover == pytest.approx(crossover / 1.01, rel=1e-3)


@pytest.mark.long
def test_it_is_retuned_where_it_turns_for_the_inertia_that_is_there(
    qtbot: QtBot, tuned: Application
) -> None:
    stage, session = _stage(tuned), tuned.session
    true = session.axis.machine.inertia
    assert true is not None
    assert true.adopted is not None
    wrong = replace(true, adopted=replace(true.adopted, value=0.6 * true.value))
    axis = session.axis.with_parameter("machine.inertia", wrong)
    session.edit("a wrong inertia", retuned(session.axis, axis))
    start = speed_gains(session.axis)
    assert start is not None
    qtbot.mouseClick(stage.test.retune, Qt.MouseButton.LeftButton)
    assert "No drive is connected" in stage.test._note.text()
    tuned.bench.connect_drive(" ".join(("practice", *CALM, "--pace", "8")))
    wait(qtbot, lambda: tuned.bench.connected)
    qtbot.mouseClick(stage.test.retune, Qt.MouseButton.LeftButton)
    assert stage.test.retune.text() == "Press again to start"
    assert stage.test._note.text().startswith("Small sines, then two tests.")
    qtbot.mouseClick(stage.test.retune, Qt.MouseButton.LeftButton)
    wait(qtbot, lambda: bool(session.runs) and not tuned.bench.busy, 40.0)
    assert [(run.kind, run.ended) for run in session.runs] == [
        ("speed sweep", "done"), ("speed step", "done"), ("load step", "done"),
    ], stage.panel._message.text()  # fmt: skip
    wait(qtbot, lambda: session.undo_label.startswith("Retune for what was seen"))
    now, found = speed_gains(session.axis), session.axis.machine.inertia
    assert found is not None
    assert now is not None
    assert found.value == pytest.approx(true.value, rel=0.02)
    assert now.Kp == pytest.approx(start.Kp / 0.6, rel=0.03)
    assert "Inertia +6" in stage.panel._message.text()


def test_a_retune_that_is_stopped_keeps_the_old_gains(qtbot: QtBot, tuned: Application) -> None:
    stage, session = _stage(tuned), tuned.session
    before = session.axis
    tuned.bench.connect_drive(" ".join(("practice", *CALM, "--pace", "2")))
    wait(qtbot, lambda: tuned.bench.connected)
    for _ in range(2):
        qtbot.mouseClick(stage.test.retune, Qt.MouseButton.LeftButton)
    wait(qtbot, lambda: tuned.bench.live.state == "running")
    tuned.window.escape()
    wait(qtbot, lambda: not tuned.bench.busy)
    assert session.axis == before
    assert not session.runs


def test_the_handles_line_takes_no_digit_from_a_label_of_the_strip(
    qtbot: QtBot, tmp_path: Path
) -> None:
    axis = tuned_winch()
    gains = speed_gains(axis)
    assert gains is not None
    slow = axis.with_loop_gains(KEY, replace(gains, Kp=0.6 * gains.Kp))
    for opened in window_on(qtbot, demo_with(slow, tmp_path / "demo")):
        opened.window.show_stage("speed")
        strip = opened.window.strip
        qtbot.wait(100)
        shown = strip._strip
        assert shown is not None
        handle = next(one for one in shown.loops if one.handle)
        pole = next(one for one in shown.markers if one.kind == "pole_d")
        at = strip.x_of(handle.hertz)
        begun = strip.x_of(pole.hertz) + 8.0
        assert begun < at < begun + text_width(pole.label, look.SMALL)  # it would cross it
        seen = strip.grab().toImage()
        accent, scale = look.theme().accent.rgb(), seen.devicePixelRatio()

        lined = {
            lane: accent in [seen.pixel(round(scale * (at + dx)), round(scale * y))
                             for dx in (-1, 0, 1)]
            for lane, y in _LANES.items()
        }  # fmt: skip
        assert lined["drive"]
        assert not lined["machine"]


def test_what_the_stage_says_goes_by_the_units_that_were_chosen(
    qtbot: QtBot, tuned: Application
) -> None:
    stage = _stage(tuned)
    plain = stage._told
    assert any(" rpm" in text for text in plain)
    tuned.session.show(units={"speed": "rad/s", "torque": "mN·m"})
    tuned.session.axis_changed.emit(tuned.session.axis)
    assert not any(" rpm" in text or " N·m" in text for text in stage._told)
    assert any(" rad/s" in text for text in stage._told)
    assert any(" mN·m" in text for text in stage._told)
    assert " rad/s" in stage.test._note.text()
    assert stage.accessibleName() == f"{stage.question} {stage._told[0]}"
    machine = stages(tuned.session.now)[0]
    assert machine.line.endswith(" rad/s")
    tuned.session.show(units={})
    tuned.session.axis_changed.emit(tuned.session.axis)
    assert stage._told == plain


def test_tests_are_typed_in_the_units_that_were_chosen_or_with_their_own(
    qtbot: QtBot, tuned: Application
) -> None:
    stage, session = _stage(tuned), tuned.session
    speed = stage.test._shown[0]
    assert stage.test._tail.text() == "rpm"
    session.show(units={"speed": "rad/s", "torque": "mN·m"})
    session.axis_changed.emit(session.axis)
    assert stage.test._tail.text() == "rad/s"
    assert stage.test._unit.text().split() == ["rad/s", "at"]
    assert float(stage.test.speed_entry.text()) == pytest.approx(speed, rel=5e-3)

    def typed(entry: Entry, text: str) -> None:
        entry.setFocus()
        entry.selectAll()
        qtbot.keyClicks(entry, text)
        qtbot.keyClick(entry, Qt.Key.Key_Return)

    typed(stage.test.size_entry, "3.2")
    assert stage.test._shown[1] == pytest.approx(3.2)
    assert stage.test._shown[0] == speed  # shown rounded, it stays what it was
    typed(stage.test.speed_entry, "40")
    assert stage.test._shown[0] == pytest.approx(40.0)
    typed(stage.test.speed_entry, "300 rpm")  # what is typed with its unit is of that unit
    assert stage.test._shown[0] == pytest.approx(300.0 * math.tau / 60.0)
    typed(stage.test.speed_entry, "20 Hz el.")
    pairs = session.axis.machine.pole_pairs.value
    assert stage.test._shown[0] == pytest.approx(20.0 * math.tau / pairs)
    before = stage.test._shown
    typed(stage.test.speed_entry, "20 Hz")  # of what?
    assert stage.test._shown == before
    assert "Units here: rad/s, rpm, Hz el." in stage.test._note.text()
    qtbot.mouseClick(stage.test.which, Qt.MouseButton.LeftButton)
    assert stage.test._unit.text().split() == ["mN·m", "at"]
    typed(stage.test.size_entry, "900")
    assert stage.test._shown[2] == pytest.approx(0.9)
    typed(stage.test.size_entry, "1.1 N·m")
    assert stage.test._shown[2] == pytest.approx(1.1)
    assert stage.test.size_entry.text() == "1100"
    assert stage.shown is not None
    linear = stage.panel._linear
    assert float(linear.value) == pytest.approx(stage.shown.linear_up_to, rel=5e-3)
    dip = stage.panel.given["dip"]
    assert dip._unit == "rad/s"
    wait(qtbot, lambda: bool(stage.ways.ways) and not stage.ways.working, 60.0)
    assert all(" rad/s" in card.accessibleName() for card in stage.ways.cards if card.isVisible())
    wanted = float(f"{1.2 * float(dip.entry.text()):.3g}")
    _type(qtbot, dip.entry, f"{wanted}")
    target = session.axis.loops[KEY].target
    assert isinstance(target, SpeedTarget)
    assert target.dip == pytest.approx(wanted)
    assert float(dip.entry.text()) == pytest.approx(wanted, rel=0.02)
    session.show(units={})
    session.axis_changed.emit(session.axis)
    assert stage.test.size_entry.text() == "1.10"
    assert dip._unit == "rpm"
    assert float(dip.entry.text()) == pytest.approx(wanted * 60.0 / math.tau, rel=0.02)
