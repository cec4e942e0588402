"""What a dragged handle does at once, what follows when it rests, and what when it is let go."""

import threading
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from numpy.typing import NDArray
from PySide6.QtCore import QEvent, QObject, QPointF, QRect, QRectF
from PySide6.QtGui import QImage, QPixmap
from pytestqt.qtbot import QtBot

from oarlock.control.designs import follows
from oarlock.control.position_design import design_position, position_gains
from oarlock.control.speed_design import speed_gains
from oarlock.experiments.loops.speed_test import span_of
from oarlock.machine import Axis
from oarlock.quantities.display import digits
from oarlock.session.dragging import with_current
from oarlock.session.jobs import Done, Failed
from oarlock.ui.frame import loop_lane, strip_loops
from oarlock.ui.frame.app import Application
from oarlock.ui.kit import theme as look
from oarlock.ui.kit.plot import Plot, linear_ticks, outward
from oarlock.ui.stages.current.stage import CurrentStage
from oarlock.ui.stages.frequency import FrequencyPlot
from oarlock.ui.stages.speed.stage import SpeedStage
from oarlock.views.current import CurrentPicture, loop_picture
from oarlock.views.rail import stages
from oarlock.views.screen import SpeedSettings
from oarlock.views.snapshot import Snapshot
from oarlock.views.speed import picture
from oarlock.views.speed_sweep import Swept
from oarlock.views.stage import Stage
from tests.conftest import wait
from tests.demos import demo_with
from tests.speed_axis import tuned_winch
from tests.ui.conftest import window_on
from tests.ui.written import written


class Painted(QObject):
    """Counts how often what it watches is painted."""

    count = 0

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        self.count += event.type() == QEvent.Type.Paint
        return super().eventFilter(watched, event)


@pytest.fixture
def tuned(qtbot: QtBot, tmp_path: Path) -> Iterator[Application]:
    """The window on a winch with all three loops designed."""
    axis = tuned_winch()
    axis = axis.with_loop_gains("position", design_position(axis).gains)
    yield from window_on(qtbot, demo_with(axis, tmp_path / "demo"))


def _crossover(opened: Application, key: str) -> float:
    loops = opened.window.strip._strip
    assert loops is not None
    return next(m.hertz for m in loops.loops if m.label.startswith(key))


def test_loops_outside_follow_when_a_drag_rests_and_are_kept_when_it_ends(
    qtbot: QtBot, tuned: Application
) -> None:
    tuned.window.show_stage("current")
    stage, session = tuned.window.stage("current"), tuned.session
    start = session.axis
    speed, position = _crossover(tuned, "speed"), _crossover(tuned, "position")
    rail = tuned.window.rail.item("speed").accessibleDescription()
    for hertz in (500.0, 400.0, 300.0):
        stage.drag_to(hertz)
    assert _crossover(tuned, "current") == pytest.approx(300.0, rel=1e-3)
    assert speed_gains(session.axis) == speed_gains(start)  # not designed anew at every move
    assert _crossover(tuned, "speed") == speed
    wait(qtbot, lambda: _crossover(tuned, "speed") < 0.95 * speed)
    slower = _crossover(tuned, "speed")
    assert _crossover(tuned, "position") < 0.95 * position
    assert tuned.window.rail.item("speed").accessibleDescription() != rail
    stage.end_drag()
    assert _crossover(tuned, "speed") == pytest.approx(slower, rel=1e-6)
    assert speed_gains(session.axis) != speed_gains(start)
    assert all(follows(session.axis, key) for key in ("current", "speed", "position"))
    session.undo()  # one edit, all loops
    assert session.axis == start
    stage.drag_to(400.0)
    session.end_drag("no", keep=False)
    assert session.axis == start
    assert _crossover(tuned, "speed") == speed


