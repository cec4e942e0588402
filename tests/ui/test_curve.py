"""A long wide curve is drawn piece by piece: quickly, and as it would be drawn at once."""

import numpy as np
import pytest
from numpy.typing import NDArray
from PySide6.QtGui import QColor, QImage
from pytestqt.qtbot import QtBot

from oarlock.ui.kit import plot as kit
from oarlock.ui.kit import plotted
from oarlock.ui.kit import theme as look

X = np.linspace(0.0, 1.0, 1003)


def shades(image: QImage) -> NDArray[np.float64]:
    """Return how light an image is, (rows, columns), 0 to 255."""
    plain = image.convertToFormat(QImage.Format.Format_RGB32)
    pixels = np.frombuffer(plain.constBits(), dtype=np.uint8)
    colours = pixels.reshape(plain.height(), -1, 4)[:, : plain.width(), :3]
    light: NDArray[np.float64] = 0.5 * colours.max(axis=2) + 0.5 * colours.min(axis=2)
    return light


@pytest.fixture
def drawn(qtbot: QtBot, monkeypatch: pytest.MonkeyPatch):  # type: ignore[no-untyped-def]
    """Return a function: a curve's picture as shades of grey, (rows, columns), and its pieces."""

    def draw(y: np.ndarray, *, at_once: bool = False, width: float = 1.8, alpha: int = 255):  # type: ignore[no-untyped-def]
        plot = kit.Plot(left=10, right=10, top=10, bottom=10)
        qtbot.addWidget(plot)
        plot.resize(620, 160)
        plot.set_x(0.0, 1.0, [])
        plot.set_y(-1.0, 1.0, [])
        curve = plot.curve(look.faded(look.theme().speed, alpha), width)
        with monkeypatch.context() as patch:
            if at_once:
                patch.setattr(plotted, "_LONG", 10**9)
            curve.show(X, y)
            plot.show()
            image = plot.grab().toImage()
        plot.hide()
        return shades(image), list(curve._pieces or ())

    return draw


@pytest.mark.parametrize("noise", [0.0, 0.15])
def test_in_pieces_it_looks_as_at_once(drawn, noise: float) -> None:  # type: ignore[no-untyped-def]
    y = 0.7 * np.sin(9.0 * X) + noise * np.random.default_rng(2).standard_normal(X.size)
    (cut, pieces), (whole, none) = drawn(y), drawn(y, at_once=True)
    assert len(pieces) > 25
    assert len(none) == 1
    assert sum(len(piece) - 1 for piece in pieces) == X.size - 1  # no stretch is left out
    ground = np.median(whole)
    inked = np.abs(whole - ground) > 40
    assert inked.sum() > 1000
    # Where pieces meet an edge may be a shade darker, and a spike half a pixel longer.
    off = np.abs(cut - whole)
    assert np.mean(off[inked]) < 8.0
    assert np.sum(off[~inked] > 60.0) < 0.02 * inked.sum()
    assert np.sum(off[inked] > 60.0) < 0.02 * inked.sum()


def test_new_data_and_a_new_range_are_placed_anew(qtbot: QtBot) -> None:
    plot = kit.Plot(left=10, right=10, top=10, bottom=10)
    qtbot.addWidget(plot)
    plot.resize(620, 160)
    plot.set_x(0.0, 1.0, [])
    plot.set_y(-1.0, 1.0, [])
    curve = plot.curve(look.theme().speed, 1.8)
    curve.show(X, np.zeros(X.size))
    plot.show()

    def height() -> float:
        plot.grab()
        return (curve._pieces or [])[0].at(0).y()

    found = [height()]
    curve.show(X, np.full(X.size, 0.5))
    found.append(height())
    plot.set_y(0.0, 2.0, [])
    found.append(height())
    plot.resize(620, 300)
    found.append(height())
    plot.hide()
    assert found == [80.0, 45.0, 115.0, 220.0]


def test_what_would_show_its_ends_is_drawn_at_once(drawn) -> None:  # type: ignore[no-untyped-def]
    y = 0.5 * np.sin(9.0 * X)
    gap = np.where((X > 0.4) & (X < 0.6), np.nan, y)
    assert max(len(piece) for piece in drawn(gap)[1]) < 40
    assert [len(piece) for piece in drawn(y, alpha=90)[1]] == [X.size]
    left, right = int(np.sum(X <= 0.4)), int(np.sum(X >= 0.6))
    assert [len(piece) for piece in drawn(gap, alpha=90)[1]] == [left, right]


@pytest.mark.parametrize("width", [1.0, 1.8])
def test_of_a_gap_nothing_is_drawn(drawn, width: float) -> None:  # type: ignore[no-untyped-def]
    y = np.zeros(X.size)
    whole, _ = drawn(y, width=width)
    cut, _ = drawn(np.where((X > 0.4) & (X < 0.6), np.nan, y), width=width)
    middle = (slice(70, 90), slice(10 + int(0.42 * 600), 10 + int(0.58 * 600)))
    assert np.any(np.abs(whole - np.median(whole))[middle] > 40)
    assert not np.any(np.abs(cut - np.median(cut))[middle] > 40)


def test_points_are_rings_where_the_axes_put_them(qtbot: QtBot) -> None:
    plot = kit.Plot(left=10, right=10, top=10, bottom=10)
    qtbot.addWidget(plot)
    plot.resize(220, 120)
    plot.set_x(0.0, 1.0, [])
    plot.set_y(0.0, 1.0, [])
    points, red = plot.points(QColor("red"), 9.0), QColor("red").rgb()
    points.show(np.array([0.25, np.nan, 0.75, 3.0]), np.array([0.5, 0.5, 0.8, 0.5]), QColor("red"))
    plot.show()
    image = plot.grab().toImage()
    inked = {(c, r) for c in range(220) for r in range(120)
             if image.pixelColor(c, r).saturation() > 120}  # fmt: skip
    for x, y in ((60, 60), (160, 30)):
        near = [(c, r) for c, r in inked if abs(c - x) < 12 and abs(r - y) < 12]
        assert np.mean(near, axis=0) == pytest.approx((x - 0.5, y - 0.5), abs=0.6)
        assert max(c for c, _ in near) - min(c for c, _ in near) in (8, 9, 10)
        assert image.pixelColor(x, y).rgb() != red  # hollow
        inked -= set(near)
    assert not inked  # neither the point that is none, nor the one beyond the axis
    points.clear()
    cleared = plot.grab().toImage()
    assert cleared.pixelColor(60, 56).saturation() < 60
    plot.hide()


def test_a_dense_curve_is_a_hairline_at_once(drawn, qtbot: QtBot) -> None:  # type: ignore[no-untyped-def]
    plot = kit.Plot()
    qtbot.addWidget(plot)
    curve = plot.curve(look.theme().speed, 1.8)
    curve.show(X, np.sin(X), dense=True)
    plot.grab()
    assert curve.drawn_with.widthF() == 1.0
    assert [piece.size() for piece in curve._pieces or ()] == [X.size]
