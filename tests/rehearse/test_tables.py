"""Tables of references and loads, and what happens to an axis from outside."""

import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from numpy.typing import NDArray
from scipy.interpolate import CubicSpline

from oarlock.cli import main
from oarlock.control.position_design import design_position
from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.machine.axis_file import format_axis
from oarlock.quantities.kinds import RPM
from oarlock.rehearse.run import Rehearsal, rehearse
from oarlock.rehearse.scenario import parse_scenario, read_scenario
from oarlock.rehearse.tables import read_loads
from oarlock.views.scenario_edit import beside_project, handles_of
from tests.speed_axis import tuned_winch

RIDE = "t [s],speed [rpm]\n0.1,200\n0.3,600\n0.5,600\n0.9,-300\n"
PULL = "# measured on the river\ntorque [N·m],t [s]\n0,0\n0,0.2\n2.0,0.6\n-1.0,0.6001\n"
TEXT = 'control = "speed"\nduration = "1.2 s"\npoints = "ride.csv"\n'
HEAVE = "t [s],position [deg]\n0.2,0\n0.35,90\n0.5,40\n0.7,-120\n0.9,-120\n1.0,0\n"
HEAVED = 'control = "position"\nduration = "1.2 s"\npoints = "heave.csv"\n'


@pytest.fixture(scope="module")
def winch() -> Axis:
    return tuned_winch()


@pytest.fixture(scope="module")
def placed(winch: Axis) -> Axis:
    return winch.with_loop_gains("position", design_position(winch).gains)


def ridden(folder: Path, axis: Axis, more: str = "", ride: str = RIDE) -> Rehearsal:
    (folder / "ride.csv").write_text(ride)
    (folder / "pull.csv").write_text(PULL)
    return rehearse(parse_scenario(TEXT + more, place="x", beside=folder), axis)


def of(run: Rehearsal, name: str, at: float) -> float:
    column: NDArray[np.float64] = run.mean[name]
    return float(column[int(np.searchsorted(run.t, at))])


def test_a_speed_goes_straight_from_row_to_row(tmp_path: Path, winch: Axis) -> None:
    run = ridden(tmp_path, winch)
    assert run.ended == "done"
    rows = np.array([[float(x) for x in line.split(",")] for line in RIDE.splitlines()[1:]])
    inside = (run.t > 0.105) & (run.t < 1.19)
    wanted = np.interp(run.t[inside] + 0.5e-3, *rows.T) * RPM
    assert np.max(np.abs(run.mean["speed_ref"][inside] - wanted)) < 5.0 * RPM
    assert of(run, "speed", 0.45) == pytest.approx(600.0 * RPM, rel=0.01)
    assert of(run, "speed", 1.15) == pytest.approx(-300.0 * RPM, rel=0.02)


def test_a_torque_goes_straight_and_is_what_the_current_answers(
    tmp_path: Path, winch: Axis
) -> None:
    steady = "t [s],speed [rpm]\n0,300\n1,300\n"
    run = ridden(tmp_path, winch, 'loads = "pull.csv"\n', steady)
    Kt = winch.machine.torque_constant
    idle = of(run, "iq", 0.19)
    for at, torque in ((0.4, 1.0), (0.59, 1.95), (0.8, -1.0)):
        assert of(run, "iq", at) - idle == pytest.approx(torque / Kt, abs=0.12)


def test_a_torque_is_held_about_its_middle_each_millisecond(tmp_path: Path) -> None:
    path = tmp_path / "pull.csv"
    path.write_text("t [ms],torque [mN·m]\n0,0\n10,2000\n20,2000\n")
    found = np.array(read_loads(path))
    assert found.shape == (12, 2)
    assert found[:10, 0] == pytest.approx(np.arange(10) * 1e-3)
    assert found[:10, 1] == pytest.approx((np.arange(10) + 0.5) * 0.2)  # the mean of each step
    assert found[10:].tolist() == [[0.01, 2.0], [0.02, 2.0]]


