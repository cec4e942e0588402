"""A rehearsal against physics: steady states, closed forms, energy; chunks; what is refused."""

import json
import math
import re
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from oarlock.cancel import Cancel
from oarlock.cli import main
from oarlock.control.position import PositionLoop
from oarlock.control.position_design import design_position, position_gains
from oarlock.control.speed_design import loop_in_use
from oarlock.demo.project import demo_text
from oarlock.errors import Cancelled, InputError
from oarlock.machine import Axis, CurrentGains
from oarlock.machine.axis_file import format_axis
from oarlock.quantities import Estimate, Origin
from oarlock.rehearse.events import Load
from oarlock.rehearse.figures import figures_of
from oarlock.rehearse.plant import believed_plant, counts_of
from oarlock.rehearse.run import Rehearsal, rehearse
from oarlock.rehearse.scenario import (
    Control,
    Point,
    PointWave,
    Scenario,
    WaveShape,
    parse_scenario,
)
from oarlock.session.new_project import hollow
from oarlock.simulate.plant_parameters import Modulation
from tests.speed_axis import known_winch, tuned_winch


@pytest.fixture(scope="module")
def winch() -> Axis:
    axis = tuned_winch()
    return axis.with_loop_gains("position", design_position(axis).gains)


def with_mechanics(axis: Axis, **values: float) -> Axis:
    units = {"coulomb": "N m", "viscous": "N m s/rad", "load_torque": "N m"}
    for name, value in values.items():
        found = Estimate(value=value, std=0.0, unit=units[name], origin=Origin.MEASURED)
        axis = axis.adopting(f"mechanics.{name}", found)
    return axis


def speed(*points: Point, duration: float = 1.0, loads: tuple[Load, ...] = ()) -> Scenario:
    return Scenario(name="s", control=Control.SPEED, duration=duration, points=points, loads=loads)


def test_steady_current_is_what_friction_and_load_take(winch: Axis) -> None:
    axis = with_mechanics(winch, coulomb=0.25, viscous=2e-3, load_torque=0.0)
    run = rehearse(speed(Point(at=0.0, value=100.0, acceleration=800.0),
                         loads=(Load(at=0.5, torque=1.5),)), axis)  # fmt: skip
    m = axis.machine
    for begin, end, load in ((0.35, 0.48, 0.0), (0.85, 1.0, 1.5)):
        part = (run.t > begin) & (run.t < end)
        torque = m.torque_constant * float(np.mean(run.mean["iq"][part]))
        assert torque == pytest.approx(0.25 + 2e-3 * 100.0 + load, rel=0.03)
        assert float(np.mean(run.mean["speed"][part])) == pytest.approx(100.0, rel=2e-3)


def test_a_current_follows_its_closed_form(winch: Axis) -> None:
    """With the rotor heavy the current's step is that of the exact discrete loop."""
    from oarlock.control.current import loops_with

    axis = known_winch()
    assert axis.machine.inertia is not None
    heavy = replace(axis.machine.inertia.best, value=50.0)
    axis = axis.with_parameter("machine.inertia", replace(axis.machine.inertia, adopted=heavy))
    run = rehearse(Scenario(name="c", control=Control.CURRENT, duration=0.02,
                            points=(Point(at=0.004, value=4.0),)), axis)  # fmt: skip
    loop = loops_with(axis, winch_gains(axis))[1]
    assert float(run.mean["iq"][-20:].mean()) == pytest.approx(4.0, rel=0.02)
    due, _ = loop.step(200)
    assert run.most["iq"].max() / 4.0 == pytest.approx(float(np.max(due)), abs=0.06)


def winch_gains(axis: Axis) -> CurrentGains:
    assert axis.gains is not None
    return axis.gains


def test_power_in_is_power_out(winch: Axis) -> None:
    """At a steady speed: mechanical power and copper loss are what the voltages bring."""
    axis = with_mechanics(winch, coulomb=0.3, viscous=0.0, load_torque=1.0)
    axis = replace(axis, inverter=replace(axis.inverter, dead_voltage=replace(
        axis.inverter.dead_voltage, adopted=Estimate(value=0.0, std=0.0, unit="V",
                                                     origin=Origin.MEASURED))))  # fmt: skip
    run = rehearse(speed(Point(at=0.0, value=120.0, acceleration=800.0)), axis)
    part = run.t > 0.6
    mean = {name: float(np.mean(run.mean[name][part])) for name in ("vd", "vq", "id", "iq")}
    brought = 1.5 * (mean["vd"] * mean["id"] + mean["vq"] * mean["iq"])
    copper = 1.5 * axis.machine.R.value * (mean["id"] ** 2 + mean["iq"] ** 2)
    assert brought - copper == pytest.approx(1.3 * 120.0, rel=0.02)