def test_what_hangs_on_a_drag_is_worked_out_beside_the_window(
    qtbot: QtBot, tuned: Application, monkeypatch: pytest.MonkeyPatch
) -> None:
    """In a job; what comes late, after the handle went on, is not shown."""
    tuned.window.show_stage("current")
    stage, loops = tuned.window.stage("current"), tuned.window.loops
    threads: list[str] = []
    plain = stages

    def watched(now: Snapshot) -> list[Stage]:
        threads.append(threading.current_thread().name)
        return plain(now)

    monkeypatch.setattr(strip_loops, "stages", watched)
    rails: list[object] = []
    loops.rested.connect(rails.append)
    stage.drag_to(400.0)
    speed = _crossover(tuned, "speed")
    wait(qtbot, lambda: bool(rails))
    assert threads == ["drag at rest"]
    rested = _crossover(tuned, "speed")
    assert rested != speed
    late = tuned.session.axis
    stage.drag_to(300.0)
    loops._rest.stop()
    loops._take(late, Done(({"speed": None}, [])))
    assert len(rails) == 1
    assert _crossover(tuned, "speed") == rested
    stage.end_drag()
    loops._take(tuned.session.axis, Done(({"speed": None}, [])))  # let go meanwhile
    assert len(rails) == 1
    with pytest.raises(ZeroDivisionError):
        loops._take(tuned.session.axis, Failed(ZeroDivisionError()))


def test_a_position_loop_follows_the_speed_loop_that_is_dragged_or_typed(
    qtbot: QtBot, tuned: Application
) -> None:
    tuned.window.show_stage("speed")
    stage, session = tuned.window.stage("speed"), tuned.session
    before, at = position_gains(session.axis), _crossover(tuned, "speed")
    stage.drag_to(0.6 * at)
    assert position_gains(session.axis) == before
    stage.end_drag()
    slower = position_gains(session.axis)
    assert before is not None
    assert slower is not None
    assert slower.Kp < 0.8 * before.Kp
    assert follows(session.axis, "position")
    stage.nudge(1.5)
    faster = position_gains(session.axis)
    assert faster is not None
    assert faster.Kp > slower.Kp


@pytest.mark.parametrize(("key", "low", "high"), [("speed", 16.0, 17.0), ("position", 3.9, 4.1)])
def test_scales_and_ways_stand_while_a_loop_is_dragged(
    qtbot: QtBot, tuned: Application, monkeypatch: pytest.MonkeyPatch,
    key: str, low: float, high: float,
) -> None:  # fmt: skip
    """What stands is not painted again, and nobody reads another scale at every position."""
    tuned.window.loops._rest.setInterval(600_000)  # on a busy machine too it does not rest
    tuned.window.show_stage(key)
    stage = tuned.window.stage(key)
    if isinstance(stage, SpeedStage):
        wait(qtbot, lambda: bool(stage.ways.ways))
    stage.drag_to(low)
    qtbot.wait(20)
    frames: list[Plot] = []
    frame, cards = Plot._paint_frame, Painted()

    def framed(plot: Plot) -> QPixmap:
        frames.append(plot)
        return frame(plot)

    monkeypatch.setattr(Plot, "_paint_frame", framed)
    for one in stage.ways.cards if isinstance(stage, SpeedStage) else ():
        one.installEventFilter(cards)
    for hertz in np.linspace(low, high, 12).tolist():
        stage.drag_to(hertz)
        qtbot.wait(5)
    assert cards.count <= 3  # of 36: a busy machine is late to paint each once
    assert len(frames) <= 12  # a few scales go on by a step
    stage.end_drag()


def test_the_current_loop_is_not_worked_out_while_another_is_dragged(
    qtbot: QtBot, tuned: Application, monkeypatch: pytest.MonkeyPatch
) -> None:
    tuned.window.show_stage("speed")
    stage, current = tuned.window.stage("speed"), _crossover(tuned, "current")
    asked: list[Axis] = []

    def watched(axis: Axis, which: str) -> CurrentPicture | None:
        asked.append(axis)
        return loop_picture(axis, which)

    monkeypatch.setattr(strip_loops, "loop_picture", watched)
    tuned.window.loops._rest.setInterval(600_000)
    for hertz in (16.0, 16.5, 17.0):
        stage.drag_to(hertz)
    stage.end_drag()
    assert not asked
    assert _crossover(tuned, "current") == current
    axis = tuned.session.axis
    target = replace(axis.target, value=0.5 * axis.target.value)
    tuned.session.edit("slower", with_current(axis, target))
    assert asked
    assert _crossover(tuned, "current") < 0.6 * current


