"""A scenario fed by a supply that takes nothing back: the bus sags, rises, and trips."""

import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from oarlock.cli import main
from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.machine.axis_file import format_axis
from oarlock.machine.parameter import Parameter
from oarlock.quantities import Estimate, Origin
from oarlock.rehearse.figures import figures_of
from oarlock.rehearse.plant import believed_plant
from oarlock.rehearse.run import Rehearsal, rehearse
from oarlock.rehearse.scenario import parse_scenario
from oarlock.rehearse.supply import Supply
from oarlock.views.rehearsal import bus_gives, simulated
from oarlock.views.vectors import vectors_at
from tests.speed_axis import tuned_winch

STOP = """control = "speed"
duration = "1 s"
[start]
speed = "900 rpm"
[[points]]
speed = "900 rpm"
[[points]]
at = "0.3 s"
speed = "0"
acceleration = "1500 rad/s2"
"""
LINK = '[supply]\ncapacitance = "1 mF"\nresistance = 0.5\n'
BRAKED = LINK + 'brake_from = "350 V"\nbrake_resistor = 40\n'


@pytest.fixture(scope="module")
def winch() -> Axis:
    return tuned_winch()


def fed(axis: Axis, supply: str) -> Rehearsal:
    return rehearse(parse_scenario(STOP + supply, place="x"), axis)


def bears(axis: Axis, volts: float) -> Axis:
    printed = Estimate(value=volts, unit="V", origin=Origin.DATASHEET, source=f"{volts} V")
    inverter = replace(axis.inverter, max_voltage=Parameter(printed=printed))
    return replace(axis, inverter=inverter)


def test_braking_pumps_the_link_up_by_what_the_shaft_gives_back(winch: Axis) -> None:
    run = fed(winch, LINK)
    told = figures_of(run, winch)
    assert run.ended == "done"
    stiff = figures_of(fed(winch, ""), winch)
    assert (stiff.bus_least, stiff.bus_most) == (320.0, 320.0)
    # What goes back, bin by bin, charges the capacitor from where the supply had it.
    ends = run.mean["bus"][-1]
    charged = 0.5e-3 * (ends**2 - 320.0**2)
    back = run.mean["power"][run.mean["bus"] > 320.5]
    whole = -float(np.sum(back)) * (run.t[1] - run.t[0])
    assert charged == pytest.approx(whole, rel=0.05)
    assert told.bus_most > 370.0
    assert told.bus_least < 319.5
    assert told.burnt == 0.0


def test_a_brake_resistor_keeps_it_down(winch: Axis) -> None:
    run, bare = fed(winch, BRAKED), figures_of(fed(winch, LINK), winch)
    told = figures_of(run, winch)
    assert told.bus_most < 355.0 < bare.bus_most
    assert 2.0 < told.burnt < told.returned
    assert run.scenario.supply == Supply(capacitance=1e-3, resistance=0.5, brake_from=350.0,
                                         brake_resistor=40.0)  # fmt: skip


def test_a_battery_takes_back_what_pumps_a_link_up(winch: Axis) -> None:
    run = fed(winch, LINK + "takes_back = true\n")
    told, bare = figures_of(run, winch), figures_of(fed(winch, LINK), winch)
    assert 320.5 < told.bus_most < 330.0 < bare.bus_most
    assert run.mean["bus"][-1] == pytest.approx(320.0, abs=0.5)


def test_above_what_the_drive_bears_it_trips_and_says_what_helps(winch: Axis) -> None:
    axis = bears(winch, 360.0)
    shown = simulated(parse_scenario(STOP + LINK, place="x"), axis)
    assert shown.figures.ended == "tripped: over-voltage of the bus"
    assert "brake resistor" in shown.reasons[0]
    assert 0.3 < shown.figures.seconds < 0.6
    assert simulated(parse_scenario(STOP + BRAKED, place="x"), axis).figures.ended == "done"