def test_the_lift_of_the_demo_lands(winch: Axis) -> None:
    axis = with_mechanics(winch, coulomb=0.25)
    run = rehearse(parse_scenario(demo_text("lift.scenario.toml"), place="lift"), axis)
    told = figures_of(run, axis)
    assert told.ended == "done"
    assert told.seconds == pytest.approx(4.0)
    down, up = told.points
    assert down.reached == pytest.approx(-6.0 * math.tau, abs=0.02)
    assert up.reached == pytest.approx(6.0 * math.tau, abs=0.02)
    assert told.top_speed == pytest.approx(900.0 * math.tau / 60.0, rel=0.03)
    assert 0.0 < told.following_rms < told.following_peak < math.radians(40.0)
    assert told.peak_current < axis.machine.peak_current.value * 1.02
    assert told.copper_loss == pytest.approx(
        1.5 * axis.machine.R.value * 2.0 * told.rms_current**2, rel=1e-9
    )


def _same(one: Rehearsal, other: Rehearsal) -> bool:
    tables = ((one.mean, other.mean), (one.least, other.least), (one.most, other.most))
    return all(np.array_equal(a[name], b[name]) for a, b in tables for name in a)


def test_chunks_make_no_difference(winch: Axis, monkeypatch: pytest.MonkeyPatch) -> None:
    scenario = speed(Point(at=0.0, value=60.0), Point(at=0.31, value=-40.0), duration=0.6)
    whole = rehearse(scenario, winch)
    monkeypatch.setattr("oarlock.rehearse.run._CHUNK", 977)
    assert _same(whole, rehearse(scenario, winch))


def test_no_peak_is_lost_in_a_bin(winch: Axis) -> None:
    scenario = speed(Point(at=0.1, value=80.0), duration=4.0)
    run = rehearse(scenario, winch)
    assert run.t.size == 4000
    assert run.most["iq"].max() > run.mean["iq"].max()
    assert np.all(run.least["speed"] <= run.most["speed"])


def test_a_load_that_is_too_heavy_ends_early_and_is_kept(winch: Axis) -> None:
    heavy = speed(Point(at=0.0, value=100.0), duration=3.0, loads=(Load(at=0.4, torque=400.0),))
    run = rehearse(heavy, winch)
    assert run.ended.startswith("tripped: ")
    assert 0.4 < run.samples * winch.inverter.Ts < 3.0
    assert figures_of(run, winch).ended == run.ended


def test_what_it_rests_on_must_be_known(winch: Axis) -> None:
    scenario = speed(Point(at=0.0, value=10.0))
    with pytest.raises(InputError, match="are not known"):
        rehearse(scenario, hollow("own"))
    with pytest.raises(InputError, match="no gains of the position loop"):
        rehearse(replace(scenario, control=Control.POSITION), tuned_winch())
    fast = speed(Point(at=0.0, value=1e4))
    with pytest.raises(InputError, match="above the top speed") as caught:
        rehearse(fast, winch)
    assert "point 1" in caught.value.place


def test_it_can_be_cancelled(winch: Axis) -> None:
    cancel = Cancel()
    cancel.set()
    with pytest.raises(Cancelled):
        rehearse(speed(Point(at=0.0, value=10.0)), winch, cancel=cancel)


def test_the_plant_is_what_the_axis_says(winch: Axis) -> None:
    plant = believed_plant(with_mechanics(winch, coulomb=0.25))
    m = winch.mechanics
    assert plant.total_inertia == pytest.approx(winch.machine.inertia.value)  # type: ignore[union-attr]
    assert plant.resonance == pytest.approx(m.resonance.value)
    assert plant.coulomb == 0.25
    assert plant.encoder_counts == counts_of(winch)


