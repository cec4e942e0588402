"""A shaft that coasts is waited for; one that stands is seen to, by any sensor."""

import math
from collections.abc import Callable, Sequence
from dataclasses import replace

import pytest

from oarlock.drive.standstill import await_standstill
from oarlock.errors import InputError
from oarlock.machine import Axis, SensorKind
from oarlock.practice.truth import draw
from tests.model_link import Hasty, ModelLink


class Clock(Hasty):
    """Time that passes where one waits, and no other."""

    now = 0.0

    def wait(self, seconds: float) -> None:
        super().wait(seconds)
        self.now += seconds


class Turning(ModelLink):
    """A drive that tells an angle of its own."""

    def __init__(self, clock: Clock, angle: Callable[[float], float]) -> None:
        super().__init__(draw("winch", 0))
        self._clock, self._angle = clock, angle

    def read(self, keys: Sequence[str]) -> dict[str, float]:
        assert list(keys) == ["Drive.Angle"]
        return {"Drive.Angle": self._angle(self._clock.now)}


def waited(axis: Axis, angle: Callable[[float], float]) -> float:
    """Return how long (s) it was waited for."""
    clock = Clock()
    await_standstill(axis, Turning(clock, angle), clock, lambda: clock.now)
    return clock.now


def test_a_shaft_that_coasts_for_two_seconds_is_waited_for(axis: Axis) -> None:
    assert waited(axis, lambda t: 10.0 * min(t, 2.0)) == pytest.approx(2.1, abs=0.11)
    assert waited(axis, lambda _t: 3.0) == pytest.approx(0.1)
    blind = replace(axis, sensor=replace(axis.sensor, kind=SensorKind.NONE))
    assert waited(blind, lambda t: 10.0 * t) == 0.0


def test_halls_say_nothing_until_the_next_edge_and_may_flicker_at_one(axis: Axis) -> None:
    """Four pole pairs: sectors of 15 degrees, which a shaft at 1 rad/s crosses in 0.26 s."""
    sector = math.tau / 24.0
    halls = replace(axis, sensor=replace(axis.sensor, kind=SensorKind.HALL))
    assert waited(halls, lambda t: 0.5 * sector * (round(t * 10) % 2)) == pytest.approx(0.4)
    coasting = waited(halls, lambda t: sector * math.floor(2.0 * min(t, 3.0) / sector))
    assert coasting == pytest.approx(3.4, abs=0.3)


def test_what_turns_on_and_on_is_said_after_a_minute(axis: Axis) -> None:
    with pytest.raises(InputError, match="does not come to rest"):
        waited(axis, lambda t: 5.0 * t)
