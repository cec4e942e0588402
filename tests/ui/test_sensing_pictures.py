"""Each picture of sensing is painted from its finding, and shows what it is about."""

from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from PySide6.QtCore import QRectF
from PySide6.QtGui import QColor, QImage, QPainter

from oarlock.drive.link import Live
from oarlock.experiments.sensing.hand import TurnByHand
from oarlock.experiments.sensing.push import FourPushes
from oarlock.experiments.sensing.search import BoundedSearch
from oarlock.experiments.sensing.spin import ForcedSpin
from oarlock.experiments.sensing.startup import StartWithoutSensor, propose
from oarlock.experiments.sensing.turn import ForcedTurn
from oarlock.machine import SensorKind
from oarlock.records import Finding
from oarlock.ui.frame.app import application
from oarlock.ui.kit import theme as look
from oarlock.ui.stages.sensing import pictures as pictures
from oarlock.ui.stages.sensing import turning_pictures as turning
from tests.experiments.sensing.rig import Rig

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


def test_the_dial_follows_the_shaft(winch: Rig) -> None:
    shown = [image(pictures.paint_dial, Live(state="de-energised", angle=angle), winch.axis)
             for angle in (0.0, 1.0, 1.0)]  # fmt: skip
    assert np.any(shown[0] != shown[1])
    assert np.mean(shown[1] != shown[2]) < np.mean(shown[0] != shown[1])