def test_the_command(winch: Axis, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    axis, scenario = tmp_path / "winch.axis.toml", tmp_path / "lift.scenario.toml"
    axis.write_text(format_axis(winch))
    scenario.write_text(demo_text("lift.scenario.toml"))
    table = tmp_path / "lift.csv"
    assert main(["simulate", str(axis), str(scenario), "--csv", str(table)]) == 0
    printed = capsys.readouterr().out
    assert "following error" in printed
    assert "asked -6, reached -6 turns" in printed
    assert "position_most [rad]" in table.read_text()
    with table.open() as file:
        head = next(line for line in file if not line.startswith("#"))
    assert "amperes_most [A]" in head
    assert main(["simulate", str(axis), str(scenario), "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["ended"] == "done"
    assert len(told["points"]) == 2
    scenario.write_text('control = "current"\nduration = "20 ms"\n[[points]]\ncurrent = "2 A peak"')
    assert main(["simulate", str(axis), str(scenario)]) == 0
    assert re.search(r"asked 2, reached [12].* A,", capsys.readouterr().out)
    scenario.write_text("duration = 3")
    assert main(["simulate", str(axis), str(scenario)]) == 2
    assert capsys.readouterr().err.count("\n") == 1


def test_a_sine_of_speed_is_followed_as_the_loop_has_it(winch: Axis) -> None:
    """Far below the crossover it follows; its reference is recorded with the wave in it."""
    wave = PointWave(shape=WaveShape.SINE, amplitude=6.0, frequency=2.0)
    run = rehearse(speed(Point(at=0.0, value=60.0, acceleration=400.0, wave=wave), duration=2.0),
                   winch)  # fmt: skip
    late = run.t > 1.0
    turn = np.exp(-2j * np.pi * 2.0 * run.t[late])
    asked, did = (2.0 * np.mean(run.mean[name][late] * turn) for name in ("speed_ref", "speed"))
    assert asked == pytest.approx(-6.0j, abs=0.2)  # a sine: faster first
    assert abs(did / asked) == pytest.approx(1.0, abs=0.06)


def test_a_sine_of_position_is_followed_as_the_loop_has_it(winch: Axis) -> None:
    """As the exact loop does without anything asked ahead; the reference has the wave in it."""
    hertz = 4.0
    wave = PointWave(shape=WaveShape.SINE, amplitude=0.5, frequency=hertz)
    scenario = Scenario(name="heave", control=Control.POSITION, duration=3.0,
                        points=(Point(at=0.0, value=0.0, wave=wave),))  # fmt: skip
    axis = with_mechanics(winch, coulomb=0.0, viscous=0.0)
    run = rehearse(scenario, axis)
    late = run.t > 1.0
    turn = np.exp(-1j * math.tau * hertz * run.t[late])
    did = 2.0 * np.mean(run.mean["position"][late] * turn)
    asked = 2.0 * np.mean((run.mean["position"] + run.mean["following"])[late] * turn)
    assert asked == pytest.approx(-0.5j, abs=0.02)  # a sine: forward first
    gains = position_gains(axis)
    assert gains is not None
    exact = PositionLoop(loop_in_use(axis), gains).closed.at(math.tau * hertz)
    assert abs(did / asked - exact) < 0.03
    assert abs(exact - 1.0) > 0.1  # it lags: nothing is asked ahead


def test_a_square_and_noise_of_current(winch: Axis) -> None:
    square = PointWave(shape=WaveShape.SQUARE, amplitude=2.0, frequency=50.0)
    noise = PointWave(shape=WaveShape.RANDOM, amplitude=2.0)
    for wave in (square, noise):
        scenario = Scenario(name="s", control=Control.CURRENT, duration=0.1,
                            points=(Point(at=0.0, value=1.0, wave=wave),))  # fmt: skip
        iq = rehearse(scenario, winch).mean["iq"]
        assert iq.min() < 0.2
        assert iq.max() > 1.6


@pytest.mark.parametrize(
    ("wave", "words"),
    [
        (PointWave(shape=WaveShape.SINE, amplitude=400.0, frequency=1.0), "above the top speed"),
        (PointWave(shape=WaveShape.SINE, amplitude=1.0, frequency=5e3), "a wave of 5000 Hz"),
        (PointWave(shape=WaveShape.CHIRP, amplitude=1.0, frequency=5.0, until=6e3), "of 6000 Hz"),
    ],
)
def test_a_wave_beyond_what_can_be_is_refused(winch: Axis, wave: PointWave, words: str) -> None:
    with pytest.raises(InputError, match=words):
        rehearse(speed(Point(at=0.0, value=60.0, wave=wave)), winch)


def test_a_wave_of_position_that_is_too_fast_is_refused(winch: Axis) -> None:
    for shape, until in ((WaveShape.SINE, 0.0), (WaveShape.CHIRP, 90.0)):
        hertz = 1.0 if until else 70.0
        wave = PointWave(shape=shape, amplitude=1.0, frequency=hertz, until=until)
        swift = Scenario(name="s", control=Control.POSITION, duration=1.0,
                         points=(Point(at=0.0, value=0.0, wave=wave),))  # fmt: skip
        with pytest.raises(InputError, match="above the top speed"):
            rehearse(swift, winch)


def test_energy_goes_where_friction_heat_and_motion_take_it(winch: Axis) -> None:
    """Up to a speed and held, then down: what was drawn is motion, friction and heat."""
    axis = with_mechanics(winch, coulomb=0.25, viscous=2e-3, load_torque=0.0)
    up = rehearse(speed(Point(at=0.0, value=100.0, acceleration=800.0)), axis)
    figures, J = figures_of(up, axis), believed_plant(axis).total_inertia
    turned = float(np.sum(up.mean["speed"])) * (up.t[1] - up.t[0])
    rubbed = float(np.sum((0.25 + 2e-3 * up.mean["speed"]) * up.mean["speed"])) * 1e-3
    heat = figures.copper_loss * figures.seconds
    assert turned > 50.0
    assert figures.drawn == pytest.approx(0.5 * J * 100.0**2 + rubbed + heat, rel=0.03)
    assert figures.returned < 0.02 * figures.drawn
    down = rehearse(speed(Point(at=0.0, value=100.0, acceleration=800.0),
                          Point(at=0.5, value=0.0, acceleration=800.0)), axis)  # fmt: skip
    told = figures_of(down, axis)
    whole = told.drawn - told.returned
    rubbed = float(np.sum((0.25 + 2e-3 * down.mean["speed"]) * np.abs(down.mean["speed"]))) * 1e-3
    assert whole == pytest.approx(rubbed + told.copper_loss * told.seconds, rel=0.05)
    assert told.returned > 0.5 * 0.5 * J * 100.0**2


def test_a_turn_of_too_few_samples_is_refused(winch: Axis) -> None:
    """4000 rpm at 4 pole pairs are 267 Hz; control at 1.2 kHz has 4.5 samples of it."""
    found = Estimate(value=1.2e3, std=0.0, unit="Hz", origin=Origin.MEASURED)
    axis = winch.adopting("inverter.control_frequency", found)
    with pytest.raises(InputError, match=r"267 Hz electrical, 4[.]5 samples a turn"):
        rehearse(speed(Point(at=0.0, value=4000.0 * math.tau / 60.0)), axis)


@pytest.mark.parametrize("bridge", [Modulation.AVERAGED, Modulation.SPACE_VECTOR])
def test_where_the_gates_go_off_the_load_takes_the_shaft_along(
    winch: Axis, bridge: Modulation
) -> None:
    """No current flows any more; the shaft goes by load and friction alone, in closed form."""
    axis = with_mechanics(winch, coulomb=0.25, viscous=0.0, load_torque=0.0)
    scenario = replace(
        speed(Point(at=0.0, value=60.0, acceleration=800.0), duration=0.8,
              loads=(Load(at=0.0, torque=1.0),)), gates_off=0.3)  # fmt: skip
    run = rehearse(scenario, axis, bridge=bridge)
    assert run.ended == "done"
    off = run.t > 0.302
    assert float(np.abs(run.most["iq"][off]).max()) < 0.2  # the current sense's noise
    assert float(np.abs(run.mean["volts"][off]).max()) == 0.0
    J = believed_plant(axis).total_inertia
    for at in (0.32, 0.34):
        n = int(np.searchsorted(run.t, at))
        fallen = 60.0 - (1.0 + 0.25) / J * (run.t[n] + 5e-4 - 0.3)
        assert float(np.mean(run.mean["speed"][n - 2 : n + 3])) == pytest.approx(fallen, abs=1.5)
    assert run.mean["speed"][-1] < -5.0  # pulled backward by the load


@pytest.mark.parametrize("off", ["2 s", "0.05 s"])
def test_gates_that_go_off_before_or_after_it_all_are_refused(off: str) -> None:
    text = (f'control = "speed"\nduration = "1 s"\ngates_off = "{off}"\n'
            '[[points]]\nat = "0.1 s"\nspeed = "100 rpm"\n')  # fmt: skip
    with pytest.raises(InputError, match="the gates go off at"):
        parse_scenario(text, place="x")


def test_noise_at_rest_returns_nothing(winch: Axis) -> None:
    """A load held without turning: heat in the copper, and nothing that goes back."""
    run = rehearse(speed(Point(at=0.0, value=0.0), loads=(Load(at=0.0, torque=1.0),)), winch)
    told = figures_of(run, winch)
    assert told.drawn == pytest.approx(told.copper_loss * told.seconds, rel=0.15)
    assert told.returned < 0.1
