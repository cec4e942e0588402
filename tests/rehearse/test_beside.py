"""Variants side by side come to the same bits as one after another, whatever happens to one."""

import threading
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import pytest

from oarlock.cancel import Cancel
from oarlock.errors import Cancelled
from oarlock.machine import Axis
from oarlock.machine.speed_loop import KEY, SpeedGains
from oarlock.rehearse import beside, vary
from oarlock.rehearse.beside import rehearse_beside
from oarlock.rehearse.events import Event, Happening, Load
from oarlock.rehearse.figures import figures_of
from oarlock.rehearse.plant import believed_plant
from oarlock.rehearse.run import Rehearsal, rehearse
from oarlock.rehearse.scenario import Control, Point, Scenario
from oarlock.rehearse.vary import study, varied
from oarlock.simulate.plant_parameters import Modulation, PlantParameters
from oarlock.simulate.side_by_side import Lanes
from tests.speed_axis import tuned_winch

SHORT = Scenario(name="s", control=Control.SPEED, duration=0.4,
                 points=(Point(at=0.05, value=60.0, acceleration=400.0),
                         Point(at=0.3, value=-20.0, acceleration=900.0)),
                 loads=(Load(at=0.2, torque=0.7), Load(at=0.25, torque=0.0)))  # fmt: skip


@pytest.fixture(scope="module")
def winch() -> Axis:
    return tuned_winch()


def plants(axis: Axis, many: int) -> list[PlantParameters]:
    rng, known = np.random.default_rng(2), vary.tolerances(axis)
    return vary.plants_of(axis, 1.0 + 0.03 * rng.normal(size=(many, len(known))))


def alone(scenario: Scenario, axis: Axis, given: Sequence[PlantParameters]) -> list[Rehearsal]:
    return [rehearse(scenario, axis, plant=plant) for plant in given]


def same(one: Rehearsal, other: Rehearsal) -> None:
    for kept in ("mean", "least", "most"):
        for channel, values in getattr(one, kept).items():
            assert np.array_equal(values, getattr(other, kept)[channel]), (kept, channel)
    for told in ("ended", "trip", "samples", "squares", "saturated", "resistance", "burnt"):
        assert getattr(one, told) == getattr(other, told)
    assert one.plant == other.plant
    assert np.array_equal(one.t, other.t)


@pytest.mark.parametrize("many", [1, 2, 3, 7, 8])
def test_each_is_what_it_is_alone(winch: Axis, many: int) -> None:
    given = plants(winch, many)
    runs = rehearse_beside(SHORT, winch, given)
    assert len(runs) == many
    for one, other in zip(runs, alone(SHORT, winch, given), strict=True):
        same(one, other)
    assert len({run.squares["current"] for run in runs}) == many


@pytest.fixture
def chunks(monkeypatch: pytest.MonkeyPatch) -> list[bool]:
    """Whether the lanes could go together, in each chunk."""
    found, really = [], Lanes.advance

    def watched(lanes: Lanes, samples: int) -> bool:
        found.append(really(lanes, samples))
        return found[-1]

    monkeypatch.setattr(Lanes, "advance", watched)
    return found


def test_they_do_go_together(winch: Axis, chunks: list[bool]) -> None:
    rehearse_beside(SHORT, winch, plants(winch, 8))
    assert len(chunks) >= 3
    assert all(chunks)


def test_where_one_trips_the_others_go_on(winch: Axis, chunks: list[bool]) -> None:
    given = plants(winch, 8)
    given[4] = varied(given[4], {"bus": 0.2})  # below its under-voltage
    dies = replace(SHORT, events=(Event(at=0.3, what=Happening.OFFSET_A, value=3.0),))
    given[6] = replace(given[6], full_scale=14.0)
    runs = rehearse_beside(dies, winch, given)
    others = alone(dies, winch, given)
    for one, other in zip(runs, others, strict=True):
        same(one, other)
    assert {run.ended == "done" for run in runs} == {True, False}
    assert not all(chunks)


def test_halls_and_a_bridge_that_switches_are_what_they_are_alone(winch: Axis) -> None:
    given = plants(winch, 3)
    runs = rehearse_beside(SHORT, winch, given, bridge=Modulation.SPACE_VECTOR)
    for plant, run in zip(given, runs, strict=True):
        same(run, rehearse(SHORT, winch, plant=plant, bridge=Modulation.SPACE_VECTOR))
    halls = [replace(plant, sensor="hall") for plant in plants(winch, 8)]
    gains = winch.loops[KEY].gains
    assert isinstance(gains, SpeedGains)
    calm = winch.with_loop_gains(KEY, replace(gains, Kp=0.1 * gains.Kp, Ki=0.01 * gains.Ki))
    for one, other in zip(rehearse_beside(SHORT, calm, halls), alone(SHORT, calm, halls),
                          strict=True):  # fmt: skip
        same(one, other)


def test_it_can_be_cancelled_between_chunks(winch: Axis) -> None:
    cancel = Cancel()
    cancel.set()
    with pytest.raises(Cancelled):
        rehearse_beside(SHORT, winch, plants(winch, 8), cancel=cancel)


@pytest.mark.parametrize("many", [2, 20, 33])
def test_a_study_shares_all_out_and_keeps_their_order(
    winch: Axis, many: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    sizes, lock, really = [], threading.Lock(), beside.rehearse_beside

    def watched(scenario: Scenario, axis: Axis, given: Sequence[PlantParameters],
                **more: object) -> list[Rehearsal]:  # fmt: skip
        with lock:
            sizes.append(len(given))
        return really(scenario, axis, given, **more)  # type: ignore[arg-type]

    monkeypatch.setattr(vary, "rehearse_beside", watched)
    seen, told = {}, []
    made = study(SHORT, winch, many, seen=lambda n, run: seen.update({n: run.plant}),
                 progress=lambda share, _: told.append(share))  # fmt: skip
    assert sum(sizes) == many == len(made.figures)
    assert max(sizes) <= 8
    assert len(sizes) >= min(many, 2)
    assert told == sorted(told)
    assert told[-1] == 1.0
    wanted = vary.plants_of(winch, made.factors)
    assert [seen[n].R for n in range(many)] == [plant.R for plant in wanted]
    first = figures_of(rehearse(SHORT, winch, plant=believed_plant(winch)), winch)
    assert repr(made.figures[0]) == repr(first)  # with what is no number
