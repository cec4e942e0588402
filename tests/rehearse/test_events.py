"""How a scenario begins, loads by where the shaft is, and sensors that fail on the way."""

import json
import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from oarlock.cli import main
from oarlock.control.position_design import design_position
from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.machine.axis_file import format_axis
from oarlock.quantities.kinds import RPM
from oarlock.rehearse.events import Happening
from oarlock.rehearse.figures import figures_of
from oarlock.rehearse.plant import believed_plant
from oarlock.rehearse.run import Outside, Rehearsal, rehearse
from oarlock.rehearse.scenario import parse_scenario
from oarlock.simulate import layout as k
from oarlock.simulate.drive_model import DriveModel
from oarlock.views.rehearsal import simulated, unread
from oarlock.views.rehearsal_drawn import curves_of
from tests.speed_axis import tuned_winch

COAST = 'control = "current"\nduration = "0.4 s"\n[start]\nspeed = "-600 rpm"\n'
HELD = '[[points]]\ncurrent = "0"\n'
TURN = (
    'control = "speed"\nduration = "1 s"\n'
    '[[points]]\nspeed = "300 rpm"\nacceleration = "400 rad/s2"\n'
)


@pytest.fixture(scope="module")
def winch() -> Axis:
    return tuned_winch()


def played(text: str, axis: Axis, beside: Path | None = None) -> Rehearsal:
    return rehearse(parse_scenario(text, place="x", beside=beside), axis)


def of(run: Rehearsal, name: str, at: float) -> float:
    return float(run.mean[name][int(np.searchsorted(run.t, at))])


def test_a_shaft_that_turns_at_the_start_coasts_by_its_friction(winch: Axis) -> None:
    run = played(COAST + HELD, winch)
    assert run.ended == "done"
    plant = believed_plant(winch)
    J, b, Tc = plant.total_inertia, plant.viscous, plant.coulomb
    at = 0.2
    # J·w' = −b·w − Tc, of a single mass; what the shaft swings is small beside it
    grown = (600.0 * RPM + Tc / b) * math.exp(-b * at / J) - Tc / b
    assert of(run, "shaft", at) == pytest.approx(-grown, rel=0.02)
    assert of(run, "speed", at) == pytest.approx(of(run, "shaft", at), rel=0.02)
    assert of(run, "shaft", 0.0) == pytest.approx(-600.0 * RPM, rel=0.01)


def test_a_warm_winding_needs_more_voltage(winch: Axis) -> None:
    text = 'control = "current"\nduration = "0.3 s"\n[[points]]\ncurrent = "5 A peak"\n' + (
        "[[events]]\nbrake = 100.0\n"
    )
    cold, warm = (played(text + more, winch) for more in ("", "[start]\nwarmer = 80\n"))
    grown = of(warm, "vq", 0.25) / of(cold, "vq", 0.25)
    dead = believed_plant(winch).dead_voltage
    R = winch.machine.R.value
    assert grown == pytest.approx(1.0 + 0.00393 * 80.0 * 5.0 * R / (5.0 * R + dead), abs=0.03)


def test_a_warm_winding_loses_more_as_its_voltage_says(winch: Axis) -> None:
    text = 'control = "current"\nduration = "0.3 s"\n[[points]]\ncurrent = "5 A peak"\n' + (
        "[[events]]\nbrake = 100.0\n"
    )
    cold, warm = (played(text + more, winch) for more in ("", "[start]\nwarmer = 80\n"))
    # What the voltage gives more, the dead time's share being the same, is what copper loses more.
    more = 1.5 * (of(warm, "vq", 0.25) * of(warm, "iq", 0.25)
                  - of(cold, "vq", 0.25) * of(cold, "iq", 0.25))  # fmt: skip
    assert more > 5.0
    assert of(warm, "power", 0.25) - of(cold, "power", 0.25) == pytest.approx(more, rel=0.05)
    losses = [figures_of(run, winch).copper_loss for run in (cold, warm)]
    held = warm.squares["current"] / 5.0**2  # a share of the time it was not there yet
    assert losses[1] - losses[0] == pytest.approx(more * held, rel=0.05)


