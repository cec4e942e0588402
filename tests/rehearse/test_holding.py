"""Gains that hold on every machine, against loops of machines drawn by the test itself."""

import json
import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from oarlock.cli import main
from oarlock.control.margins import margins
from oarlock.control.speed_design import Turning, loop_in_use, usual_speed
from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.machine.axis_file import format_axis
from oarlock.machine.speed_loop import KEY, SpeedGains
from oarlock.rehearse.holding import holding
from tests.speed_axis import known_winch, tuned_winch


def unsure(axis: Axis, path: str, std: float) -> Axis:
    """The axis with one value known so badly (ratio)."""
    old = axis.parameter(path)
    return axis.with_parameter(path, replace(old, adopted=replace(old.best, std=std * old.value)))


def used(axis: Axis) -> SpeedGains:
    gains = axis.loops[KEY].gains
    assert isinstance(gains, SpeedGains)
    return gains


def margin(axis: Axis, path: str, factor: float, gains: SpeedGains) -> float:
    """The margin, in degrees, where one value is another one; below 0: unstable."""
    old = axis.parameter(path)
    other = axis.with_parameter(path, replace(old, adopted=replace(
        old.best, value=factor * old.value)))  # fmt: skip
    other = other.with_loop_gains(KEY, gains)
    found = margins(loop_in_use(other, turning=Turning(speed=usual_speed(other))).opened)
    return math.degrees(found.phase_margin) if found.stable else -180.0


@pytest.fixture(scope="module")
def axis() -> Axis:
    return tuned_winch()


def test_where_all_is_known_well_the_gains_in_use_hold(axis: Axis) -> None:
    sure = axis
    for path in ("machine.inertia", "mechanics.resonance", "mechanics.anti_resonance",
                 "machine.Lq", "machine.R", "machine.Ld", "machine.psi"):  # fmt: skip
        sure = unsure(sure, path, 1e-5)
    found = holding(sure, 16)
    assert found.gains is None
    assert found.unstable == 0
    assert found.worst == pytest.approx(found.nominal, abs=math.radians(0.1))
    assert found.nominal == pytest.approx(math.radians(margin(axis, "machine.R", 1.0, used(axis))))


@pytest.mark.parametrize(("path", "std"), [("machine.inertia", 0.12), ("machine.psi", 0.08)])
def test_gains_are_found_that_keep_the_margin_on_all(axis: Axis, path: str, std: float) -> None:
    vague = unsure(axis, path, std)
    found = holding(vague, 32)
    nominal = math.degrees(found.nominal)
    assert math.degrees(found.worst) < nominal - 1.0 or found.unstable
    assert found.gains is not None
    assert found.gains.Kp < used(axis).Kp
    assert found.kept >= found.nominal
    factors = 1.0 + std * np.random.default_rng(3).normal(0.0, 1.0, 60).clip(-1.9, 1.9)
    before = [margin(vague, path, float(f), used(axis)) for f in factors]
    after = [margin(vague, path, float(f), found.gains) for f in factors]
    assert min(before) < nominal - 1.0
    assert min(after) > nominal - 1.0
    larger = replace(found.gains, Kp=1.03 * found.gains.Kp, Ki=1.03**2 * found.gains.Ki)
    assert min(margin(vague, path, float(1.0 + side * 2.0 * std), larger)
               for side in (-1.0, 1.0)) < nominal + 0.5  # fmt: skip


def test_a_resonance_that_may_lie_elsewhere_is_drawn_too(axis: Axis) -> None:
    """Its notch is the axis's own: three times wide of it the loop swings up on some."""
    vague = unsure(unsure(axis, "mechanics.resonance", 0.25), "mechanics.anti_resonance", 0.25)
    found = holding(vague, 32)
    assert found.unstable > 0
    assert found.worst < 0.0
    assert found.worst_gain == 0.0
    assert found.gains is not None
    assert found.kept >= found.nominal
    assert found.kept_gain >= min(found.nominal_gain, 2.0)


def test_what_a_resonance_takes_of_the_gain_margin_counts(axis: Axis) -> None:
    """A little elsewhere it leaves the phase margin alone, and takes the gain margin."""
    sure = axis
    for path in ("machine.inertia", "machine.Lq", "machine.R", "machine.Ld", "machine.psi",
                 "mechanics.anti_resonance"):  # fmt: skip
        sure = unsure(sure, path, 1e-5)
    vague = unsure(sure, "mechanics.resonance", 0.06)
    found = holding(vague, 32)
    assert found.unstable == 0
    assert found.worst_gain < 0.97 * min(found.nominal_gain, 2.0)
    assert found.gains is not None
    assert found.gains.Kp < used(axis).Kp
    assert found.kept_gain >= min(found.nominal_gain, 2.0)
    for factor in (0.93, 0.97, 1.03, 1.07):
        old = vague.mechanics.resonance
        moved = vague.with_parameter("mechanics.resonance", replace(old, adopted=replace(
            old.best, value=factor * old.value)))  # fmt: skip
        moved = moved.with_loop_gains(KEY, found.gains)
        loop = loop_in_use(moved, turning=Turning(speed=usual_speed(moved)))
        assert margins(loop.opened).gain_margin > 0.97 * min(found.nominal_gain, 2.0)


def test_the_gain_margin_alone_makes_gains_smaller(axis: Axis) -> None:
    sure = axis
    for path in ("machine.inertia", "machine.Lq", "machine.R", "machine.Ld", "machine.psi",
                 "mechanics.anti_resonance"):  # fmt: skip
        sure = unsure(sure, path, 1e-5)
    keen = sure.with_loop_gains(KEY, replace(used(axis), Kp=1.42 * used(axis).Kp))
    found = holding(unsure(keen, "mechanics.resonance", 0.02), 32)
    assert found.worst == pytest.approx(found.nominal, abs=math.radians(0.099))
    assert found.nominal_gain > 2.0 > found.worst_gain
    assert found.gains is not None
    assert found.kept_gain >= 2.0


def test_without_gains_or_without_any_that_hold_it_says_so(axis: Axis) -> None:
    with pytest.raises(InputError, match="has no gains yet"):
        holding(known_winch(), 4)
    wild = axis.with_loop_gains(KEY, replace(used(axis), Kp=60.0))
    with pytest.raises(InputError, match="is unstable"):
        holding(wild, 4)


def test_the_command_tells_it(
    axis: Axis, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    file, scenario = tmp_path / "winch.axis.toml", tmp_path / "s.toml"
    file.write_text(format_axis(unsure(axis, "machine.inertia", 0.12)))
    scenario.write_text('control = "speed"\nduration = "0.2 s"\n[[points]]\nspeed = "300 rpm"')
    assert main(["simulate", str(file), str(scenario), "--vary", "8"]) == 0
    assert "° on all of them" in capsys.readouterr().out
    assert main(["simulate", str(file), str(scenario), "--vary", "8", "--json"]) == 0
    told = json.loads(capsys.readouterr().out)["variants"]["speed_margin"]
    assert told["worst"] < told["nominal"]
    assert 1.0 < told["worst_gain"] <= told["nominal_gain"]
    assert told["gains_that_hold"]["Kp"] < used(axis).Kp
