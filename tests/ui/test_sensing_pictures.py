"""Each picture of sensing is painted from its finding, and shows what it is about."""

import math
from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QColor, QImage, QPainter

from oarlock.drive.link import Live
from oarlock.experiments.sensing.evidence import HallRing
from oarlock.experiments.sensing.hand import TurnByHand
from oarlock.experiments.sensing.push import FourPushes
from oarlock.experiments.sensing.search import BoundedSearch
from oarlock.experiments.sensing.spin import ForcedSpin
from oarlock.experiments.sensing.startup import StartWithoutSensor, propose
from oarlock.experiments.sensing.turn import ForcedTurn
from oarlock.machine import SensorKind
from oarlock.quantities import Estimate, Origin
from oarlock.records import Finding
from oarlock.ui.frame.app import application
from oarlock.ui.kit import theme as look
from oarlock.ui.stages.sensing import pictures as pictures
from oarlock.ui.stages.sensing import turning_pictures as turning
from tests.experiments.sensing.rig import Rig
from tests.ui.written import written

AREA = QRectF(4, 4, 300, 150)


@pytest.fixture(scope="module")
def winch() -> Rig:
    application()
    look.load_fonts()
    rig = Rig("winch", 1).ready()
    rig.adopt(rig.find(ForcedTurn()))
    return rig


def image(paint: Any, *arguments: Any) -> np.ndarray[Any, np.dtype[np.uint8]]:
    """Return what was painted, (height, width, 4)."""
    canvas = QImage(320, 170, QImage.Format.Format_RGBA8888)
    canvas.fill(QColor("white"))
    p = QPainter(canvas)
    p.setRenderHint(QPainter.RenderHint.Antialiasing)
    paint(p, AREA, *arguments)
    p.end()
    return np.array(canvas.constBits()).reshape(170, 320, 4).copy()


def ink(pixels: np.ndarray[Any, np.dtype[np.uint8]]) -> float:
    return float(np.mean(np.any(pixels[..., :3] < 245, axis=-1)))


def has(pixels: np.ndarray[Any, np.dtype[np.uint8]], color: QColor) -> bool:
    wanted = np.array([color.red(), color.green(), color.blue()])
    return bool(np.any(np.all(np.abs(pixels[..., :3].astype(int) - wanted) < 12, axis=-1)))


@pytest.mark.parametrize(
    ("experiment", "paint", "color"),
    [
        (ForcedTurn(), turning.paint_turn, "accent"),
        (FourPushes(friction=0.25), turning.paint_push, "speed"),
        (BoundedSearch(), turning.paint_search, "ink"),
        (ForcedSpin(), turning.paint_spin, "muted"),
        (TurnByHand(), pictures.paint_hand, "accent"),
    ],
)
def test_a_finding_is_painted(winch: Rig, experiment: Any, paint: Any, color: str) -> None:
    finding = winch.find(experiment)
    pixels = image(paint, finding, winch.axis)
    assert 0.01 < ink(pixels) < 0.8
    assert has(pixels, getattr(look.theme(), color))


def test_the_start_is_painted_both_ways(winch: Rig) -> None:
    finding = winch.find(StartWithoutSensor(start=propose(winch.axis, breakaway=0.25)))
    pixels = image(turning.paint_start, finding, winch.axis)
    green = look.theme().speed
    rows = np.nonzero(
        np.all(
            np.abs(pixels[..., :3].astype(int) - [green.red(), green.green(), green.blue()]) < 40,
            axis=-1,
        )
    )[0]
    assert rows.min() < 60  # forward above the middle
    assert rows.max() > 100  # backward below it


def test_an_encoder_s_counts_are_painted() -> None:
    rig = Rig("winch", 2, sensor="encoder")
    rig.axis = replace(rig.axis, sensor=replace(rig.axis.sensor, kind=SensorKind.ENCODER))
    finding = rig.find(TurnByHand())
    assert has(image(pictures.paint_hand, finding, rig.axis), look.theme().accent)


def test_a_failed_finding_is_painted_too(winch: Rig) -> None:
    stuck = Rig("winch", 1, brake_stuck=True).known()
    for experiment, paint in ((ForcedTurn(), turning.paint_turn),
                              (BoundedSearch(), turning.paint_search),
                              (FourPushes(), turning.paint_push)):  # fmt: skip
        finding = stuck.find(experiment)
        assert not finding.holds
        image(paint, finding, stuck.axis)
    empty = Finding(quantity="forced turn", estimates={}, checks=())
    hall = replace(winch.axis, sensor=replace(winch.axis.sensor, kind=SensorKind.HALL))
    assert ink(image(turning.paint_turn, empty, hall)) == 0.0


def test_the_sensors_error_is_told_beside_its_curve(
    winch: Rig, monkeypatch: pytest.MonkeyPatch
) -> None:
    finding = winch.find(ForcedTurn())
    every: list[tuple[str, QRectF]] = []
    boxes = written(monkeypatch, "sensing.turning_pictures", every=every)
    image(turning.paint_turn, finding, winch.axis)
    label = boxes.pop(next(text for text in boxes if text.startswith("sensor ±0.")))
    zero = dict(reversed(every))["0"].center().y()  # where the curve lies, to half a degree
    assert label.top() > zero + 8.0
    assert not any(label.intersects(box) for box in boxes.values())


@pytest.mark.parametrize("turned", [0.0, 0.3, 0.52])
def test_the_ring_of_halls_covers_none_of_its_degrees(
    winch: Rig, monkeypatch: pytest.MonkeyPatch, turned: float
) -> None:
    starts = np.arange(6, dtype=np.float64) * math.pi / 3.0 + turned
    ring = HallRing(edges=np.repeat(starts, 2), ways=np.tile([1.0, -1.0], 6), starts=starts,
                    order=(5, 1, 3, 2, 6, 4), curve=np.zeros((2, 2)))  # fmt: skip
    told = ("spread", "friction", "left error", "even error", "left ripple", "even ripple")
    some = Estimate(value=0.01, std=0.0, unit="rad", origin=Origin.MEASURED)
    finding = Finding(quantity="forced turn", estimates={}, checks=(), evidence=ring,
                      extra=dict.fromkeys(told, some))  # fmt: skip
    hall = replace(winch.axis, sensor=replace(winch.axis.sensor, kind=SensorKind.HALL))
    boxes: list[tuple[str, QRectF]] = []
    once = written(monkeypatch, "sensing.turning_pictures", every=boxes)
    image(turning.paint_turn, finding, hall)
    degrees = [box for text, box in boxes if text == "60.0°"]
    assert len(degrees) == 6
    radius, centre = 61.0, QPointF(4 + 61 + 44, 79)
    for box in degrees:
        nearest = QPointF(min(max(centre.x(), box.left()), box.right()),
                          min(max(centre.y(), box.top()), box.bottom()))  # fmt: skip
        off = nearest - centre
        assert math.hypot(off.x(), off.y()) > 1.03 * radius  # where the edges' marks end
        assert AREA.left() <= box.left()
        assert box.right() < min(b.left() for text, b in once.items() if text.endswith(" %"))


def test_the_dial_follows_the_shaft(winch: Rig) -> None:
    shown = [image(pictures.paint_dial, Live(state="de-energised", angle=angle), winch.axis)
             for angle in (0.0, 1.0, 1.0)]  # fmt: skip
    assert np.any(shown[0] != shown[1])
    assert np.mean(shown[1] != shown[2]) < np.mean(shown[0] != shown[1])