def test_a_load_by_angle_pulls_where_the_shaft_is(tmp_path: Path, winch: Axis) -> None:
    (tmp_path / "spring.csv").write_text("angle [turns],torque [mN·m]\n0,0\n1,0\n3,2000\n")
    run = played('loads = "spring.csv"\n' + TURN, winch, tmp_path)
    Kt = winch.machine.torque_constant
    turns = run.mean["position"] / math.tau
    idle = run.mean["iq"][(turns > 0.6) & (turns < 0.9)].mean()
    middle = run.mean["iq"][(turns > 1.95) & (turns < 2.05)].mean()
    beyond = run.mean["iq"][turns > 3.5].mean()
    assert middle - idle == pytest.approx(1.0 / Kt, rel=0.08)
    assert beyond - idle == pytest.approx(2.0 / Kt, rel=0.04)


def test_a_sensor_that_slips_leaves_the_shaft_elsewhere_than_it_says(winch: Axis) -> None:
    axis = winch.with_loop_gains("position", design_position(winch).gains)
    move = (
        'control = "position"\nduration = "1.2 s"\n[[points]]\nat = "0.1 s"\nby = "0.5"\n'
        'speed = "200 rpm"\nacceleration = "300 rad/s2"\n'
    )
    slipped = move + '[[events]]\nat = "0.6 s"\nslip = "2 deg"\n'
    shown = simulated(parse_scenario(slipped, place="x"), axis)
    said, shaft = curves_of(shown)["asked"]
    assert said[0][-1] == pytest.approx(0.5, abs=2e-4)  # the loop brings back what is read
    assert 360.0 * (shaft[0][-1] - said[0][-1]) == pytest.approx(-2.0, abs=0.1)
    assert shaft[0][500] == pytest.approx(said[0][500], abs=2e-4)
    assert shown.answer in {f"The shaft stands −{n}° from where its sensor says"
                            for n in ("1.98", "1.99", "2.00", "2.01", "2.02")}  # fmt: skip
    whole = simulated(parse_scenario(move, place="x"), axis)
    assert len(curves_of(whole)["asked"]) == 1


def test_a_shaft_whose_sensor_is_lost_is_told_as_it_is(winch: Axis) -> None:
    text = TURN + '[[events]]\nat = "0.5 s"\nsensor = "lost"\n'
    run = played(text, winch)
    before, after = of(run, "speed", 0.45), of(run, "speed", 0.6)
    assert before == pytest.approx(300.0 * RPM, rel=0.03)
    assert abs(after) < 0.05 * before  # what is read stands still
    said = unread(run, winch)
    assert said.startswith("The sensor says 0 rpm where the shaft turns ")
    peak = float(np.abs(run.mean["shaft"])[run.t > 0.5].max())
    assert figures_of(run, winch).top_speed >= 0.99 * peak
    swinging = run.mean["power"][run.t > 0.55]  # the shaft swings about where the current points
    loss = 1.5 * winch.machine.R.value * float(run.mean["amperes"][-1]) ** 2
    assert swinging.min() < 0.5 * loss < loss < swinging.max()
    shown = simulated(parse_scenario(text, place="x"), winch)
    assert shown.answer == said
    assert "% of the bus" in shown.reasons[0]
    assert len(curves_of(shown)["asked"]) == 2


def test_the_command_tells_it_too(
    tmp_path: Path, winch: Axis, capsys: pytest.CaptureFixture[str]
) -> None:
    axis, scenario = tmp_path / "winch.axis.toml", tmp_path / "off.scenario.toml"
    axis.write_text(format_axis(winch))
    scenario.write_text(TURN + '[[events]]\nat = "0.5 s"\nsensor = "lost"\n')
    assert main(["simulate", str(axis), str(scenario)]) == 0
    assert "The sensor says 0 rpm where the shaft turns " in capsys.readouterr().out
    main(["simulate", str(axis), str(scenario), "--json"])
    assert json.loads(capsys.readouterr().out)["sensor"].startswith("The sensor says 0 rpm")


