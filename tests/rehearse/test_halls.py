"""Rehearsing an axis with three halls: the firmware goes by their edges, not by coarse counts."""

import math

import numpy as np
import pytest

from oarlock.control.current import design_current
from oarlock.control.speed_design import Turning, design_speed, usual_speed
from oarlock.demo.project import demo_text
from oarlock.machine import Axis
from oarlock.machine.axis_file import parse_axis
from oarlock.machine.speed_loop import KEY as SPEED
from oarlock.quantities.kinds import RPM
from oarlock.rehearse.plant import believed_plant, ideal_sensing
from oarlock.rehearse.ripple import COUNTS, ripple_of
from oarlock.rehearse.run import rehearse
from oarlock.rehearse.scenario import parse_scenario
from oarlock.simulate.sense import _hall_code
from oarlock.views.rehearse import usual_scenario

STEADY = """control = "speed"
duration = "1.5 s"
[start]
speed = "500 rpm"
[[points]]
speed = "500 rpm"
[[points]]
at = "0.4 s"
speed = "900 rpm"
acceleration = "200 rad/s2"
"""


@pytest.fixture(scope="module")
def thruster() -> Axis:
    axis = parse_axis(demo_text("thruster.axis.toml"), place="demo")
    axis = axis.with_gains(design_current(axis).gains)
    turning = Turning(speed=usual_speed(axis))  # halls tell the speed from edge to edge
    return axis.with_loop_gains(SPEED, design_speed(axis, turning=turning).gains)


def test_the_table_of_even_halls_is_what_their_lines_say(thruster: Axis) -> None:
    plant = believed_plant(thruster)
    assert plant.sensor == "hall"
    starts = ideal_sensing(thruster, plant).sensor.hall_starts
    packed = plant.packed()
    for electrical in np.arange(0.5, 360.0, 7.0):
        code = _hall_code(packed, math.radians(electrical), 0.0)
        assert 0.0 <= math.degrees(math.radians(electrical) - starts[code]) < 60.0


def test_the_speed_is_followed_and_read_right(thruster: Axis) -> None:
    run = rehearse(parse_scenario(STEADY, place="x"), thruster)
    assert run.ended == "done"
    for at, wanted in ((0.3, 500.0), (1.4, 900.0)):
        n = int(np.searchsorted(run.t, at))
        assert run.mean["shaft"][n] == pytest.approx(wanted * RPM, rel=0.02)
        assert run.mean["speed"][n - 30 : n + 30].mean() == pytest.approx(wanted * RPM, rel=0.02)
    begun = run.most["amperes"][run.t < 0.1]
    assert float(begun.max()) < 0.3 * thruster.peak  # it turns already: no kick


def test_the_usual_scenario_keeps_away_from_standstill(thruster: Axis) -> None:
    scenario = parse_scenario(usual_scenario(thruster), place="x")
    assert scenario.start.speed > 0.0
    assert all(point.value >= scenario.start.speed for point in scenario.points)
    run = rehearse(scenario, thruster)
    assert run.ended == "done"
    assert float(run.most["amperes"].max()) < 0.8 * thruster.peak


def test_what_halls_make_ripple_is_told_beside_the_rest(thruster: Axis) -> None:
    short = STEADY.replace("1.5 s", "0.2 s").split("[[points]]\nat")[0]
    found = ripple_of(parse_scenario(short, place="x"), thruster)
    counts = next(one for one in found.causes if one.name == COUNTS)
    assert counts.torque > 0.0
