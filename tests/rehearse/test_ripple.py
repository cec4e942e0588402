"""Torque ripple by cause, against what each cause makes by laws of its own."""

import json
import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from oarlock.cli import main
from oarlock.control.speed_design import loop_in_use
from oarlock.errors import InputError
from oarlock.machine import Axis, Parameter
from oarlock.machine.axis_file import format_axis
from oarlock.quantities import Estimate, Origin
from oarlock.rehearse.events import Load
from oarlock.rehearse.plant import believed_plant, counts_of
from oarlock.rehearse.ripple import COUNTS, DEAD_TIME, GAINS, SENSE, SWITCHING, Ripple, ripple_of
from oarlock.rehearse.run import rehearse
from oarlock.rehearse.scenario import Control, Point, Scenario
from oarlock.simulate.plant_parameters import Modulation
from oarlock.views.rehearsal import split
from tests.speed_axis import tuned_winch

SPEED, LOAD = 30.0, 6.0  # rad/s, N·m


def loaded(duration: float = 0.8) -> Scenario:
    """The shaft turns at a speed and carries a load, after a moment."""
    return Scenario(name="loaded", control=Control.SPEED, duration=duration,
                    points=(Point(at=0.0, value=SPEED),),
                    loads=(Load(at=0.0, torque=LOAD),))  # fmt: skip


@pytest.fixture(scope="module")
def axis() -> Axis:
    return tuned_winch()


def by_name(found: Ripple) -> dict[str, float]:
    return {cause.name: cause.torque for cause in found.causes}


def with_gain_std(axis: Axis, std: float) -> Axis:
    one = Estimate(value=1.0, std=std, unit="1", origin=Origin.MEASURED)
    old = axis.parameter("inverter.gain_a")
    return axis.with_parameter("inverter.gain_a", Parameter(printed=old.printed, adopted=one))


def test_causes_add_up_as_squares_to_the_whole(axis: Axis) -> None:
    found = ripple_of(loaded(), axis)
    assert {c.name for c in found.causes} == {DEAD_TIME, SENSE, GAINS, COUNTS, SWITCHING}
    assert [c.torque for c in found.causes] == sorted(c.torque for c in found.causes)[::-1]
    together = math.sqrt(sum(c.torque**2 for c in found.causes))
    assert found.whole == pytest.approx(together, rel=0.25)
    assert sum(found.share(c) for c in found.causes) == pytest.approx(1.0)


def test_sensors_that_differ_bend_the_current_as_their_matrix_says(axis: Axis) -> None:
    """What is measured stays (0, I): what flows is that, through the sensors' inverse."""
    std = 0.03
    bent = with_gain_std(axis, std)
    plant = believed_plant(bent)
    current = (LOAD + plant.coulomb + plant.viscous * SPEED) / axis.machine.torque_constant
    to = np.array([[1.0, 0.0], [-0.5, math.sqrt(0.75)], [-0.5, -math.sqrt(0.75)]])
    b = 1.0 + axis.inverter.gain_b.std
    gains = np.diag([1.0 + std, b, 2.0 - std - b])
    sense = 2.0 / 3.0 * to.T @ gains @ to
    q = []
    for theta in np.linspace(0.0, math.tau, 200):
        turn = np.array([[math.cos(theta), -math.sin(theta)], [math.sin(theta), math.cos(theta)]])
        q.append((turn.T @ np.linalg.inv(sense) @ turn @ np.array([0.0, current]))[1])
    due = axis.machine.torque_constant * float(np.std(q))
    scenario = loaded()
    settled = by_name(ripple_of(scenario, bent))[GAINS]
    assert settled == pytest.approx(due, rel=0.25)
    twice = by_name(ripple_of(scenario, with_gain_std(axis, 2.0 * std)))[GAINS]
    assert twice == pytest.approx(2.0 * settled, rel=0.1)


def test_counts_shake_the_torque_as_the_noise_of_a_slope_does(axis: Axis) -> None:
    """A quarter of Kp q, a count's speed over a sample of the speed loop; finer: less."""
    loop = loop_in_use(axis)
    fewer = 0.25 * loop.gains.Kp * axis.machine.torque_constant
    step = math.tau / counts_of(axis) / loop.plant.T
    found = by_name(ripple_of(loaded(), axis))[COUNTS]
    assert 0.3 * fewer * step < found < 3.0 * fewer * step


