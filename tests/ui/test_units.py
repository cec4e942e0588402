"""What is told and drawn in the units that were chosen, wherever it stands."""

from collections.abc import Iterator

import numpy as np
import pytest
from pytestqt.qtbot import QtBot

from oarlock.quantities.kinds import RPM
from oarlock.quantities.shown import Shown
from oarlock.records.evidence import fitted
from oarlock.ui.kit import units
from oarlock.ui.stages.identify.pictures import evidence_curves
from oarlock.ui.stages.identify.widgets import Consequences
from oarlock.ui.stages.rehearse.ripple_block import CauseBars
from oarlock.ui.stages.sensing.turning_pictures import _in_unit
from oarlock.views.identify import Consequence
from oarlock.views.rehearsal import Split


@pytest.fixture
def chosen() -> Iterator[None]:
    """Speeds in rad/s, torques in mN·m."""
    units.choose(Shown(speed="rad/s", torque="mN·m"), 3.0, 10.0)
    yield
    units.choose(Shown(), None, None)


def test_a_number_and_its_unit(chosen: None) -> None:
    assert units.pair("300", "rpm") == ("31.4", "rad/s")
    assert units.pair("−300", "rpm") == ("−31.4", "rad/s")
    assert units.pair("0.57", "N·m") == ("570", "mN·m")
    assert units.pair("–", "N·m") == ("–", "mN·m")
    assert units.pair("4.5", "A") == ("4.5", "A")
    assert units.pair("–", "A") == ("–", "A")
    assert units.pair("12", "Hz") == ("12", "Hz")


def test_usual_units_stay() -> None:
    assert units.pair("300", "rpm") == ("300", "rpm")
    assert units.pair("–", "N·m") == ("–", "N·m")
    assert units.told("60 rpm under 0.5 N·m") == "60 rpm under 0.5 N·m"


def test_per_cent_of_the_rated_torque() -> None:
    units.choose(Shown(torque="% of rated"), 3.0, 10.0)
    assert units.pair("2.5", "N·m") == ("25", "% of rated")
    units.choose(Shown(), None, None)


def test_what_follows_from_a_value(qtbot: QtBot, chosen: None) -> None:
    rows = Consequences()
    qtbot.addWidget(rows)
    rows.show_rows([Consequence(name="Torque at 16 A", before="2.31", after="2.4", unit="N·m"),
                    Consequence(name="Crossover", before="", after="850", unit="Hz")])  # fmt: skip
    assert rows.accessibleName() == "Torque at 16 A 2310 to 2400 mN·m, Crossover 850 Hz"


def test_causes_of_ripple(qtbot: QtBot, chosen: None) -> None:
    bars = CauseBars()
    qtbot.addWidget(bars)
    bars.show_causes(Split(whole="0.1", of_rated="1", causes=(("cogging", 0.9, "0.081"),)))
    assert bars.accessibleName() == "What makes it: cogging 90 %, 81 mN·m"


def test_the_speed_of_an_inertia_s_evidence(chosen: None) -> None:
    x = np.linspace(0.0, 1.0, 5)
    evidence = fitted(x, 100.0 * x, x, 90.0 * x, 10.0 * x)
    _, y, _, fit = evidence_curves("inertia", evidence)
    assert y == pytest.approx(100.0 * x * RPM)
    assert fit == pytest.approx(90.0 * x * RPM)
    _, volts, _, _ = evidence_curves("resistance", evidence)
    assert volts == pytest.approx(100.0 * x)


def test_the_torque_of_a_push(chosen: None) -> None:
    assert _in_unit(-1.678) == "−1678"
    units.choose(Shown(), None, None)
    assert [_in_unit(value) for value in (1.678, -16.78, 167.8)] == ["+1.68", "−16.8", "+168"]