def test_a_brake_holds_and_opens_and_a_bus_gives_less(tmp_path: Path, winch: Axis) -> None:
    Kt = winch.machine.torque_constant
    steady = "t [s],speed [rpm]\n0,300\n1,300\n"
    brake = '[[events]]\nat = "0.5 s"\nbrake = 3.0\n[[events]]\nat = "0.8 s"\nbrake = 0\n'
    run = ridden(tmp_path, winch, brake, steady)
    idle = of(run, "iq", 0.45)
    assert of(run, "iq", 0.75) - idle == pytest.approx(3.0 / Kt, rel=0.05)
    assert of(run, "iq", 1.1) == pytest.approx(idle, abs=0.1)
    fast = "t [s],speed [rpm]\n0,900\n1,900\n"
    weak = ridden(tmp_path, winch, '[[events]]\nat = "0.8 s"\nbus = "200 V"\n', fast)
    assert of(weak, "speed", 0.75) == pytest.approx(900.0 * RPM, rel=0.01)
    assert weak.ended == "done"
    most = 200.0 / math.sqrt(3.0)
    assert float(weak.most["volts"][weak.t > 0.82].max()) <= 1.01 * most
    assert float(weak.most["volts"][weak.t < 0.79].max()) > 1.05 * most
    # The bridge's duty cycles are those of the nominal voltage: more is asked for the same.
    before, after = (float(np.median(weak.mean["volts"][weak.t > at][:100])) for at in (0.6, 1.0))
    assert after / before == pytest.approx(winch.inverter.bus_voltage.value / 200.0, rel=0.04)
    inverter = replace(winch.inverter, bus_compensation=True)
    made_up = ridden(tmp_path, replace(winch, inverter=inverter),
                     '[[events]]\nat = "0.8 s"\nbus = "260 V"\n', fast)  # fmt: skip
    same = [float(np.median(made_up.mean["volts"][made_up.t > at][:100])) for at in (0.6, 1.0)]
    assert same[1] == pytest.approx(same[0], rel=0.01)  # divided by the bus as it is


@pytest.mark.parametrize(
    ("ride", "told"),
    [
        ("t [s],pace [rpm]\n0,1\n", "no column 'speed'"),
        ("t [s],speed [furlongs]\n0,1\n", "furlongs"),
        ("t [s],speed [rpm]\n0,1\n0,2\n", "do not rise"),
        ("t [s],speed [rpm]\n0,one\n", "row 2: a cell that is no number"),
        ("t [s],speed [rpm]\n0,nan\n", "not finite"),
        ("t [s],speed [rpm]\n", "no rows"),
        ("t [s],speed [rpm]\n5,1\n", "begins after 1.2 s"),
        ("t [s],speed [rpm]\n" + "".join(f"{n / 1e3},1\n" for n in range(500)), "thin it out"),
    ],
)
def test_a_table_without_sense_is_refused_in_one_line(
    tmp_path: Path, winch: Axis, ride: str, told: str
) -> None:
    with pytest.raises(InputError) as caught:
        ridden(tmp_path, winch, "", ride)
    assert told in str(caught.value)
    assert "ride.csv" in str(caught.value)
    assert "\n" not in str(caught.value)


def heaved(folder: Path, axis: Axis, table: str = HEAVE) -> Rehearsal:
    (folder / "heave.csv").write_text(table)
    return rehearse(parse_scenario(HEAVED, place="x", beside=folder), axis)


def test_a_position_follows_the_spline_through_its_rows(tmp_path: Path, placed: Axis) -> None:
    run = heaved(tmp_path, placed)
    assert run.ended == "done"
    at, degrees = np.array([r.split(",") for r in HEAVE.splitlines()[1:]], dtype=np.float64).T
    through = CubicSpline(at, np.radians(degrees), bc_type=((1, 0.0), (1, 0.0)))
    inside = (run.t > 0.2) & (run.t < 0.999)
    asked = run.mean["position"] + run.mean["following"]
    wanted = through(run.t + 0.5e-3 - 31e-6)  # the middle of a bin of sixteen samples
    assert asked[inside] == pytest.approx(wanted[inside], abs=2e-4)
    assert asked[run.t > 1.002] == pytest.approx(0.0, abs=1e-6)
    # Speed and acceleration go ahead: it lags by far less than the gain alone would let it.
    Kp = placed.loops["position"].gains.Kp  # type: ignore[union-attr]
    fastest = float(np.max(np.abs(through(np.linspace(0.2, 1.0, 999), 1))))
    assert float(np.max(np.abs(run.mean["following"]))) < 0.2 * fastest / Kp


def test_a_position_has_the_speed_that_its_table_tells(tmp_path: Path, placed: Axis) -> None:
    table = "t [s],position [turns],speed [rpm]\n0,0,0\n0.5,0.5,120\n1,1,0\n"
    run = heaved(tmp_path, placed, table)
    assert of(run, "position", 0.5) == pytest.approx(math.pi, abs=0.05)
    assert of(run, "speed", 0.5) == pytest.approx(120.0 * RPM, rel=0.05)
    # Between two rows of a cubic from rest: the middle lies (v1·T)/8 short of half the way.
    short = 120.0 * RPM * 0.5 / 8.0
    assert of(run, "position", 0.25) == pytest.approx(0.5 * math.pi - short, abs=0.05)