def test_another_read_out_paints_nothing_else_of_the_strip(
    qtbot: QtBot, tuned: Application, monkeypatch: pytest.MonkeyPatch
) -> None:
    tuned.window.show_stage("speed")
    strip = tuned.window.strip
    loops: list[None] = []
    painted = loop_lane.paint_loops
    monkeypatch.setattr("oarlock.ui.frame.strip.paint_loops", lambda *a: loops.append(painted(*a)))
    seen, last = Painted(), -1
    strip.installEventFilter(seen)
    while seen.count != last:  # until nothing is late any more
        last = seen.count
        qtbot.wait(100)
    loops.clear()
    before = strip.grab().toImage()
    assert len(loops) == 1  # all of it
    seen.count = 0
    told = tuned.window.current.read_out()
    strip.show_read_out(told)  # the same
    qtbot.wait(20)
    assert seen.count == 0
    strip.show_read_out(replace(told, value="12.3"))
    qtbot.wait(20)
    assert (seen.count, len(loops)) == (1, 1)
    after = strip.grab().toImage()
    edge = strip.width() - look.NUMBERS
    left, right = QRect(0, 0, edge, look.STRIP), QRect(edge, 0, look.NUMBERS, look.STRIP)
    assert after.copy(left) == before.copy(left)
    assert after.copy(right) != before.copy(right)


def _stand_clear(places: list[QRectF], plot: FrequencyPlot, hertz: float) -> bool:
    """Return whether all lie within a plot, and to one side of the handle's line."""
    line, end = plot.at(hertz), plot.area.right()
    return all(at.right() < end and not at.left() <= line <= at.right() for at in places)


@pytest.mark.parametrize("hertz", [5.0, 12.0, 37.0])
def test_the_handle_s_line_crosses_nothing_that_a_sweep_says(
    qtbot: QtBot, tuned: Application, monkeypatch: pytest.MonkeyPatch, hertz: float
) -> None:
    tuned.window.show_stage("speed")
    stage = tuned.window.stage("speed")
    assert isinstance(stage, SpeedStage)
    boxes = written(monkeypatch, "speed.frequency_pictures")
    stage.drag_to(hertz)
    stage.end_drag()
    assert stage.shown is not None
    points = np.array([5.0, 50.0])
    shaft = "shaft 210.9 ± 0.2 Hz, Q 28"
    sweep = Swept(when="02:07", preview=False, f=points, gain=points, phase=-points,
                  trusted=points > 0.0, crossover=hertz, margin=55.0, shaft=shaft)  # fmt: skip
    stage.gain_plot.show_gain(stage.shown, sweep, verified=True)
    stage.gain_plot.grab()
    word = f"measured {digits(hertz, 3)}"
    places = [boxes["circles: measured 02:07"], boxes[shaft], boxes[word]]
    assert _stand_clear(places, stage.gain_plot, stage.shown.crossover)
    assert not boxes[word].intersects(boxes["closed loop"])
    curves = (stage.shown.open_gain, stage.shown.closed_gain) if hertz > 5.0 else ()
    for curve in curves:  # at 5 Hz there is room where they run alone
        at = [QPointF(stage.gain_plot.at(f), stage.gain_plot.py(g))
              for f, g in zip(stage.shown.f.tolist(), curve.tolist(), strict=True)]  # fmt: skip
        assert not any(boxes[word].contains(point) for point in at)


@pytest.mark.parametrize("hertz", [120.0, 560.0, 900.0])
def test_the_handle_s_line_crosses_no_bandwidth(
    qtbot: QtBot, tuned: Application, monkeypatch: pytest.MonkeyPatch, hertz: float
) -> None:
    """It is written beside its frequency, on the side that is free."""
    tuned.window.show_stage("current")
    stage = tuned.window.stage("current")
    assert isinstance(stage, CurrentStage)
    boxes = written(monkeypatch, "current.frequency_pictures")
    stage.drag_to(hertz)
    stage.gain_plot.grab()
    stage.end_drag()
    assert stage.shown is not None
    value = next(text for text in boxes if text.startswith("**") and "Hz" in text)
    places = [boxes["bandwidth"], boxes[value]]
    assert _stand_clear(places, stage.gain_plot, stage.shown.crossover)