def test_a_cause_that_is_not_there_makes_nothing(axis: Axis) -> None:
    still = with_gain_std(axis, 0.0)
    b = still.parameter("inverter.gain_b")
    still = still.with_parameter("inverter.gain_b", replace(
        b, adopted=replace(b.best, std=0.0, origin=Origin.MEASURED)))  # fmt: skip
    assert by_name(ripple_of(loaded(0.2), still))[GAINS] == 0.0


def test_a_scenario_that_trips_has_no_ripple(axis: Axis) -> None:
    wild = replace(loaded(0.3), loads=(Load(at=0.0, torque=900.0),))
    with pytest.raises(InputError, match="does not come to the end"):
        ripple_of(wild, axis)


def test_what_is_shown_of_it(axis: Axis) -> None:
    shown = split(loaded(0.3), axis)
    name, share, size = shown.causes[0]
    assert shown.sentence == f"Most of the torque ripple comes from: {name}, {100 * share:.0f} %"
    assert float(size) <= 1.3 * float(shown.whole)
    rated = axis.machine.torque_constant * axis.rated
    assert float(shown.of_rated) == pytest.approx(100.0 * float(shown.whole) / rated, rel=0.06)


def test_the_command_prints_it(
    axis: Axis, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    file, scenario = tmp_path / "winch.axis.toml", tmp_path / "s.toml"
    file.write_text(format_axis(axis))
    scenario.write_text('control = "speed"\nduration = "0.2 s"\n[[points]]\nspeed = "300 rpm"')
    assert main(["simulate", str(file), str(scenario), "--ripple"]) == 0
    said = capsys.readouterr().out
    assert "of each cause alone" in said
    assert "position counts" in said
    assert main(["simulate", str(file), str(scenario), "--ripple", "--json"]) == 0
    told = json.loads(capsys.readouterr().out)["torque_ripple"]
    assert set(told) == {"whole", DEAD_TIME, SENSE, GAINS, COUNTS, SWITCHING}
    assert told["whole"] > 0.0


def test_of_a_run_that_trips_the_figures_are_printed_and_no_ripple(
    axis: Axis, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    file, scenario = tmp_path / "winch.axis.toml", tmp_path / "s.toml"
    file.write_text(format_axis(axis))
    scenario.write_text(
        'control = "speed"\nduration = "0.3 s"\n[[points]]\nspeed = "300 rpm"\n'
        "[[loads]]\nat = 0.0\ntorque = 900.0\n"
    )
    assert main(["simulate", str(file), str(scenario), "--ripple"]) == 1
    said = capsys.readouterr().out
    assert "tripped" in said
    assert "of each cause alone" not in said


def test_switching_shakes_the_torque_by_its_part_of_the_currents_ripple(axis: Axis) -> None:
    """Of the ripple's vector the part along q makes torque: from a third to all of its square."""
    run = rehearse(loaded(0.4), axis, bridge=Modulation.SPACE_VECTOR)
    most = axis.machine.torque_constant * math.sqrt(run.squares["ripple"])
    found = by_name(ripple_of(loaded(0.4), axis))[SWITCHING]
    assert 0.3 * most < found < 1.05 * most


def test_the_current_senses_noise_passes_the_closed_loop(axis: Axis) -> None:
    """White in each phase, a count of noise and its rounding; the loop's own noise gain."""
    closed = loop_in_use(axis).plant.current.closed.step(400)
    gain = math.sqrt(float(np.sum(np.diff(closed, prepend=0.0) ** 2)))
    one = axis.inverter.current_count * math.sqrt(1.0 + 1.0 / 12.0) * math.sqrt(2.0 / 3.0)
    found = by_name(ripple_of(loaded(0.4), axis))[SENSE]
    assert found == pytest.approx(axis.machine.torque_constant * one * gain, rel=0.35)


def test_more_dead_time_makes_more_ripple(axis: Axis) -> None:
    old = axis.parameter("inverter.dead_voltage")
    twice = axis.with_parameter("inverter.dead_voltage", replace(
        old, adopted=replace(old.best, value=2.0 * old.value, origin=Origin.MEASURED)))  # fmt: skip
    once, more = (by_name(ripple_of(loaded(0.4), one))[DEAD_TIME] for one in (axis, twice))
    assert once > 1e-4 * axis.machine.torque_constant * axis.rated
    assert 1.4 * once < more < 3.0 * once
