"""Many machines within the uncertainty: drawn evenly, the same each time, moved by what moves."""

import json
import math
import os
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from oarlock.cli import main
from oarlock.demo.project import demo_text
from oarlock.machine import Axis
from oarlock.machine.axis_file import format_axis
from oarlock.rehearse import vary
from oarlock.rehearse.events import Load
from oarlock.rehearse.plant import believed_plant
from oarlock.rehearse.scenario import Control, Point, Scenario
from oarlock.rehearse.vary import study, tolerances, tornado, varied
from tests.speed_axis import tuned_winch

SHORT = Scenario(name="s", control=Control.SPEED, duration=0.4,
                 points=(Point(at=0.05, value=60.0, acceleration=400.0),))  # fmt: skip


@pytest.fixture(scope="module")
def winch() -> Axis:
    return tuned_winch()


def test_what_is_not_known_for_sure(winch: Axis) -> None:
    known = {one.name: one.std for one in tolerances(winch)}
    assert known["R"] == pytest.approx(2e-3)
    assert set(known) >= {"R", "Ld", "Lq", "flux", "inertia", "bus"}
    printed = winch.with_parameter("machine.R", winch.machine.R.__class__(
        printed=winch.machine.R.printed))  # fmt: skip
    assert {one.name: one.std for one in tolerances(printed)}["R"] == 0.05


def test_factors_change_the_plant_and_nothing_else(winch: Axis) -> None:
    plant = believed_plant(winch)
    assert varied(plant, {}) == plant
    other = varied(plant, {"inertia": 1.2, "R": 0.9})
    assert other.total_inertia == pytest.approx(1.2 * plant.total_inertia)
    assert pytest.approx(0.9 * plant.R) == other.R
    assert other.psi == plant.psi
    assert varied(plant, {"R": -3.0}).R > 0.0


def test_the_first_is_the_machine_as_believed_and_all_are_the_same_again(winch: Axis) -> None:
    made = study(SHORT, winch, 8, seed=3)
    assert np.all(made.factors[0] == 1.0)
    assert made.done == 8
    again = study(SHORT, winch, 8, seed=3)
    assert np.array_equal(made.factors, again.factors)
    # NaN where there is no position loop: compared as text.
    assert [repr(a) for a in made.figures] == [repr(a) for a in again.figures]
    spread = made.factors[1:].std(axis=0) / np.array([t.std for t in made.tolerances])
    assert np.all((spread > 0.4) & (spread < 1.8))
    assert made.quantiles("peak_current")[0] <= made.quantiles("peak_current")[2]


def test_inertia_moves_the_peak_of_the_current_most(winch: Axis) -> None:
    wide = winch
    assert wide.machine.inertia is not None
    J = wide.machine.inertia
    best = replace(J.best, std=0.1 * J.value)
    wide = wide.with_parameter("machine.inertia", replace(J, adopted=best))
    moved = tornado(SHORT, wide, "peak_current")
    assert moved[0].name == "inertia"
    assert moved[0].high > moved[0].low
    middle = study(SHORT, wide, 2).figures[0].peak_current
    assert moved[0].low < middle < moved[0].high


def test_what_stops_the_machine_comes_first(winch: Axis) -> None:
    """A load near what the peak current holds: with less flux it is too heavy."""
    m = winch.machine
    torque = 0.98 * m.torque_constant * m.peak_current.value
    heavy = replace(SHORT, duration=1.0, loads=(Load(at=0.1, torque=torque),))
    wide = winch.with_parameter("machine.psi", replace(
        m.psi, adopted=replace(m.psi.best, std=0.05 * m.psi.value)))  # fmt: skip
    told: list[float] = []
    moved = tornado(heavy, wide, "peak_current", progress=lambda done, _: told.append(done))
    assert told == sorted(told)
    assert told[-1] == 1.0
    first = moved[0]
    assert math.isnan(first.low) or math.isnan(first.high)
    rest = [abs(one.high - one.low) for one in moved if not math.isnan(one.high - one.low)]
    assert rest
    assert rest == sorted(rest, reverse=True)
    assert all(math.isnan(one.high - one.low) for one in moved[: len(moved) - len(rest)])


@pytest.mark.parametrize("compiled", [True, False])
def test_a_first_study_says_that_it_compiles(
    winch: Axis, monkeypatch: pytest.MonkeyPatch, compiled: bool
) -> None:
    monkeypatch.setattr(vary, "is_compiled", lambda: compiled)
    told: list[str] = []
    many = 3 * (os.cpu_count() or 1)
    study(SHORT, winch, many, progress=lambda _done, doing: told.append(doing))
    assert told[0].startswith("compiling") is not compiled
    assert told[-1] == f"{many} of {many} variants"


def test_the_command_tells_of_variants(
    winch: Axis, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    axis, scenario = tmp_path / "winch.axis.toml", tmp_path / "s.toml"
    axis.write_text(format_axis(winch))
    scenario.write_text('control = "speed"\nduration = "0.2 s"\n[[points]]\nspeed = "300 rpm"')
    assert main(["simulate", str(axis), str(scenario), "--vary", "4", "--json"]) == 0
    told = json.loads(capsys.readouterr().out)["variants"]
    assert (told["count"], told["done"]) == (4, 4)
    assert told["moves"] == "peak_current"
    assert main(["simulate", str(axis), str(scenario), "--vary", "4"]) == 0
    assert "what moves the peak current" in capsys.readouterr().out
    assert main(["simulate", str(axis), str(scenario), "--vary", "1"]) == 2
    assert math.isfinite(told["std"]["R"])
    assert "Lift" in demo_text("lift.scenario.toml")
