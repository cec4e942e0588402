"""The position loop against stepping by hand, profiles against their derivatives, and its gains."""

import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from numpy.typing import NDArray

from oarlock.control.position import (
    PositionLoop,
    gain_for,
    move_figures,
    quiet_gain,
    step_overshoot,
)
from oarlock.control.profile import Move
from oarlock.control.speed import SpeedLoop
from oarlock.control.speed_design import loop_in_use
from oarlock.control.speed_gains import AIMS, stiffest
from oarlock.errors import InputError
from oarlock.machine.position_loop import PositionGains
from oarlock.machine.speed_loop import SpeedGains
from tests.control.test_speed import RIGID, _plant
from tests.control.test_speed_plant import TWISTING
from tests.speed_axis import tuned_winch

Array = NDArray[np.float64]


@pytest.fixture(scope="module")
def speed() -> SpeedLoop:
    found = stiffest(_plant(TWISTING, notch=True, slope=20), AIMS["even"])
    assert found is not None
    return found


def _by_hand(loop: PositionLoop, move: Move, samples: int, friction: float = 0.0) -> np.ndarray:
    """Return position and current at each sample, the cascade computed as a drive does."""
    plant, g, x_gains = loop.speed.plant, loop.speed.gains, loop.gains
    a, b, c = plant.matrices
    row, push_row = plant._turned
    x, total, at, out = np.zeros(c.size), 0.0, 0.0, np.zeros((2, samples))
    wanted, speed, steep = move.at(np.arange(samples, dtype=np.float64) * plant.T)
    for k in range(samples):
        out[0, k] = at
        seen = float(c @ x)
        asked, ahead = x_gains.Kp * (wanted[k] - at), x_gains.speed_share * speed[k]
        total += g.Ki * plant.T * (asked + ahead - seen)
        push = g.Kp * (g.weight * asked + ahead - seen) + total + g.acceleration * steep[k]
        out[1, k] = push
        at += float(row @ x) + push_row * push
        at -= push_row * friction
        x = a @ x + b[:, 0] * (push - friction)
    return out


@pytest.mark.parametrize("observer", [0.0, 90.0])
def test_friction_that_is_known_is_no_longer_met_and_stays_gone_at_the_end(
    speed: SpeedLoop, observer: float
) -> None:
    J = speed.plant.shaft.inertia / speed.plant.torque_constant
    gains = replace(speed.gains, acceleration=J, observer=observer, inertia=J)
    move = Move(distance=6.0, speed=40.0, acceleration=600.0, jerk_time=0.02)
    ways = [PositionLoop(SpeedLoop(speed.plant, replace(gains, friction=f)),
                         PositionGains(Kp=30.0)) for f in (0.0, 2.0)]  # fmt: skip
    free, known = ways[0].moved(move, 0.6), ways[1].moved(move, 0.6, friction=2.0)
    met = ways[0].moved(move, 0.6, friction=2.0)
    assert np.max(np.abs(known.lag - free.lag)) < 0.1 * np.max(np.abs(met.lag - free.lag))
    end = known.t > move.duration + 0.02
    assert np.max(np.abs((known.lag - free.lag)[end])) < 1e-4
    while_moving = (known.t > 0.1) & (known.t < move.duration - 0.05)
    assert np.allclose((known.push - free.push)[while_moving], 2.0, atol=0.05)
    assert np.allclose((known.push - free.push)[end], 0.0, atol=0.05)


@pytest.mark.parametrize("weight", [1.0, 0.4])
def test_a_move_is_followed_as_by_a_drive_that_is_stepped(speed: SpeedLoop, weight: float) -> None:
    gains = replace(speed.gains, weight=weight, acceleration=0.005)
    loop = PositionLoop(SpeedLoop(speed.plant, gains), PositionGains(Kp=30.0, speed_share=0.9))
    move = Move(distance=6.0, speed=40.0, acceleration=600.0, jerk_time=0.02)
    found = loop.moved(move, 0.5)
    position, push = _by_hand(loop, move, found.t.size)
    assert np.max(np.abs(found.position - position)) < 1e-6
    assert np.max(np.abs(found.push - push)) < 1e-5
    assert found.speed == pytest.approx(np.gradient(found.position, loop.T), abs=1e-9)


@pytest.mark.parametrize("distance", [6.0, -6.0])
def test_friction_holds_the_shaft_back_until_the_integral_carries_it(
    speed: SpeedLoop, distance: float
) -> None:
    loop = PositionLoop(speed, PositionGains(Kp=30.0, speed_share=1.0))
    move = Move(distance=distance, speed=40.0, acceleration=600.0, jerk_time=0.02)
    free, rubbed = loop.moved(move, 0.5), loop.moved(move, 0.5, friction=2.0)
    position, push = _by_hand(loop, move, free.t.size, friction=math.copysign(2.0, distance))
    assert np.max(np.abs(rubbed.position - position)) < 1e-6
    assert np.max(np.abs(rubbed.push - push)) < 1e-5
    side = math.copysign(1.0, distance)
    assert np.max(side * rubbed.lag) > np.max(side * free.lag) + 1e-3
    assert rubbed.push[-1] - free.push[-1] == pytest.approx(side * 2.0, rel=0.02)
    assert rubbed.position[-1] == pytest.approx(distance, abs=1e-3)


def test_a_loop_on_a_grid_is_its_exact_response(speed: SpeedLoop) -> None:
    loop = PositionLoop(speed, PositionGains(Kp=30.0))
    omega, gain, phase = loop.on_grid(5.0, 90)
    expected, _ = loop.opened.response(omega)
    assert gain == pytest.approx(expected, rel=1e-9)
    assert phase == pytest.approx(np.unwrap(np.angle(expected)), abs=1e-9)


