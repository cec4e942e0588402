"""The shaft is weighed before it is pushed, where no inertia is known."""

import math
from dataclasses import replace

import numpy as np
import pytest
from benchmarks.machines import random_axis, sensed

from oarlock.drive.link import Status
from oarlock.experiments.sensing.push import FourPushes, read_pushes
from oarlock.experiments.sensing.turn import ForcedTurn
from oarlock.experiments.sensing.weigh import (
    SHARES,
    _enough,
    _fitted,
    durations,
    standing,
    turns_at_most,
    weigh,
)
from oarlock.machine import Axis
from oarlock.quantities import Origin
from oarlock.records import Record
from oarlock.records.settings import number
from oarlock.session.perform import perform
from oarlock.simulate.plant_parameters import PlantParameters
from tests.experiments.sensing.rig import Rig, failed
from tests.model_link import Hasty, ModelLink


class Watched(ModelLink):
    """A drive whose shaft is looked at while it plays."""

    def __init__(self, plant: PlantParameters, *, seed: int) -> None:
        super().__init__(plant, seed=seed)
        self.seen: list[float] = []

    def status(self) -> Status:
        """Say how it stands, and note the true angle."""
        live = super().status()
        if self.model.recorded:
            self.seen.append(self.model.angle)
        return live


def unknown(axis: Axis) -> Axis:
    """Return the axis without its inertia."""
    return replace(axis, machine=replace(axis.machine, inertia=None))


@pytest.mark.parametrize("sensor", ["encoder", "resolver"])
@pytest.mark.parametrize("seed", range(6))
def test_the_magnitude_is_found_and_the_pushes_hold(sensor: str, seed: int) -> None:
    axis, plant = random_axis(np.random.default_rng(9000 + seed), sensor=sensor)
    axis = unknown(sensed(axis, plant))
    record = FourPushes().perform(axis, ModelLink(plant, seed=seed), Hasty())
    finding = read_pushes(record, axis)
    assert finding.holds, failed(finding)
    found = finding.estimates["machine.inertia"]
    assert 0.7 < found.value / plant.inertia < 2.6
    assert abs(found.value - plant.inertia) < 2.0 * (found.std or 0.0)
    told = next(check for check in finding.checks if check.code == "torque due")
    assert told.sentence.startswith("Not judged")


def test_halls_weigh_by_their_edges() -> None:
    rig = Rig("thruster", 1).ready()
    rig.adopt(rig.find(ForcedTurn()))
    rig.axis = unknown(rig.axis)
    finding = read_pushes(FourPushes().perform(rig.axis, rig.link, Hasty()), rig.axis)
    assert finding.holds, failed(finding)
    assert finding.estimates["machine.inertia"].value == pytest.approx(rig.plant.inertia, rel=0.4)


def test_a_wrong_zero_is_weighed_as_well_and_named() -> None:
    axis, plant = random_axis(np.random.default_rng(9000))
    axis = unknown(sensed(axis, plant))
    zero = axis.sensor.zero
    off = replace(zero, adopted=replace(zero.best, value=zero.value + 0.5 * np.pi))
    axis = axis.with_parameter("sensor.zero", off)
    record = FourPushes().perform(axis, ModelLink(plant, seed=1), Hasty())
    assert 0.5 < number(record.settings, "inertia") / plant.inertia < 2.6
    finding = read_pushes(record, axis)
    assert "the zero is 90° off" in failed(finding)["forward is forward"]


