"""A long wide curve is drawn piece by piece: quickly, and as it would be drawn at once."""

import numpy as np
import pytest
from pytestqt.qtbot import QtBot

from oarlock.ui.kit import plot as kit
from oarlock.ui.kit import theme as look

X = np.linspace(0.0, 1.0, 1003)


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
                patch.setattr(kit, "_LONG", 10**9)
            curve.setData(X, y)
            plot.show()
            image = plot.grab().toImage()
        plot.hide()
        shades = [[image.pixelColor(c, r).lightness() for c in range(image.width())]
                  for r in range(image.height())]  # fmt: skip
        return np.array(shades, dtype=float), list(curve._pieces)

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


def test_new_data_is_cut_anew(drawn, qtbot: QtBot) -> None:  # type: ignore[no-untyped-def]
    plot = kit.Plot(left=10, right=10, top=10, bottom=10)
    qtbot.addWidget(plot)
    plot.resize(620, 160)
    plot.set_x(0.0, 1.0, [])
    plot.set_y(-1.0, 1.0, [])
    curve = plot.curve(look.theme().speed, 1.8)
    curve.setData(X, np.zeros(X.size))
    plot.show()
    plot.grab()
    first = curve._pieces[0][0].y()
    curve.setData(X, np.full(X.size, 0.5))
    plot.grab()
    plot.hide()
    assert (first, curve._pieces[0][0].y()) == (0.0, 0.5)


def test_what_would_show_its_ends_is_drawn_at_once(drawn) -> None:  # type: ignore[no-untyped-def]
    y = 0.5 * np.sin(9.0 * X)
    gap = np.where((X > 0.4) & (X < 0.6), np.nan, y)
    assert max(len(piece) for piece in drawn(gap)[1]) < 40
    assert not drawn(y, width=1.0)[1]
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
