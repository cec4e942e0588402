"""The evidence of each quantity, drawn large and small, and what stands beside it."""

import math
from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from benchmarks.machines import printed_axis, sensed
from PySide6.QtGui import QColor, QImage

from oarlock.experiments.identify.estimate import estimate
from oarlock.experiments.identify.experiments import experiment_for
from oarlock.machine import Axis
from oarlock.practice.truth import draw
from oarlock.records import Finding
from oarlock.records.evidence import Fitted
from oarlock.records.quantity import BY_KEY, KEYS
from oarlock.ui.frame.app import application
from oarlock.ui.kit import theme as look
from oarlock.ui.stages.identify.pictures import EvidencePlot, ResidualPlot, quantity_color, ticks_of
from oarlock.ui.stages.identify.widgets import Consequences, TileButton
from oarlock.views.identify import Tile, consequences, follows
from oarlock.views.strip import strip
from tests.conftest import play_on_model


@pytest.fixture(scope="module")
def found() -> dict[str, Finding]:
    """All six of the winch, each with what was found before."""
    application()
    look.load_fonts()
    plant = draw("winch", 1)
    axis = sensed(printed_axis("winch"), plant)
    findings = {}
    for quantity in KEYS:
        finding = estimate(play_on_model(experiment_for(quantity), axis, plant), axis)
        assert finding.holds, finding.failed
        for path, value in finding.estimates.items():
            axis = axis.adopting(path, value)
        findings[quantity] = finding
    return findings


@pytest.fixture(scope="module")
def known(found: dict[str, Finding]) -> Axis:
    axis = sensed(printed_axis("winch"), draw("winch", 1))
    for finding in found.values():
        for path, value in finding.estimates.items():
            axis = axis.adopting(path, value)
    return axis


def pixels(widget: Any, width: int, height: int) -> np.ndarray[Any, np.dtype[np.uint8]]:
    widget.resize(width, height)
    widget.show()
    application().processEvents()
    picture = widget.grab().toImage().convertToFormat(QImage.Format.Format_RGBA8888)
    found = np.array(picture.constBits()).reshape(picture.height(), picture.width(), 4).copy()
    widget.hide()
    return found


def share(shown: np.ndarray[Any, np.dtype[np.uint8]], color: QColor, near: int = 14) -> float:
    wanted = np.array([color.red(), color.green(), color.blue()])
    return float(np.mean(np.all(np.abs(shown[..., :3].astype(int) - wanted) < near, axis=-1)))


@pytest.mark.parametrize("quantity", KEYS)
def test_evidence_and_residual_are_drawn(found: dict[str, Finding], quantity: str) -> None:
    plot, left = EvidencePlot(), ResidualPlot()
    plot.show_finding(found[quantity])
    left.show_finding(found[quantity])
    assert share(pixels(plot, 560, 240), quantity_color(quantity)) > 0.002
    drawn = pixels(left, 560, 120)
    left.show_finding(None)
    empty = pixels(left, 560, 120)
    color = quantity_color(quantity)
    assert share(drawn, color, 90) > share(empty, color, 90) + 3e-4


def test_nothing_is_drawn_of_nothing(found: dict[str, Finding]) -> None:
    plot, left = EvidencePlot(), ResidualPlot()
    for shown in (None, replace(found["flux"], evidence=None)):
        plot.show_finding(shown)
        left.show_finding(shown)
        assert share(pixels(plot, 560, 240), quantity_color("flux")) < 1e-4


def test_runs_before_lie_under_the_newest(found: dict[str, Finding]) -> None:
    flux = found["flux"]
    assert isinstance(flux.evidence, Fitted)
    lower = replace(flux.evidence, fit_y=0.6 * flux.evidence.fit_y)
    plot = EvidencePlot()
    plot.show_finding(flux)
    alone = share(pixels(plot, 560, 240), look.theme().muted)
    plot.show_finding(flux, (replace(flux, evidence=lower),))
    assert share(pixels(plot, 560, 240), look.theme().muted) > 1.1 * alone


def test_the_sweep_has_a_logarithmic_axis() -> None:
    ticks = ticks_of("resonance", math.log10(8.0), math.log10(400.0))
    assert [label for _, label in ticks] == ["10", "20", "50", "100", "200 Hz"]
    assert ticks[-1][0] == pytest.approx(math.log10(200.0))


@pytest.mark.parametrize("quantity", KEYS)
def test_a_tile_draws_its_evidence_in_small(found: dict[str, Finding], quantity: str) -> None:
    finding = found[quantity]
    tile = Tile(quantity=quantity, value="1.00", unit="x", plus="", verdict=finding.remark,
                holds=True, adopted=True, run=None, finding=finding)  # fmt: skip
    button = TileButton(quantity, None)  # type: ignore[arg-type]
    button.show_tile(tile)
    drawn = pixels(button, 288, 84)
    assert share(drawn[:, :125], quantity_color(quantity)) > 0.003
    button.show_tile(replace(tile, finding=None, holds=False))
    assert share(pixels(button, 288, 84)[:, :125], look.theme().d) == 0.0


def test_what_adopting_would_change(found: dict[str, Finding], known: Axis) -> None:
    printed = sensed(printed_axis("winch"), draw("winch", 1))
    rows = {row.name: row for row in consequences(printed, found["flux"])}
    torque = rows["Torque at 20 A"]
    assert float(torque.after) < float(torque.before)  # 3 % less flux than printed
    rows = {row.name: row for row in consequences(printed, found["inertia"])}
    assert float(rows["Acceleration"].after) > float(rows["Acceleration"].before)
    beside = Consequences()
    beside.show_rows(follows(known))
    assert "No-load speed" in beside.accessibleName()
    assert "R J / (1.5 p² ψ²)" in beside.toolTip()
    assert share(pixels(beside, 220, 152), look.theme().ink) > 0.01


def test_dip_and_peak_stand_on_the_strip(known: Axis) -> None:
    before = strip(printed_axis("winch"), [])
    assert not [m for m in before.markers if m.kind in ("dip", "peak")]
    shown = {m.kind: m for m in strip(known, []).markers}
    assert shown["dip"].hertz == pytest.approx(117.0, rel=0.03)
    assert shown["peak"].label.endswith(" shaft")
    assert "turns" not in {m.label.split()[0] for m in strip(known, []).markers
                          if m.lane == "machine"}  # fmt: skip


def test_every_quantity_has_its_first_number(found: dict[str, Finding]) -> None:
    for quantity, finding in found.items():
        assert next(iter(finding.estimates)) == BY_KEY[quantity].path