@pytest.mark.parametrize("side", [1.0, -1.0])
def test_figures_of_a_move_that_goes_too_far_and_comes_back(side: float) -> None:
    t = np.linspace(0.0, 0.7, 8)
    asked: Array = side * np.array([0.0, 1.0, 2.0, 3.0, 3.0, 3.0, 3.0, 3.0])
    position: Array = side * np.array([0.0, 0.6, 1.4, 2.5, 3.2, 3.1, 2.98, 3.0])
    found = move_figures(t, asked, position, 0.3, 0.05)
    assert found.following == pytest.approx(0.6)
    assert found.overshoot == pytest.approx(0.2)
    assert found.settling == pytest.approx(0.3)  # from 0.6 s on it is within 0.05
    assert found.late == pytest.approx(0.5)
    assert math.isnan(move_figures(t, asked, position, 0.3, 0.0).settling) is False
    assert math.isnan(move_figures(t[:6], asked[:6], position[:6], 0.3, 0.05).settling)
    assert math.isnan(move_figures(t, asked, position, 1.0, 0.05).late)  # it is not seen
    never_out = move_figures(t, asked, asked, 0.3, 4.0)
    assert (never_out.following, never_out.overshoot, never_out.settling) == (0.0, 0.0, 0.0)


@given(
    distance=st.floats(-50.0, 50.0).filter(lambda x: abs(x) > 0.01),
    speed=st.floats(1.0, 100.0), acceleration=st.floats(10.0, 5000.0),
    jerk=st.one_of(st.just(0.0), st.floats(1e-3, 0.2)),
)  # fmt: skip
def test_a_profile_ends_where_it_should_and_is_its_own_integral(
    distance: float, speed: float, acceleration: float, jerk: float
) -> None:
    move = Move(distance=distance, speed=speed, acceleration=acceleration, jerk_time=jerk)
    t = np.linspace(0.0, 1.2 * move.duration + 1e-3, 6001)
    x, w, a = move.at(t)
    assert x[0] == pytest.approx(0.0, abs=1e-12)
    assert x[-1] == pytest.approx(distance, rel=1e-6)
    assert np.max(np.abs(w)) <= speed * (1.0 + 1e-9)
    assert np.max(np.abs(a)) <= acceleration * (1.0 + 1e-9)
    turned = np.concatenate([[0.0], np.cumsum(0.5 * (w[1:] + w[:-1]) * np.diff(t))])
    assert np.max(np.abs(turned - x)) < 2e-3 * abs(distance)


@pytest.mark.parametrize("weight", [1.0, 0.5, 0.0])
def test_the_quiet_gain_does_not_overshoot_and_one_above_it_does(
    speed: SpeedLoop, weight: float
) -> None:
    weighted = SpeedLoop(speed.plant, replace(speed.gains, weight=weight))
    gain = quiet_gain(weighted)
    assert step_overshoot(PositionLoop(weighted, PositionGains(Kp=gain))) <= 1e-3
    assert step_overshoot(PositionLoop(weighted, PositionGains(Kp=1.15 * gain))) > 1e-3
    if weight == 1.0:
        assert 0.15 < gain / speed.margins.crossover < 0.5


def test_a_crossover_is_met_and_one_that_swings_is_refused(speed: SpeedLoop) -> None:
    wanted = 0.2 * speed.margins.crossover
    loop = PositionLoop(speed, PositionGains(Kp=gain_for(speed, wanted)))
    assert loop.margins.crossover == pytest.approx(wanted, rel=1e-6)
    with pytest.raises(InputError, match="would be unstable"):
        gain_for(speed, 3.0 * speed.margins.crossover)
    wild = SpeedLoop(speed.plant, SpeedGains(Kp=20.0 * speed.gains.Kp, Ki=1.0))
    with pytest.raises(InputError, match="speed loop is unstable"):
        quiet_gain(wild)
    round_it = PositionLoop(wild, PositionGains(Kp=1.0))
    with pytest.raises(InputError, match="speed loop is unstable"):
        round_it.moved(Move(distance=1.0, speed=10.0, acceleration=100.0), 0.2)


def test_speed_ahead_takes_most_of_the_following_error() -> None:
    speed = stiffest(_plant(RIGID), AIMS["even"])
    assert speed is not None
    move = Move(distance=20.0, speed=60.0, acceleration=400.0)
    figures = []
    for share in (0.0, 1.0):
        loop = PositionLoop(speed, PositionGains(Kp=quiet_gain(speed), speed_share=share))
        found = loop.moved(move, 1.5)
        figures.append(move_figures(found.t, found.asked, found.position, move.duration, 1e-3))
    assert figures[0].following == pytest.approx(60.0 / quiet_gain(speed), rel=0.05)
    assert figures[1].following < 0.1 * figures[0].following
    assert math.isfinite(figures[1].settling)
    assert figures[0].overshoot < 1e-3


def test_the_gain_without_overshoot_is_what_a_plain_search_on_whole_loops_finds() -> None:
    """Kept gains are held against it to 1e-9: it may not move from one release to the next."""
    speed = loop_in_use(tuned_winch())
    low, high = 1e-3 * speed.margins.crossover, speed.margins.crossover
    for _ in range(30):
        middle = math.sqrt(low * high)
        loop = PositionLoop(speed, PositionGains(Kp=middle))
        if loop.margins.stable and step_overshoot(loop) <= 1e-3:
            low = middle
        else:
            high = middle
    assert quiet_gain(speed) == pytest.approx(low, rel=1e-9)
