"""Machines of one or two pole pairs: wide sectors, slow swings, and little told beforehand."""

import math
from dataclasses import replace

import numpy as np
import pytest
from benchmarks.machines import random_axis
from benchmarks.own import begun

from oarlock.drive.standstill import await_standstill
from oarlock.experiments.common.experiment import Experiment
from oarlock.experiments.common.repeat import another
from oarlock.experiments.sensing.pulses import StandingPulses
from oarlock.experiments.sensing.push import FourPushes, _Push, _weighed
from oarlock.experiments.sensing.rest import CurrentsAtRest
from oarlock.experiments.sensing.turn import ForcedTurn
from oarlock.machine import Axis
from oarlock.records import Ask, Check, Finding, Record
from oarlock.session.adopting import with_finding
from oarlock.session.perform import Performed, perform
from oarlock.simulate import layout as k
from oarlock.simulate.plant_parameters import PlantParameters
from tests.model_link import Hasty, ModelLink, Passing


def drawn(seed: int, sensor: str) -> tuple[Axis, PlantParameters]:
    return random_axis(np.random.default_rng(700 + seed), sensor=sensor)


def taken(
    axis: Axis, experiments: list[Experiment], link: ModelLink, tries: list[Performed]
) -> tuple[Axis, Finding]:
    """Play experiments one after the other, each on what the one before found."""
    found: Finding | None = None
    for experiment in experiments:
        done = perform(experiment, axis, link, lambda _f, _d: None, Hasty(), tries.append)
        assert isinstance(done.reading, Finding)
        found = done.reading
        assert found.holds, (experiment.name, found.said)
        axis = with_finding(axis, found, replace(done.run, id=1))
    assert found is not None
    return axis, found


@pytest.mark.parametrize(("pairs", "degrees"), [(1, 300.0), (2, 150.0), (5, 60.0), (9, 40.0)])
def test_a_push_of_halls_goes_over_five_sectors(pairs: int, degrees: float) -> None:
    axis, _ = drawn(14, "hall")
    old = axis.machine.pole_pairs
    axis = axis.with_parameter("machine.pole_pairs", replace(
        old, printed=replace(old.printed, value=float(pairs))))  # fmt: skip
    J = axis.machine.inertia
    assert J is not None
    current, seconds, speed = FourPushes()._push(axis, J.value)
    assert math.degrees(0.5 * speed * seconds) == pytest.approx(degrees)
    torque = 1.5 * pairs * axis.machine.psi.value * current
    assert speed == pytest.approx(torque / J.value * seconds)
    half = FourPushes(friction=0.5 * torque)._push(axis, J.value)
    assert half[1] == pytest.approx(math.sqrt(2.0) * seconds)  # friction takes half of it


@pytest.mark.parametrize("seed", [2, 14])
def test_the_zero_of_wide_halls_is_proven(seed: int) -> None:
    axis, plant = drawn(seed, "hall")
    assert plant.pole_pairs <= 2
    link = ModelLink(plant, seed=seed)
    every: list[Experiment] = [CurrentsAtRest(), StandingPulses(), ForcedTurn(), FourPushes()]
    _, found = taken(axis, every, link, [])
    assert "no torque along d" in {check.code for check in found.checks if check.passed}


class Begun(ModelLink):
    """Notes how fast (rad/s) the shaft turns when something begins to be played."""

    def __init__(self, plant: PlantParameters) -> None:
        super().__init__(plant, seed=2)
        self.speeds: list[float] = []

    def start(self) -> None:
        self.speeds.append(abs(float(self.model._state[k.OMEGA])))
        super().start()


def test_each_play_of_a_weighing_begins_at_rest() -> None:
    """By halls of one pole pair a push goes far, is broken off, and leaves the shaft coasting."""
    axis, plant = drawn(2, "hall")
    assert plant.pole_pairs == 1
    link = Begun(plant)
    axis, _ = taken(axis, [CurrentsAtRest(), StandingPulses(), ForcedTurn()], link, [])
    axis = replace(axis, machine=replace(axis.machine, inertia=None))
    await_standstill(axis, link, Passing(link))
    link.speeds.clear()
    FourPushes().perform(axis, link, Passing(link))
    assert len(link.speeds) > 4
    assert max(link.speeds) < 1.2 * math.tau / 6.0 / 0.4  # no edge in 0.4 s


def test_a_rotor_that_swings_slowly_is_turned_more_slowly_and_counted_right() -> None:
    printed, plant = drawn(3, "encoder")
    link = ModelLink(plant, seed=3)
    tries: list[Performed] = []
    axis, _ = begun(printed, link)  # its inertia is a guess, too small by far
    axis, found = taken(axis, [CurrentsAtRest(), StandingPulses(), ForcedTurn()], link, tries)
    assert axis.machine.pole_pairs.value == plant.pole_pairs == 1
    assert [one.run.remark[:30] for one in tries] == ["Over the turn the angle strays"]
    assert found.holds


def test_slower_means_three_times_the_time_over_the_same_way() -> None:
    axis, _ = drawn(3, "encoder")
    once, slow = ForcedTurn(), ForcedTurn().longer()
    assert slow.turning_frequency(axis) == pytest.approx(once.turning_frequency(axis) / 3.0)
    ways = [sum(abs(s.turning) * s.duration for s in e.plan(axis).steps) for e in (once, slow)]
    assert ways[1] == pytest.approx(ways[0], rel=0.02)
    check = Check(code="angle over the turn", passed=False, sentence="it strays", ask=Ask.LONGER)
    failed = Finding(quantity="forced turn", estimates={}, checks=(check,))
    record = Record(experiment="forced turn", sample_time=1e-4, columns={"t": np.zeros(1)},
                    units={"t": "s"}, settings={}, ended="done")  # fmt: skip
    again = another(once, failed, record)
    assert again is not None
    assert again.experiment == slow
    assert not again.stronger


def test_pulses_that_move_a_free_rotor_are_played_again_more_gently() -> None:
    axis, plant = random_axis(np.random.default_rng(914))  # one pole pair, a light rotor
    link = ModelLink(plant, seed=14)
    tries: list[Performed] = []
    taken(axis, [CurrentsAtRest(), StandingPulses()], link, tries)
    assert len(tries) == 1
    assert "The shaft moved 8.9° under the pulses (6° allowed)" in tries[0].run.remark
    assert StandingPulses().scaled(0.6).peak == pytest.approx(0.36)


def test_a_shaft_that_was_not_weighed_is_weighed_by_its_pushes() -> None:
    axis, _ = drawn(5, "hall")
    record = Record(experiment="four pushes", sample_time=1e-4, columns={"t": np.zeros(1)},
                    units={"t": "s"}, ended="done",
                    settings={"weighed": False, "inertia": 9.0, "current": 4.0})  # fmt: skip
    still = np.zeros(1)
    pushes = [_Push(still, still, a, 0.0) for a in (250.0, -150.0, 0.0, 0.0)]
    torque = axis.machine.torque_constant * 4.0
    found = _weighed(record, pushes, axis)["machine.inertia"]
    assert found.value == pytest.approx(torque / 200.0)  # of the mean of both ways
    assert _weighed(record, pushes[::-1], axis) == {}