def test_what_is_drawn_goes_by_the_bus_as_it_is(winch: Axis) -> None:
    shown = simulated(parse_scenario(STOP + LINK, place="x"), winch)
    text, moves = bus_gives(shown.run)
    assert moves
    most = shown.run.limits.max()
    assert text == f"dashed: the bus gives {shown.run.limits.min():.0f} to {most:.0f} V"
    late = vectors_at(shown, 0.9)
    assert late.bus == pytest.approx(shown.run.mean["bus"][900], rel=1e-9)
    assert late.v_max == pytest.approx(late.bus / math.sqrt(3.0))
    stiff = simulated(parse_scenario(STOP, place="x"), winch)
    assert bus_gives(stiff.run) == ("the bus gives 185 V", False)


def test_the_tightest_moment_is_told_by_the_bus_as_it_is(winch: Axis) -> None:
    weak = """control = "speed"
duration = "1.2 s"
[[points]]
speed = "900 rpm"
acceleration = "400 rad/s2"
[[points]]
at = "0.5 s"
speed = "700 rpm"
acceleration = "400 rad/s2"
[[events]]
at = "0.8 s"
bus = "200 V"
"""
    axis = replace(winch, inverter=replace(winch.inverter, bus_compensation=True))
    shown = simulated(parse_scenario(weak, place="x"), axis)
    assert shown.tightest > 0.8  # less is asked than before, of a bus that has less


def test_an_event_of_the_bus_sets_what_the_supply_gives(winch: Axis) -> None:
    steady = (
        STOP.replace('"0.3 s"', '"0.9 s"')
        + LINK
        + ('[[events]]\nat = "0.4 s"\nbus = "250 V"\n[[loads]]\nat = "0 s"\ntorque = 4.0\n')
    )
    run = rehearse(parse_scenario(steady, place="x"), winch)
    bus = run.mean["bus"]
    after = bus[int(np.searchsorted(run.t, 0.401))]
    assert after > 300.0  # the capacitor holds it, until it is drawn empty
    assert bus[int(np.searchsorted(run.t, 0.85))] == pytest.approx(250.0, abs=2.0)


def test_it_is_told_on_the_command_line(
    tmp_path: Path, winch: Axis, capsys: pytest.CaptureFixture[str]
) -> None:
    axis, scenario = tmp_path / "w.axis.toml", tmp_path / "stop.scenario.toml"
    axis.write_text(format_axis(winch))
    scenario.write_text(STOP + BRAKED)
    assert main(["simulate", str(axis), str(scenario)]) == 0
    said = capsys.readouterr().out
    assert "bus" in said
    assert "J in the brake resistor" in said


@pytest.mark.parametrize(
    ("supply", "told"),
    [
        ("supply = 3\n", "is no table"),
        ("[supply]\nresistance = 1\n", "capacitance = ''"),
        ('[supply]\ncapacitance = "1 V"\n', "Write it as"),
        ('[supply]\ncapacitance = "0 mF"\n', "Write it as"),
        ('[supply]\ncapacitance = "nan F"\n', "Write it as"),
        (LINK + "brake_resistor = 40\n", "brake_from is missing"),
        (LINK + 'brake_from = "380 V"\n', "brake_resistor is missing"),
        (LINK + 'brake_from = "380 V"\nbrake_resistor = 0\n', "Write it in ohm"),
        (LINK + 'brake_from = "300 V"\nbrake_resistor = 40\n', "would always burn"),
        (LINK.replace("0.5", "true"), "Write it in ohm"),
        (LINK + "colour = 1\n", "unknown key colour"),
        (LINK + "takes_back = 1\n", "Write true or false"),
    ],
)
def test_a_supply_without_sense_is_refused(winch: Axis, supply: str, told: str) -> None:
    text = supply + STOP if supply.startswith("supply") else STOP + supply
    with pytest.raises(InputError) as caught:
        rehearse(parse_scenario(text, place="x"), winch)
    assert told in str(caught.value)


def test_a_run_that_goes_on_from_another_has_the_same_bus(winch: Axis) -> None:
    first = fed(winch, BRAKED)
    other = parse_scenario(STOP.replace('"0"', '"100 rpm"') + BRAKED, place="x")
    again = rehearse(other, winch, since=first)
    whole = rehearse(other, winch)
    assert np.array_equal(again.mean["bus"], whole.mean["bus"])
    assert again.burnt == whole.burnt
    assert believed_plant(winch).link == 0.0
