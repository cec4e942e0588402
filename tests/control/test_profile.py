"""The profile of a move: each quantity is the slope of the one before, to the end and past it."""

import numpy as np
import pytest

from oarlock.control.profile import Move

MOVES = (
    Move(distance=6.0, speed=40.0, acceleration=600.0),
    Move(distance=-6.0, speed=40.0, acceleration=600.0, jerk_time=0.03),
    Move(distance=0.4, speed=40.0, acceleration=600.0, jerk_time=0.02),  # no room for the speed
    Move(distance=12.0, speed=20.0, acceleration=900.0, jerk_time=0.1),  # longer than it rises
)


@pytest.mark.parametrize("move", MOVES)
def test_speed_and_acceleration_are_the_slopes(move: Move) -> None:
    t = np.arange(-0.02, 2.0 * move.duration, 1e-5)
    x, w, a = move.at(t)
    assert np.abs(np.gradient(x, t) - w)[1:-1].max() < 2e-3 * move.speed
    inside = np.abs(np.gradient(a, t)) < 0.2 * move.acceleration / 1e-5  # no jump of it
    off = np.abs(np.gradient(w, t) - a)[inside]
    assert off[1:-1].max() < 0.02 * move.acceleration
    over = t >= move.duration
    assert np.abs(x[over] - move.distance).max() < 1e-9
    assert np.abs(w[over]).max() < 1e-9
    assert np.abs(x[t <= 0.0]).max() < 1e-12
    assert np.abs(w).max() == pytest.approx(move.top, rel=0.3 if move.jerk_time else 1e-6)
    assert np.abs(w).max() <= move.speed * (1.0 + 1e-9)
