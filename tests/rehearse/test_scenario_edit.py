"""A point that is moved: where it may go, what its text becomes, and what stays."""

import math

import pytest

from oarlock.demo.project import demo_text
from oarlock.errors import InputError
from oarlock.rehearse.scenario import parse_scenario
from oarlock.views.scenario_edit import Handle, handles_of, moved

LIFT = demo_text("lift.scenario.toml")
SPEEDS = """# two speeds
control = "speed"
duration = "1 s"
[[points]]
speed = "-400 rpm"   # backward first
[[points]]
at = "0.5 s"
speed = "0"
acceleration = "300 rad/s2"
"""


def test_where_the_points_are() -> None:
    assert handles_of(SPEEDS) == (Handle(0.0, pytest.approx(-400.0)), Handle(0.5, 0.0))  # type: ignore[arg-type]
    down, up = handles_of(LIFT)
    assert (down.at, up.at) == (0.2, 2.2)
    assert down.value == pytest.approx(-6.0)
    assert up.value == pytest.approx(0.0)  # it goes back by six
    assert handles_of("no scenario") == ()


def test_a_speed_moves_in_time_and_value_and_all_else_stays() -> None:
    text = moved(SPEEDS, 1, Handle(0.6123, 151.7))
    second = parse_scenario(text, place="x").points[1]
    assert second.at == pytest.approx(0.612)  # in steps of 2 ms
    assert second.value == pytest.approx(152.0 * math.tau / 60.0)
    assert second.acceleration == 300.0
    assert "# two speeds" in text
    assert "# backward first" in text
    assert parse_scenario(text, place="x").points[0] == parse_scenario(SPEEDS, place="x").points[0]


def test_a_point_stays_between_its_neighbours() -> None:
    assert handles_of(moved(SPEEDS, 0, Handle(0.9, 10.0)))[0].at == pytest.approx(0.498)
    assert handles_of(moved(SPEEDS, 1, Handle(-3.0, 10.0)))[1].at == pytest.approx(0.002)
    assert handles_of(moved(SPEEDS, 1, Handle(7.0, 10.0)))[1].at == pytest.approx(0.998)
    coasting = SPEEDS.replace('"1 s"', '"1 s"\ngates_off = "0.8 s"')
    assert handles_of(moved(coasting, 1, Handle(7.0, 10.0)))[1].at == pytest.approx(0.798)


def test_a_move_that_is_moved_keeps_the_next_as_far_as_it_was() -> None:
    first, second = handles_of(moved(LIFT, 0, Handle(0.3, -5.0)))
    assert first.at == pytest.approx(0.3)
    assert first.value == pytest.approx(-5.0)
    assert second.value == pytest.approx(1.0)  # six up from there
    _, second = handles_of(moved(LIFT, 1, Handle(2.2, -2.0)))
    assert second.value == pytest.approx(-2.0)
    assert parse_scenario(moved(LIFT, 1, Handle(2.2, -2.0)), place="x").points[
        1
    ].value == pytest.approx(4.0 * math.tau)


def test_a_current() -> None:
    text = 'control = "current"\nduration = "50 ms"\n[[points]]\ncurrent = "3 A rms"\n'
    found = moved(text, 0, Handle(0.01, -2.5))
    assert 'current = "-2.5 A peak"' in found
    assert handles_of(found) == (Handle(0.01, -2.5),)


def test_a_text_without_sense_is_told() -> None:
    with pytest.raises(InputError):
        moved("nothing", 0, Handle(0.0, 0.0))


def test_values_are_round_numbers_without_an_exponent() -> None:
    text = SPEEDS.replace("-400 rpm", "2600 rpm")
    found = moved(text, 1, Handle(0.5, 1834.7))
    assert 'speed = "1830 rpm"' in found
    assert 'speed = "0 rpm"' in moved(text, 1, Handle(0.5, 1.2))
    assert 'speed = "-10 rpm"' in moved(text, 1, Handle(0.5, -11.0))
    assert handles_of(moved(text, 1, Handle(0.5, 1.2)))[1].value == 0.0