def test_a_shaft_that_is_held_gives_no_inertia() -> None:
    axis, plant = random_axis(np.random.default_rng(9001))
    axis = unknown(sensed(axis, plant))
    held = replace(plant, coulomb=1e3, coulomb_back=1e3)
    finding = read_pushes(FourPushes().perform(axis, ModelLink(held, seed=1), Hasty()), axis)
    assert not finding.estimates
    assert failed(finding)["shaft moves"].startswith("Nothing moved")
    # It would have been seen, had it been lighter than this: the hardest and longest push tells.
    torque = axis.machine.torque_constant * SHARES[-1] * axis.rated
    seen = weigh(axis, ModelLink(held, seed=1), Hasty())
    assert not seen.moved
    assert seen.inertia == pytest.approx(0.5 * torque * durations(axis)[-1] ** 2 / _enough(axis))
    # Four currents, each for 3 to 192 ms forward and back along q and d, with rests between: 0.1 s,
    # or twice as long as a push where that is more.
    assert FourPushes().movement(axis).seconds > 4 * (4 * 0.381 + 2 * (5 * 0.1 + 0.192 + 0.384))
    assert durations(axis)[-1] == pytest.approx(0.192)


@pytest.mark.parametrize("friction", [0.05, 0.3, 0.6, 0.95])
def test_between_pushes_a_shaft_comes_to_rest_whatever_its_friction(friction: float) -> None:
    """Pushed for 0.2 s at 100 rad/s2 without friction, caught, and left to coast."""
    speed, step, t, stood = 0.0, 1e-5, 0.0, 0.0
    while t < 0.4 + standing(0.2):
        push = 100.0 * (1.0 if t < 0.2 else -1.0 if t < 0.4 else 0.0)
        rub = 100.0 * friction
        free = abs(speed) > rub * step or abs(push) > rub
        against = math.copysign(1.0, speed or push)
        speed = speed + step * (push - rub * against) if free else 0.0
        stood = stood if speed else t
        t += step
    assert speed == 0.0
    assert standing(0.01) == pytest.approx(0.1)


@pytest.mark.parametrize("rated", [0.2, 20.0])
def test_a_push_is_read_whatever_its_current(rated: float) -> None:
    """Pushed for 50 ms at 40 rad/s², caught by the same: tenths of an ampere as well as tens."""
    axis, _ = random_axis(np.random.default_rng(9000))
    t = np.arange(1600.0) * 62.5e-6
    asked = np.where(t < 0.05, rated, -rated)
    theta = np.where(t < 0.05, 20.0 * t**2, 0.05 + 2.0 * (t - 0.05) - 20.0 * (t - 0.05) ** 2)
    record = Record(experiment="push", sample_time=62.5e-6, units={},
                    columns={"t": t, "iq_ref": asked, "theta_m": theta})  # fmt: skip
    found, moved = _fitted(record, "iq_ref", rated, axis)
    assert found == pytest.approx(40.0, rel=0.01)
    assert moved == pytest.approx(0.1, rel=0.01)


@pytest.mark.parametrize("sensor", ["encoder", "resolver"])
def test_it_moves_no_farther_than_was_announced(sensor: str) -> None:
    axis, plant = random_axis(np.random.default_rng(9003), sensor=sensor)
    axis = unknown(sensed(axis, plant))
    link = Watched(plant, seed=3)
    said = FourPushes().movement(axis)
    assert f"{360.0 * turns_at_most(axis):.0f}°" in said.what
    FourPushes().perform(axis, link, Hasty())
    assert len(link.seen) > 10
    # Announced is each push; to and fro they stay near where it began.
    assert 0.0 < np.ptp(link.seen) < 1.5 * 2.0 * np.pi * turns_at_most(axis)


def test_what_was_weighed_stands_in_and_counts_as_identified_nowhere() -> None:
    axis, plant = random_axis(np.random.default_rng(9004))
    axis = unknown(sensed(axis, plant))
    done = perform(FourPushes(), axis, ModelLink(plant, seed=4), lambda _f, _d: None, Hasty())
    assert done.run.settings["weighed"] is True
    found = done.reading.estimates["machine.inertia"]  # type: ignore[union-attr]
    after = axis.adopting("machine.inertia", found)
    assert after.machine.inertia is not None
    assert after.machine.inertia.value == found.value
    assert after.machine.inertia.printed.origin is Origin.ASSUMED
    assert not after.is_adopted("machine.inertia")
    known = after.adopting("machine.inertia", replace(found, origin=Origin.MEASURED))
    assert known.adopting("machine.inertia", replace(found, value=9.0)) == known
