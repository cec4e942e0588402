"""A rehearsal under a switching bridge: dead time, ripple, and a closer look at a moment."""

import json
import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from oarlock.cancel import Cancel
from oarlock.cli import main
from oarlock.errors import Cancelled, InputError
from oarlock.machine import Axis
from oarlock.machine.axis_file import format_axis
from oarlock.quantities import Estimate, Origin
from oarlock.rehearse.bridge import bridged, dead_time_of
from oarlock.rehearse.events import Load
from oarlock.rehearse.figures import figures_of
from oarlock.rehearse.lens import look_closer
from oarlock.rehearse.plant import believed_plant
from oarlock.rehearse.run import Rehearsal, rehearse
from oarlock.rehearse.scenario import Control, Point, Scenario
from oarlock.simulate.plant_parameters import Modulation
from tests.speed_axis import tuned_winch

SCENARIO = Scenario(
    name="s", control=Control.SPEED, duration=0.8, loads=(Load(at=0.5, torque=2.0),),
    points=(Point(at=0.05, value=60.0, acceleration=400.0),),
)  # fmt: skip


@pytest.fixture(scope="module")
def winch() -> Axis:
    return tuned_winch()


@pytest.fixture(scope="module")
def averaged(winch: Axis) -> Rehearsal:
    return rehearse(SCENARIO, winch)


@pytest.fixture(scope="module")
def switched(winch: Axis) -> Rehearsal:
    return rehearse(SCENARIO, winch, bridge=Modulation.SPACE_VECTOR)


def given(axis: Axis, name: str, value: float, unit: str) -> Axis:
    found = Estimate(value=value, std=0.0, unit=unit, origin=Origin.MEASURED)
    return axis.adopting(f"inverter.{name}", found)


def test_the_dead_time_is_the_one_that_costs_what_was_measured(winch: Axis) -> None:
    axis = given(winch, "dead_voltage", 4.8, "V")
    bus, pwm = axis.inverter.bus_voltage.value, axis.inverter.pwm_frequency.value
    assert dead_time_of(axis) == pytest.approx(4.8 / (bus * pwm))
    plant = bridged(believed_plant(axis), axis, Modulation.SINE)
    assert (plant.modulation, plant.halves) == ("sine", 2)
    assert plant.dead_time == dead_time_of(axis)
    printed = given(given(axis, "dead_voltage", 0.0, "V"), "dead_time", 1.5e-6, "s")
    assert dead_time_of(printed) == 1.5e-6


@pytest.mark.parametrize(("pwm", "halves"), [(8e3, 1), (16e3, 2), (32e3, 4), (24e3, 3)])
def test_the_carrier_goes_through_whole_half_periods(winch: Axis, pwm: float, halves: int) -> None:
    axis = given(winch, "pwm_frequency", pwm, "Hz")
    assert bridged(believed_plant(axis), axis, Modulation.SPACE_VECTOR).halves == halves


@pytest.mark.parametrize("pwm", [5e3, 17e3, 200e3])
def test_another_carrier_is_refused(winch: Axis, pwm: float) -> None:
    axis = given(winch, "pwm_frequency", pwm, "Hz")
    with pytest.raises(InputError, match="no whole number of half periods"):
        bridged(believed_plant(axis), axis, Modulation.SPACE_VECTOR)


def test_a_dead_time_that_leaves_nothing_is_refused(winch: Axis) -> None:
    axis = given(winch, "dead_voltage", 170.0, "V")
    with pytest.raises(InputError, match="dead time"):
        bridged(believed_plant(axis), axis, Modulation.SPACE_VECTOR)


def test_the_axis_does_the_same_and_its_current_ripples(
    winch: Axis, averaged: Rehearsal, switched: Rehearsal
) -> None:
    assert (averaged.ended, switched.ended) == ("done", "done")
    late = switched.t > 0.3
    for name, most in (("speed", 0.5), ("iq", 0.25)):
        apart = switched.mean[name][late] - averaged.mean[name][late]
        assert float(np.sqrt(np.mean(apart**2))) < most
    plain, rippled = (figures_of(run, winch) for run in (averaged, switched))
    assert math.isnan(plain.ripple)
    assert math.isnan(plain.distortion)
    assert 0.002 < rippled.ripple < 0.2
    assert rippled.distortion == pytest.approx(
        rippled.ripple / math.sqrt(switched.squares["current"] / 2.0)
    )
    wider = (switched.most["iq"] - switched.least["iq"])[late]
    assert np.mean(wider) > np.mean((averaged.most["iq"] - averaged.least["iq"])[late])


