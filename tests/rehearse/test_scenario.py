"""A scenario's file: what it says, and what is refused with its place."""

import math

import numpy as np
import pytest

from oarlock.demo.project import demo_text
from oarlock.errors import InputError
from oarlock.rehearse.events import Load
from oarlock.rehearse.run import rehearse
from oarlock.rehearse.scenario import (
    Control,
    Point,
    PointWave,
    WaveShape,
    parse_scenario,
)
from oarlock.views.scenario_edit import Handle, moved
from tests.speed_axis import tuned_winch

LIFT = demo_text("lift.scenario.toml")


def test_the_lift_of_the_demo() -> None:
    scenario = parse_scenario(LIFT, place="lift")
    assert (scenario.name, scenario.control, scenario.duration) == ("Lift", Control.POSITION, 4.0)
    down, up = scenario.points
    assert (down.at, up.at) == (0.2, 2.2)
    assert down.value == pytest.approx(-6.0 * math.tau)
    assert up.value == pytest.approx(6.0 * math.tau)
    assert down.speed == pytest.approx(900.0 * math.tau / 60.0)
    assert scenario.loads == (Load(at=0.0, torque=0.8),)


def test_speeds_and_currents_with_their_sign() -> None:
    text = ('control = "speed"\nduration = "1 s"\n[[points]]\nspeed = "-400 rpm"\n'
            '[[points]]\nat = "0.5 s"\nspeed = "0"\nacceleration = "300 rad/s2"')  # fmt: skip
    first, second = parse_scenario(text, place="x").points
    assert first.value == pytest.approx(-400.0 * math.tau / 60.0)
    assert second == Point(at=0.5, value=0.0, acceleration=300.0)
    text = 'control = "current"\nduration = "50 ms"\n[[points]]\ncurrent = "-3 A rms"'
    assert parse_scenario(text, place="x").points[0].value == pytest.approx(-3.0 * math.sqrt(2.0))


def test_a_ramp_of_speed_with_round_corners() -> None:
    text = ('control = "speed"\nduration = "1 s"\n[[points]]\nspeed = "400 rpm"\n'
            'jerk_time = "50 ms"\n')  # fmt: skip
    with pytest.raises(InputError, match="acceleration is missing"):
        parse_scenario(text, place="x")
    scenario = parse_scenario(text + 'acceleration = "200 rad/s2"', place="x")
    assert scenario.points[0].jerk_time == 0.05
    run = rehearse(scenario, tuned_winch())
    done = run.t[np.flatnonzero(run.mean["speed_ref"] >= 0.9999 * scenario.points[0].value)[0]]
    assert done == pytest.approx(scenario.points[0].value / 200.0 + 0.05, abs=0.004)


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ('"position"', '"flight"', "is no loop"),
        ("name", "nmae", "unknown key nmae"),
        ('by = "-6"', "", "by is missing"),
        ('speed = "900 rpm"', 'speed = "fast"', "lift, point 1: speed: "),
        ('acceleration = "600 rad/s2"', "", "acceleration is missing"),
        ('at = "2.2 s"', 'at = "0.1 s"', "times of the points do not rise"),
        ('at = "2.2 s"', 'at = "9 s"', "do not rise up to the duration"),
        ("torque = 0.8", "torque = true", "torque is no number"),
        ("torque = 0.8", "torque = 1e9", "a torque of 1e[+]09"),
        ('"4 s"', '"4000 s"', "duration: '4000 s' is"),
        ("[[points]]", "[points]", "points|not TOML"),
        ("duration", "[[[", "not TOML"),
    ],
)
def test_what_makes_no_sense_is_told_with_its_place(old: str, new: str, words: str) -> None:
    assert old in LIFT
    with pytest.raises(InputError, match=words) as caught:
        parse_scenario(LIFT.replace(old, new, 1), place="lift")
    assert caught.value.place.startswith("lift")
    assert caught.value.remedy


def test_an_empty_scenario() -> None:
    with pytest.raises(InputError, match="nothing is asked"):
        parse_scenario('duration = "1 s"', place="x")
    with pytest.raises(InputError, match="duration is missing"):
        parse_scenario("", place="x")


WAVY = """
control = "speed"
duration = "1 s"
[[points]]
speed = "400 rpm"
wave = "chirp"
amplitude = "60 rpm"
frequency = "2 Hz"
until = "40 Hz"
"""


def test_a_wave_on_top() -> None:
    (point,) = parse_scenario(WAVY, place="x").points
    assert point.wave is not None
    assert point.wave.shape is WaveShape.CHIRP
    assert point.wave.amplitude == pytest.approx(math.tau)
    assert (point.wave.frequency, point.wave.until) == (2.0, 40.0)
    text = ('control = "current"\nduration = "1 s"\n[[points]]\ncurrent = "1 A peak"\n'
            'wave = "random"\namplitude = "2 A peak"')  # fmt: skip
    (point,) = parse_scenario(text, place="x").points
    assert point.wave == PointWave(shape=WaveShape.RANDOM, amplitude=2.0)


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ('wave = "chirp"', "", "without a wave"),
        ('"chirp"', '"sawtooth"', "wave = 'sawtooth' is none"),
        ('"chirp"', '"sine"', "a sine wave has no until"),
        ('"chirp"', '"random"', "a random wave has no"),
        ('until = "40 Hz"', "", "until is missing"),
        ('amplitude = "60 rpm"', "", "amplitude is missing"),
        ('amplitude = "60 rpm"', 'amplitude = "2 A"', "amplitude: "),
    ],
)
def test_a_wave_without_sense_is_told(old: str, new: str, words: str) -> None:
    with pytest.raises(InputError, match=words):
        parse_scenario(WAVY.replace(old, new), place="x")


HEAVE = """control = "position"
duration = "4 s"
[[points]]
at = "0.5 s"
wave = "sine"
amplitude = "0.25"
frequency = "0.5 Hz"
"""


def test_a_position_moves_in_a_wave_with_a_move_or_without() -> None:
    """Amplitudes are turns."""
    (point,) = parse_scenario(HEAVE, place="x").points
    assert (point.value, point.speed, point.acceleration) == (0.0, 0.0, 0.0)
    assert point.wave == PointWave(shape=WaveShape.SINE, amplitude=math.tau / 4.0, frequency=0.5)
    wavy = 'by = "-6"\nwave = "sine"\namplitude = "0.1"\nfrequency = "2 Hz"'
    moving = parse_scenario(LIFT.replace('by = "-6"', wavy), place="x").points[0]
    assert moving.value == pytest.approx(-6.0 * math.tau)
    assert moving.wave is not None
    assert moving.wave.amplitude == pytest.approx(0.1 * math.tau)
    for key, words in (("speed", "acceleration is missing"), ("jerk_time", "acceleration"),
                       ("acceleration", "by is missing")):  # fmt: skip
        value = {"speed": "3 rpm", "jerk_time": "1 ms", "acceleration": "9 rad/s2"}[key]
        with pytest.raises(InputError, match=words):
            parse_scenario(f'{HEAVE}{key} = "{value}"\n', place="x")


def test_a_wave_alone_is_dragged_in_time() -> None:
    text = moved(HEAVE, 0, Handle(1.0, 3.0))
    (point,) = parse_scenario(text, place="x").points
    assert point.at == 1.0
    assert point.value == 0.0
    assert point.wave is not None
