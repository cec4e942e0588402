"""A ramp of speed: its profile against the drive's, and how the exact loop follows it."""

from dataclasses import replace

import numpy as np
import pytest

from oarlock.control.ramp import Ramp, ramp_figures, ramped
from oarlock.control.speed import SpeedLoop
from oarlock.control.speed_design import Turning, loop_in_use, usual_speed
from oarlock.simulate import layout as k
from oarlock.simulate.profile import ramp as played
from tests.speed_axis import tuned_winch

RAMPS = [
    Ramp(change=40.0, acceleration=400.0, jerk_time=0.01),
    Ramp(change=-40.0, acceleration=400.0, jerk_time=0.05),
    Ramp(change=40.0, acceleration=400.0, jerk_time=0.4),  # the most is not reached
    Ramp(change=-12.0, acceleration=130.0),
]


@pytest.fixture(scope="module")
def loop() -> SpeedLoop:
    axis = tuned_winch()
    return loop_in_use(axis, turning=Turning(speed=usual_speed(axis)))


@pytest.mark.parametrize("ramp", RAMPS)
def test_the_profile_is_what_its_acceleration_adds_up_to(ramp: Ramp) -> None:
    t = np.linspace(-0.1, ramp.duration + 0.1, 20_001)
    speed, rising = ramp.at(t)
    added = np.concatenate([[0.0], np.cumsum(0.5 * (rising[1:] + rising[:-1]) * np.diff(t))])
    assert speed == pytest.approx(added, abs=1e-3 * abs(ramp.change))
    assert speed[0] == 0.0
    assert speed[-1] == pytest.approx(ramp.change)
    assert np.max(np.abs(rising)) <= ramp.acceleration * (1.0 + 1e-9)
    assert np.all(np.sign(rising[rising != 0.0]) == np.sign(ramp.change))
    assert np.any(speed[t < ramp.duration - 1e-3] != ramp.change)
    assert speed[t > ramp.duration] == pytest.approx(ramp.change)


@pytest.mark.parametrize("ramp", RAMPS)
def test_the_profile_is_the_drives(ramp: Ramp) -> None:
    Ts = 62.5e-6
    row = np.zeros(k.ROW_SIZE, dtype=np.float32)
    row[k.REF_W], row[k.ACCELERATION] = ramp.change, ramp.acceleration
    row[k.JERK_TIME] = ramp.jerk_time
    speed = rising = 0.0
    steps = []
    for _ in range(int((ramp.duration + 0.02) / Ts)):
        speed, rising = played(row, speed, rising, Ts)
        steps.append(speed)
    asked, _ = ramp.at(np.linspace(Ts, len(steps) * Ts, len(steps)))
    assert np.max(np.abs(asked - steps)) <= 3.0 * ramp.acceleration * Ts


def test_torque_ahead_takes_the_lag_away(loop: SpeedLoop) -> None:
    ramp, T = RAMPS[0], loop.plant.T
    t = np.arange(int(0.4 / T)) * T
    asked, rising = ramp.at(t.astype(np.float64))
    alone = ramped(loop, asked, rising)
    assert alone.speed == pytest.approx(loop.closed.output(asked))
    whole = float(np.max(alone.push)) / ramp.acceleration  # A s²/rad, at the least
    fed = SpeedLoop(loop.plant, replace(loop.gains, acceleration=0.9 * whole))
    ahead = ramped(fed, asked, rising)
    one, other = ramp_figures(asked, alone.speed), ramp_figures(asked, ahead.speed)
    assert 0.0 < other.behind < 0.5 * one.behind
    assert other.beyond < 0.5 * one.beyond
    middle = int(0.5 * ramp.duration / T)  # the same torque accelerates it, whoever asks for it
    assert ahead.push[middle] == pytest.approx(alone.push[middle], rel=0.15)
    early = int(ramp.jerk_time / T)  # but it is there at once
    assert ahead.push[early] > 1.3 * alone.push[early]
    assert ahead.push[-1] == pytest.approx(alone.push[-1], abs=0.02 * np.max(alone.push))


def test_the_torque_ahead_acts_like_a_load_behind_the_controller(loop: SpeedLoop) -> None:
    """What is fed ahead and what a load takes away differ by the filters and a sample alone."""
    ahead, load = loop.ahead.step(4000), loop.loaded.step(4000)
    assert float(np.sum(ahead)) == pytest.approx(float(np.sum(load)), rel=2e-3)
    pushed = loop.ahead_effort.step(4000)
    assert pushed[0] == pytest.approx(1.0)
    assert pushed[-1] == pytest.approx(0.0, abs=1e-3)  # the integral takes it back


def test_figures_are_read_off_in_the_ramps_direction() -> None:
    asked = np.array([0.0, 1.0, 2.0, 3.0, 3.0, 3.0])
    speed = np.array([0.0, 0.4, 1.3, 2.8, 3.2, 3.1])
    up, down = ramp_figures(asked, speed), ramp_figures(-asked, -speed)
    assert up == down
    assert up.behind == pytest.approx(0.7)
    assert up.beyond == pytest.approx(0.2)
    assert ramp_figures(asked, asked).beyond == 0.0
    assert ramp_figures(asked, 0.9 * asked).beyond == 0.0  # it does not get there