@pytest.mark.parametrize("hertz", [200.0, 560.0, 900.0, 1400.0, 1778.0])
def test_no_words_meet_in_the_step_however_far_it_swings(
    qtbot: QtBot, tuned: Application, monkeypatch: pytest.MonkeyPatch, hertz: float
) -> None:
    tuned.window.show_stage("current")
    stage = tuned.window.stage("current")
    assert isinstance(stage, CurrentStage)
    boxes = written(monkeypatch, "current.pictures")
    stage.drag_to(hertz)
    boxes.clear()
    stage.step_plot.grab()
    stage.end_drag()
    within = next(box for text, box in boxes.items() if text.startswith("within"))
    above = next(box for text, box in boxes.items() if "above" in text)
    assert not within.adjusted(0, -2, 0, 2).intersects(above)


@pytest.mark.parametrize(("key", "hertz"), [("current", 500.0), ("speed", 17.0), ("position", 4.0)])
def test_what_is_painted_part_by_part_is_what_is_painted_at_once(
    qtbot: QtBot, tuned: Application, key: str, hertz: float
) -> None:
    """But for the edges of letters, which are drawn at first and are a picture later."""
    tuned.window.show_stage(key)
    window, stage = tuned.window, tuned.window.stage(key)
    for factor in (1.0, 0.9, 1.1, 0.8):
        stage.drag_to(factor * hertz)
        qtbot.wait(20)
    window.strip.update(QRect(window.strip.width() - 40, 0, 40, 20))
    window.strip.update(QRect(300, 30, 40, 20))
    qtbot.wait(20)
    on_screen = window.screen().grabWindow(window.winId()).toImage()
    apart = np.abs(_pixels(on_screen) - _pixels(window.grab().toImage()))
    assert apart.max() < 80
    stage.end_drag()


def _pixels(image: QImage) -> NDArray[np.int64]:
    plain = image.convertToFormat(QImage.Format.Format_RGB32)
    colors = np.frombuffer(plain.constBits(), dtype=np.uint8)
    return colors.reshape(plain.height(), plain.width(), 4)[..., :3].astype(np.int64)


@pytest.mark.parametrize("low", [-3.7e-4, 0.0, 12.3])
@pytest.mark.parametrize("span", [7.1e-4, 0.9, 3.3, 5210.0])
def test_a_range_ends_at_round_numbers_not_far_out(low: float, span: float) -> None:
    first, last = outward(low, low + span)
    assert low - 0.1 * span <= first <= low
    assert low + span <= last <= low + 1.1 * span + 1e-12
    assert outward(1.0, 1.0) == (1.0, 1.0)


@pytest.mark.parametrize("count", [1, 3, 5])
@pytest.mark.parametrize(("low", "high"), [(-0.8, 0.8), (3.1, 3.9), (0.0, 1.0), (-7e-3, 2e-3)])
def test_a_scale_has_two_numbers_at_least(low: float, high: float, count: int) -> None:
    ticks = linear_ticks(low, high, count)
    assert 2 <= len(ticks) <= 2 * count + 2
    assert len({label for _, label in ticks}) == len(ticks)
    assert all(low <= value <= high for value, _ in ticks)


def test_a_loop_is_drawn_for_as_long_as_it_takes_and_little_longer() -> None:
    for factor in (0.5, 0.8, 1.0, 1.3):
        axis = tuned_winch()
        gains = speed_gains(axis)
        assert gains is not None
        shown = picture(axis.with_loop_gains("speed", replace(gains, Ki=factor * gains.Ki)),
                        SpeedSettings())  # fmt: skip
        takes, T = span_of(shown.loop), shown.loop.plant.T
        assert takes - T <= shown.t[-1] <= 1.3 * takes