def test_the_ripple_is_that_of_the_stretches_written_down(winch: Axis, switched: Rehearsal) -> None:
    """Of a long lens at a steady speed: its own mean square over what lies beside its samples."""
    found = look_closer(switched, winch, 0.45, periods=400)
    Ts = winch.inverter.Ts
    fine = np.linspace(0.0, found.seconds, 160_001)
    seen = np.interp(fine, np.append(0.0, found.t), np.append(found.averaged[0, 0],
                                                              found.currents[:, 0]))  # fmt: skip
    at_samples = np.interp(np.arange(401) * Ts, fine, seen)
    beside = seen - np.interp(fine, np.arange(401) * Ts, at_samples)
    assert found.ripple == pytest.approx(float(np.sqrt(np.mean(beside**2))), rel=0.03)
    over = seen - np.interp(fine, np.arange(401) * Ts, found.averaged[:, 0])
    assert found.swing == pytest.approx(float(np.ptp(over)), rel=0.02)
    assert found.periods == 400.0


def test_a_closer_look_at_an_averaged_run_goes_on_from_where_it_stood(
    winch: Axis, averaged: Rehearsal
) -> None:
    found = look_closer(averaged, winch, 0.7)
    assert found.begun == pytest.approx(0.7, abs=3e-4)
    assert found.seconds == pytest.approx(4.0 / winch.inverter.pwm_frequency.value)
    assert found.averaged.shape == (5, 3)
    assert np.all(np.diff(found.t) > 0.0)
    assert np.max(np.abs(found.currents.sum(axis=1))) < 1e-9
    size = math.sqrt(2.0 / 3.0 * float(np.sum(found.averaged[2] ** 2)))
    n = int(np.searchsorted(averaged.t, 0.7)) - 1
    assert size == pytest.approx(averaged.mean["amperes"][n], rel=0.1)  # loaded: it was carried on
    assert set(np.unique(found.legs)) == {0.0, found.bus}
    at_samples = np.interp(found.averaged_t, found.t, found.currents[:, 0])[1:]
    assert np.max(np.abs(at_samples - found.averaged[1:, 0])) < 0.5 * found.swing
    assert 0.01 < found.swing < 1.0


def test_every_moment_can_be_looked_at(winch: Axis, averaged: Rehearsal) -> None:
    ends = [look_closer(averaged, winch, at) for at in (0.0, 0.5, 0.8, 9.0)]
    assert [found.begun for found in ends[:1]] == [0.0]
    assert ends[2].begun == ends[3].begun == pytest.approx(0.8 - ends[2].seconds)
    double = given(winch, "pwm_frequency", 8e3, "Hz")
    assert look_closer(averaged, double, 0.4, periods=2).averaged.shape == (5, 3)
    stopped = Cancel()
    stopped.set()
    with pytest.raises(Cancelled):
        look_closer(averaged, winch, 0.4, cancel=stopped)


def test_a_look_at_a_run_that_tripped(winch: Axis) -> None:
    jammed = replace(SCENARIO, loads=(Load(at=0.2, torque=-90.0),))
    run = rehearse(jammed, winch)
    assert run.ended != "done"
    found = look_closer(run, winch, 0.8)
    assert found.begun < 0.8
    assert found.t.size > 10


def test_the_command_tells_what_switching_adds(
    winch: Axis, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    axis, scenario = tmp_path / "a.axis.toml", tmp_path / "s.toml"
    axis.write_text(format_axis(winch))
    scenario.write_text('control = "speed"\nduration = "0.1 s"\n[[points]]\nspeed = "100 rpm"\n')
    command = ["simulate", str(axis), str(scenario), "--inverter", "switching"]
    assert main([*command, "--modulation", "discontinuous"]) == 0
    said = capsys.readouterr().out
    assert "switching inverter, discontinuous" in said
    assert "A rms of ripple" in said
    assert main([*command, "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["ripple"] > 0.0
    assert main(["simulate", str(axis), str(scenario), "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["ripple"] is None


@pytest.mark.parametrize(("pwm", "fits"), [(64e3, True), (72e3, False)])
def test_eight_half_periods_are_the_most(winch: Axis, pwm: float, fits: bool) -> None:
    axis = given(winch, "pwm_frequency", pwm, "Hz")
    if fits:
        assert bridged(believed_plant(axis), axis, Modulation.SPACE_VECTOR).halves == 8
        return
    with pytest.raises(InputError, match="no whole number of half periods"):
        bridged(believed_plant(axis), axis, Modulation.SPACE_VECTOR)