def test_a_sensor_that_works_is_no_news(winch: Axis) -> None:
    shown = simulated(parse_scenario(TURN, place="x"), winch)
    assert unread(shown.run, winch) == ""
    assert len(curves_of(shown)["asked"]) == 1
    # As it begins to turn a drive does not know its speed for a moment: no fault of the sensor.
    turning = played(COAST + HELD + '[[events]]\nat = "0.2 s"\nsensor = "back"\n', winch)
    first = abs(float(turning.mean["shaft"][0] - turning.mean["speed"][0]))
    assert first > 0.03 * winch.top_speed
    assert unread(turning, winch) == ""
    back = (
        '[[events]]\nat = "0.5 s"\nsensor = "lost"\n[[events]]\nat = "0.502 s"\nsensor = "back"\n'
    )
    run = played(TURN + back, winch)
    assert of(run, "speed", 0.95) == pytest.approx(300.0 * RPM, rel=0.03)
    assert of(run, "shaft", 0.95) == pytest.approx(300.0 * RPM, rel=0.03)


@pytest.mark.parametrize("side", [1.0, -1.0])
def test_a_sensor_that_slips_turns_the_current_off_its_axis(winch: Axis, side: float) -> None:
    m = winch.machine
    off = side * math.radians(20.0)  # electrical
    text = ('control = "speed"\nduration = "1 s"\n[[points]]\nspeed = "300 rpm"\n'
            '[[loads]]\ntorque = 4.0\n[[events]]\nat = "0.5 s"\n'
            f'slip = "{side * 20.0 / m.pole_pairs.value:.4g} deg"\n')  # fmt: skip
    run = played(text, winch)
    before, after = of(run, "iq", 0.45), of(run, "iq", 0.95)
    # It reads ahead: what is meant along q is turned on by that angle.
    i_d, i_q = -after * math.sin(off), after * math.cos(off)
    flux = m.psi.value + (m.Ld.value - m.Lq.value) * i_d
    assert flux * i_q == pytest.approx(m.psi.value * before, rel=0.02)


def test_an_offset_of_a_current_sensor_shakes_the_torque_once_a_turn(winch: Axis) -> None:
    text = TURN + '[[events]]\nat = "0.5 s"\noffset_a = "-0.6 A peak"\n'
    run = played(text, winch)
    calm = run.mean["iq"][(run.t > 0.4) & (run.t < 0.5)]
    shaken = run.mean["shaft"][(run.t > 0.8)]
    steady = run.mean["shaft"][(run.t > 0.4) & (run.t < 0.5)]
    assert np.std(shaken) > 3.0 * np.std(steady)
    assert np.std(calm) < 0.3


def strongest(run: Rehearsal, since: float) -> float:
    """Return the frequency (Hz) at which the shaft's speed shakes most, from a time on."""
    late = run.t > since
    speed, step = run.mean["shaft"][late], float(run.t[1] - run.t[0])
    size = np.abs(np.fft.rfft((speed - speed.mean()) * np.hanning(speed.size), 8 * speed.size))
    return float(np.fft.rfftfreq(8 * speed.size, step)[int(np.argmax(size))])


@pytest.mark.parametrize(("event", "turns"), [
    ('offset_b = "0.6 A peak"', 4.0), ("gain_a = 1.2", 8.0), ("gain_b = 0.8", 8.0),
    ('runout = "0.6 deg"', 1.0),
])  # fmt: skip
def test_each_fault_of_a_sensor_shakes_the_shaft_at_its_own_frequency(
    winch: Axis, event: str, turns: float
) -> None:
    """An offset once an electrical turn, a gain twice, a wobble once a turn of the shaft."""
    text = ('control = "speed"\nduration = "1.4 s"\n[[points]]\nat = "0.05 s"\nspeed = "240 rpm"\n'
            '[[loads]]\ntorque = 4.0\n[[events]]\nat = "0.5 s"\n')  # fmt: skip
    run = played(text + event + "\n", winch)
    assert run.ended == "done"
    before = run.mean["shaft"][(run.t > 0.35) & (run.t < 0.5)]
    assert np.std(run.mean["shaft"][run.t > 0.8]) > 2.0 * np.std(before)
    assert winch.machine.pole_pairs.value == 4.0
    assert strongest(run, 0.7) == pytest.approx(turns * 240.0 / 60.0, rel=0.03)