def test_a_frame_is_painted_again_where_range_or_numbers_change(qtbot: QtBot) -> None:
    plot = Plot()
    qtbot.addWidget(plot)
    plot.set_x(0.0, 2.0, [(1.0, "1")])
    plot._frame = standing = QPixmap(1, 1)
    plot.set_x(0.0, 2.0, [(1.0, "1")])
    assert plot._frame is standing
    plot.set_x(0.0, 2.0, [(1.0, "1 s")])
    assert plot._frame is None
    plot._frame = standing
    plot.set_x(0.0, 2.5, [(1.0, "1 s")])
    assert plot._frame is None


def test_a_number_at_the_lower_edge_is_whole(qtbot: QtBot) -> None:
    rows = []
    for low in (-80.0, -40.0):  # in the middle, at the edge
        plot = Plot(left=60, bottom=0)
        qtbot.addWidget(plot)
        plot.resize(200, 120)
        plot.set_y(low, 0.0, [(-40.0, "40")])
        image = plot._paint_frame().toImage()
        paper = image.pixelColor(1, 1)
        rows.append(sum(any(image.pixelColor(x, y) != paper for x in range(55))
                        for y in range(image.height())))  # fmt: skip
    assert rows[0] == rows[1] > 5


def test_a_gain_of_ones_own_stays_where_the_loop_inside_moves(tuned: Application) -> None:
    session = tuned.session
    gains = position_gains(session.axis)
    assert gains is not None
    mine = session.axis.with_loop_gains("position", type(gains)(Kp=0.7 * gains.Kp))
    session.edit("by hand", mine)
    tuned.window.show_stage("speed")
    stage = tuned.window.stage("speed")
    stage.drag_to(0.7 * _crossover(tuned, "speed"))
    stage.end_drag()
    assert position_gains(session.axis) == position_gains(mine)


def test_a_band_is_filled_between_its_curves(qtbot: QtBot) -> None:
    """Pixels between both curves are shaded, those outside are not."""
    plot = Plot(left=10, right=10, top=10, bottom=10)
    qtbot.addWidget(plot)
    plot.resize(220, 120)
    plot.set_x(0.0, 1.0, [])
    plot.set_y(0.0, 1.0, [])
    x = np.linspace(0.0, 1.0, 50)
    plot.behind(lambda p: plot.paint_band(p, x, 0.2 + 0.2 * x, 0.6 + 0.2 * x, look.theme().speed))
    plot.show()
    picture = plot.grab().toImage()
    plot.hide()

    def shade(u: float, v: float) -> str:
        return str(picture.pixelColor(round(plot.px(u)), round(plot.py(v))).name())

    ground = shade(0.5, 0.05)
    assert shade(0.1, 0.5) != ground
    assert shade(0.9, 0.7) != ground
    assert shade(0.1, 0.75) == ground
    assert shade(0.9, 0.3) == ground


def test_a_typed_gain_stays_and_the_loop_outside_follows_it(tuned: Application) -> None:
    session = tuned.session
    gains, outer = speed_gains(session.axis), position_gains(session.axis)
    assert gains is not None
    assert outer is not None
    slow = replace(gains, Kp=0.5 * gains.Kp, Ki=0.25 * gains.Ki)
    tuned.window.show_stage("speed")
    stage = tuned.window.stage("speed")
    assert isinstance(stage, SpeedStage)
    session.edit("typed", session.followed(session.axis.with_loop_gains("speed", slow), "speed"))
    assert speed_gains(session.axis) == slow
    followed = position_gains(session.axis)
    assert followed is not None
    assert followed.Kp < 0.8 * outer.Kp
    stage.set_gain("Kp", f"{gains.Kp:.6g}")
    typed = speed_gains(session.axis)
    assert typed is not None
    assert typed.Kp == pytest.approx(gains.Kp, rel=1e-5)
    assert typed.Ki == slow.Ki


def test_a_window_that_is_left_in_mid_drag_brings_nothing_up_to_date(
    qtbot: QtBot, tuned: Application
) -> None:
    tuned.window.show_stage("current")
    window = tuned.window
    window.stage("current").drag_to(400.0)
    assert window.loops._rest.isActive()
    tuned.toggle_theme()
    assert tuned.window is not window
    assert not window.loops._rest.isActive()