@pytest.mark.parametrize(
    ("table", "told"),
    [
        ("t [s],position [turns]\n0,0\n1.3,1\n", "goes on after 1.2 s"),
        ("t [s],position [turns]\n0,0\n", "a single row leads nowhere"),
        ("t [s],position [turns],speed [rpm]\n0,0,0\n1,1,5\n", "begins or ends at a speed"),
        ("t [s],position [turns],speed [rpm]\n0,0,5\n1,1,0\n", "begins or ends at a speed"),
        ("t [s],position [m]\n0,0\n1,1\n", "'m' is no unit of position"),
        ("t [s],position [turns]\n0,0\n0.1,9\n", "point 1: 8100 rpm, above the top speed"),
    ],
)
def test_a_path_without_sense_is_refused(
    tmp_path: Path, placed: Axis, table: str, told: str
) -> None:
    with pytest.raises(InputError) as caught:
        heaved(tmp_path, placed, table)
    assert told in str(caught.value)


def test_a_path_that_is_too_fast_between_its_rows_is_refused(tmp_path: Path, placed: Axis) -> None:
    top = placed.top_speed
    there, back = (share * top * 0.5 / math.tau for share in (0.45, -0.6))  # turns
    fast = 0.9 * top / RPM  # back at once: past the top speed on the way, though at no row
    table = (f"t [s],position [turns],speed [rpm]\n0,0,0\n0.5,{there:.3f},{fast:.1f}\n"
             f"1,{there + back:.3f},0\n")  # fmt: skip
    with pytest.raises(InputError, match=r"point 2: .* above the top speed"):
        heaved(tmp_path, placed, table)


@pytest.mark.parametrize(
    ("old", "new", "told"),
    [
        ('"ride.csv"', '"ride.txt"', "is no table"),
        ('"ride.csv"', '"gone.csv"', "gone.csv"),
        ('"speed"', '"position"', "no column 'position'"),
        ("points", '[[events]]\nat = "1 s"\n[x]\npoints', "unknown key x"),
    ],
)
def test_what_a_scenario_says_of_tables_is_checked(
    tmp_path: Path, old: str, new: str, told: str
) -> None:
    (tmp_path / "ride.csv").write_text(RIDE)
    with pytest.raises(InputError, match=told):
        parse_scenario(TEXT.replace(old, new, 1), place="x", beside=tmp_path)


@pytest.mark.parametrize(
    ("event", "told"),
    [
        ("brake = 1.0\nbus = '20 V'", "of no kind, or of two"),
        ("brake = -1.0", "below zero"),
        ("brake = true", "no number"),
        ("bus = '20 Hz'", "bus"),
        ("wind = 3", "unknown key wind"),
    ],
)
def test_an_event_without_sense_is_refused(tmp_path: Path, event: str, told: str) -> None:
    (tmp_path / "ride.csv").write_text(RIDE)
    text = f"{TEXT}[[events]]\nat = '0.5 s'\n{event}\n"
    with pytest.raises(InputError, match=told):
        parse_scenario(text, place="x", beside=tmp_path)
    late = f"{TEXT}[[events]]\nat = '2 s'\nbrake = 1.0\n"
    with pytest.raises(InputError, match="times of the events"):
        parse_scenario(late, place="x", beside=tmp_path)


def test_a_table_is_found_beside_its_scenario_and_by_a_project_elsewhere(
    tmp_path: Path, winch: Axis, capsys: pytest.CaptureFixture[str]
) -> None:
    folder, project = tmp_path / "rides", tmp_path / "project"
    folder.mkdir()
    project.mkdir()
    (folder / "ride.csv").write_text(RIDE)
    (folder / "ride.scenario.toml").write_text(TEXT)
    assert len(read_scenario(folder / "ride.scenario.toml").points) == 5
    text = beside_project(TEXT, folder, project)
    assert parse_scenario(text, place="x", beside=project).is_tabled
    assert beside_project(TEXT, folder, folder) == TEXT
    assert handles_of(text) == ()  # nothing to drag: the table says it
    axis = tmp_path / "winch.axis.toml"
    axis.write_text(format_axis(winch))
    assert main(["simulate", str(axis), str(folder / "ride.scenario.toml")]) == 0
    said = capsys.readouterr().out
    assert "top speed" in said
    assert "asked" not in said  # a table is no row of steps