def test_a_lead_that_comes_off_leaves_a_torque_that_pulses_twice_a_turn(winch: Axis) -> None:
    text = ('control = "speed"\nduration = "1.2 s"\n[[points]]\nat = "0.05 s"\nspeed = "240 rpm"\n'
            '[[loads]]\ntorque = 1.0\n[[events]]\nat = "0.5 s"\nopen = "b"\n')  # fmt: skip
    run = played(text, winch)
    assert run.ended == "done"
    assert strongest(run, 0.7) == pytest.approx(8.0 * 240.0 / 60.0, rel=0.03)
    back = played(text + '[[events]]\nat = "0.8 s"\nopen = "none"\n', winch)
    late = [one.mean["shaft"][one.t > 1.0] for one in (run, back)]
    assert np.std(late[0]) > 5.0 * np.std(late[1])


@pytest.mark.parametrize(
    ("more", "told"),
    [
        ('[[events]]\nopen = "d"\n', "open = 'd'"),
        ("[[events]]\ngain_a = 0\n", "gain_a = 0"),
        ("[[events]]\ngain_b = true\n", "gain_b = True"),
        ('[[events]]\nrunout = "far"\n', "runout: "),
        ('[[events]]\nsensor = "gone"\n', "sensor = 'gone'"),
        ('[[events]]\nslip = "far"\n', "slip: "),
        ('[[events]]\nsensor = "lost"\nbus = "200 V"\n', "of no kind, or of two"),
        ("[[events]]\nat = '0.1 s'\n", "of no kind, or of two"),
        ('[start]\nspeed = "9000 rpm"\n', "above the top speed"),
        ("[start]\nwarmer = true\n", "warmer is no number"),
        ("[start]\nwarmer = 900\n", "a winding warmer by 900 K"),
        ("[start]\nwarm = 3\n", "unknown key warm"),
        ("start = 3\n", "is no table"),
    ],
)
def test_what_makes_no_sense(more: str, told: str, winch: Axis) -> None:
    text = more + TURN if more.startswith("start") else TURN + more
    with pytest.raises(InputError, match=told):
        played(text, winch)


@pytest.mark.parametrize(
    ("table", "told"),
    [
        ("angle [turns],torque [N·m]\n0,1\n0,2\n", "its angles do not rise"),
        ("angle [m],torque [N·m]\n0,1\n", "'m' is no unit of angle"),
        ("angle [rad],pull [N·m]\n0,1\n", "no column 'torque'"),
        ("angle [rad],torque [N·m]\n" + "".join(f"{n},1\n" for n in range(65)), "65 rows"),
    ],
)
def test_tables_over_angle_that_make_no_sense(
    tmp_path: Path, table: str, told: str, winch: Axis
) -> None:
    (tmp_path / "spring.csv").write_text(table)
    with pytest.raises(InputError, match=told):
        played('loads = "spring.csv"\n' + TURN, winch, tmp_path)


@pytest.mark.parametrize(("what", "value", "offsets", "gains"), [
    (Happening.OFFSET_A, 0.5, (0.6, -0.2, 0.0), (1.1, 0.9, 1.0)),
    (Happening.OFFSET_B, 0.5, (0.1, 0.3, 0.0), (1.1, 0.9, 1.0)),
    (Happening.GAIN_A, 1.2, (0.1, -0.2, 0.0), (1.32, 0.9, 1.0)),
    (Happening.GAIN_B, 1.2, (0.1, -0.2, 0.0), (1.1, 1.08, 1.0)),
])  # fmt: skip
def test_a_current_sensor_fails_beyond_what_it_did_before_and_the_others_stay(
    winch: Axis, what: Happening, value: float, offsets: tuple[float, ...],
    gains: tuple[float, ...],
) -> None:  # fmt: skip
    plant = replace(believed_plant(winch), offsets=(0.1, -0.2, 0.0), gains=(1.1, 0.9, 1.0),
                    noise=0.0)  # fmt: skip
    model = DriveModel(plant)
    for _ in range(2):  # it holds until the next of its kind, and does not add up
        Outside(torque=0.0, events={what: value}).acts_on(model)
    assert model._plant[k.OFFSET_A : k.OFFSET_C + 1].tolist() == pytest.approx(offsets)
    assert model._plant[k.GAIN_A : k.GAIN_C + 1].tolist() == pytest.approx(gains)
