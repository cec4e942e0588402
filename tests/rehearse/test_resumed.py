"""A run whose points were moved goes on from the run before, to the same bits."""

from dataclasses import replace

import numpy as np
import pytest

from oarlock.control.position_design import design_position
from oarlock.machine import Axis
from oarlock.rehearse.bins import COLUMNS
from oarlock.rehearse.events import Event, Happening, Load
from oarlock.rehearse.run import Rehearsal, rehearse
from oarlock.rehearse.scenario import Control, Point, PointWave, Scenario, WaveShape
from oarlock.simulate.drive_model import DriveModel
from oarlock.simulate.plant_parameters import Modulation
from oarlock.simulate.tally import FILLED
from tests.speed_axis import tuned_winch

NOISE = PointWave(shape=WaveShape.RANDOM, amplitude=2.0)
SPEED = Scenario(
    name="s", control=Control.SPEED, duration=1.7, loads=(Load(at=0.5, torque=1.0),),
    points=(Point(at=0.1, value=20.0, acceleration=200.0, wave=NOISE),
            Point(at=1.2, value=-10.0, acceleration=100.0)),
)  # fmt: skip
MOVES = Scenario(
    name="m", control=Control.POSITION, duration=1.7,
    points=(Point(at=0.1, value=3.0, speed=30.0, acceleration=300.0, jerk_time=0.02),
            Point(at=1.1, value=-3.0, speed=30.0, acceleration=300.0)),
)  # fmt: skip


@pytest.fixture(scope="module")
def winch() -> Axis:
    axis = tuned_winch()
    return axis.with_loop_gains("position", design_position(axis).gains)


@pytest.fixture
def played(monkeypatch: pytest.MonkeyPatch) -> list[int]:
    """How many samples were simulated, chunk by chunk."""
    taken: list[int] = []
    plain = DriveModel.advance

    def advance(self: DriveModel, samples: int) -> None:
        taken.append(samples)
        plain(self, samples)

    monkeypatch.setattr(DriveModel, "advance", advance)
    return taken


def same(one: Rehearsal, other: Rehearsal) -> bool:
    tables = ((one.mean, other.mean), (one.least, other.least), (one.most, other.most))
    return (
        all(np.array_equal(a[name], b[name]) for a, b in tables for name in COLUMNS)
        and (one.squares, one.samples, one.saturated) == (other.squares, other.samples,
                                                          other.saturated)
        and one.ended == other.ended
        and [m.sample for m in one.moments] == [m.sample for m in other.moments]
    )  # fmt: skip


def moved(scenario: Scenario, number: int, **changed: float) -> Scenario:
    points = list(scenario.points)
    points[number] = replace(points[number], **changed)  # type: ignore[arg-type]
    return replace(scenario, points=tuple(points))


@pytest.mark.parametrize("bridge", [Modulation.AVERAGED, Modulation.SPACE_VECTOR])
@pytest.mark.parametrize(
    "to",
    [
        moved(SPEED, 1, value=15.0),
        moved(SPEED, 1, at=1.05),
        moved(SPEED, 1, at=1.6),
        replace(SPEED, points=SPEED.points[:1]),
        replace(SPEED, points=(*SPEED.points, Point(at=1.5, value=0.0))),
    ],
)
def test_a_later_point_is_moved(
    winch: Axis, to: Scenario, bridge: Modulation, played: list[int]
) -> None:
    if bridge is not Modulation.AVERAGED:  # edge by edge it takes its time
        to = replace(to, loads=())
    old = rehearse(replace(SPEED, loads=to.loads), winch, bridge=bridge)
    whole = rehearse(to, winch, bridge=bridge)
    played.clear()
    resumed = rehearse(to, winch, bridge=bridge, since=old)
    assert same(resumed, whole)
    assert sum(played) < 0.75 * whole.samples
    again = rehearse(SPEED, winch, since=resumed) if bridge is Modulation.AVERAGED else None
    assert again is None or same(again, old)


def test_a_move_is_changed_that_comes_later(winch: Axis, played: list[int]) -> None:
    to = moved(MOVES, 1, value=-2.0, speed=25.0)
    old, whole = rehearse(MOVES, winch), rehearse(to, winch)
    played.clear()
    assert same(rehearse(to, winch, since=old), whole)
    assert sum(played) < 0.75 * whole.samples


@pytest.mark.parametrize(
    "to",
    [
        moved(SPEED, 0, value=25.0),
        moved(SPEED, 0, at=0.05),
        replace(SPEED, duration=1.8),
        replace(SPEED, loads=(Load(at=0.5, torque=1.2),)),
        replace(SPEED, events=(Event(at=0.2, what=Happening.BUS, value=200.0),)),
    ],
)
def test_what_differs_from_the_beginning_is_played_from_the_beginning(
    winch: Axis, to: Scenario, played: list[int]
) -> None:
    old, whole = rehearse(SPEED, winch), rehearse(to, winch)
    played.clear()
    assert same(rehearse(to, winch, since=old), whole)
    assert sum(played) >= whole.samples


def test_a_chirp_is_as_steep_as_its_point_is_long(winch: Axis, played: list[int]) -> None:
    rising = PointWave(shape=WaveShape.CHIRP, amplitude=2.0, frequency=2.0, until=40.0)
    first = replace(SPEED.points[0], at=0.6, wave=rising)
    chirped = replace(SPEED, points=(first, SPEED.points[1]))
    to = moved(chirped, 1, at=1.4)
    old, whole = rehearse(chirped, winch), rehearse(to, winch)
    played.clear()
    assert same(rehearse(to, winch, since=old), whole)
    assert 0.6 * whole.samples < sum(played) < whole.samples


def test_another_machine_takes_nothing_over(winch: Axis, played: list[int]) -> None:
    old = rehearse(SPEED, winch)
    heavy = replace(old.plant, inertia=2.0 * old.plant.inertia)
    whole = rehearse(SPEED, winch, plant=heavy)
    played.clear()
    assert same(rehearse(SPEED, winch, plant=heavy, since=old), whole)
    assert sum(played) >= whole.samples


def test_a_bin_that_is_begun_is_gone_on_with(winch: Axis, played: list[int]) -> None:
    """A load that comes between two bins: the chunk after it begins within one."""
    odd = replace(SPEED, loads=(Load(at=0.50007, torque=1.0),))
    to = moved(odd, 1, value=12.0)
    old, whole = rehearse(odd, winch), rehearse(to, winch)
    assert any(one.tally.counts[FILLED] for one in old.moments)
    played.clear()
    assert same(rehearse(to, winch, since=old), whole)
    assert 0.25 * whole.samples < sum(played) < 0.5 * whole.samples
