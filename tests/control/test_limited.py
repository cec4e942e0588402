"""Steps with limits in them: linear where there is room, slower where there is not."""

import math

import numpy as np
import pytest

from oarlock.control.limited import DeadTime, Room, limited_step
from oarlock.control.speed import SpeedLoop
from oarlock.control.speed_gains import AIMS, stiffest
from tests.control.test_speed import _plant
from tests.control.test_speed_plant import TWISTING, WIDE, stepped


@pytest.fixture(scope="module")
def loop() -> SpeedLoop:
    found = stiffest(_plant(TWISTING, notch=True, slope=20), AIMS["even"])
    assert found is not None
    return found


def test_without_limits_it_is_the_exact_loop(loop: SpeedLoop) -> None:
    speed, asked = limited_step(loop, WIDE, 120, reference=2.0)
    assert np.max(np.abs(speed - 2.0 * loop.closed.step(120))) < 1e-8
    assert np.max(np.abs(asked - 2.0 * loop.effort.step(120))) < 1e-7
    sag, _ = limited_step(loop, WIDE, 120, load=-3.0)
    assert np.max(np.abs(sag + 3.0 * loop.loaded.step(120))) < 1e-8


def test_a_current_limit_bounds_what_is_asked_and_does_not_wind_up(loop: SpeedLoop) -> None:
    tight = Room(current=5.0, volts=1e9, volts_down=1e9)
    speed, asked = limited_step(loop, tight, 600, reference=20.0)
    assert np.max(np.abs(asked)) == pytest.approx(5.0)
    free, _ = limited_step(loop, WIDE, 600, reference=20.0)
    assert np.argmax(speed > 18.0) > 2 * np.argmax(free > 18.0)
    assert float(speed.max()) < 1.5 * 20.0  # clamped, its integral does not run away
    assert speed[-1] == pytest.approx(20.0, rel=0.02)


def test_a_bus_that_cuts_the_first_pulse_delays_a_little(loop: SpeedLoop) -> None:
    cut, _ = limited_step(
        loop, Room(current=1e9, volts=150.0, volts_down=220.0), 200, reference=8.0
    )
    free = 8.0 * loop.closed.step(200)
    late = np.argmax(cut > 4.0) - np.argmax(free > 4.0)
    assert 0 <= late <= 3
    assert math.isclose(cut[-1], free[-1], rel_tol=0.02)


@pytest.mark.parametrize(
    "room",
    [
        Room(current=1e9, volts=60.0, volts_down=40.0),
        Room(current=6.0, volts=1e9, volts_down=1e9),
        Room(current=6.0, volts=60.0, volts_down=40.0),
    ],
)
def test_limited_steps_are_those_of_the_machine_stepped_by_hand(
    loop: SpeedLoop, room: Room
) -> None:
    speed, _ = limited_step(loop, room, 60, reference=20.0)
    assert np.max(np.abs(speed - 20.0 * loop.closed.step(60))) > 0.5  # the limits act
    assert np.max(np.abs(speed - stepped(loop, 60, 20.0, 0.0, room))) < 1e-4
    sag, _ = limited_step(loop, room, 60, load=-8.0)
    assert np.max(np.abs(sag - stepped(loop, 60, 0.0, -8.0, room))) < 1e-4


def test_dead_time_matters_where_the_current_turns_its_sign_alone(loop: SpeedLoop) -> None:

    plain, _ = limited_step(loop, WIDE, 300, reference=1.0)
    far = DeadTime(volts=6.0, bias=1e3, knee=0.3)
    same, _ = limited_step(loop, WIDE, 300, reference=1.0, dead=far)
    assert np.allclose(same, plain, atol=1e-9)
    near = DeadTime(volts=6.0, bias=0.2, knee=0.3)
    assert near.lost(0.0) == 0.0
    assert near.lost(-5.0) == pytest.approx(-6.0 * (1.0 + np.tanh(0.2 / 0.3)), rel=1e-6)
    met, _ = limited_step(loop, WIDE, 300, reference=1.0, dead=near)
    assert 0.005 < np.max(np.abs(met - plain)) < 0.5  # it slows the current, no more
    assert met[-1] == pytest.approx(1.0, abs=0.02)
