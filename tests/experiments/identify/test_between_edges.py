"""The angle of halls from edges on both sides: against shafts that are known in closed form."""

import math
from collections.abc import Mapping
from dataclasses import replace

import numpy as np
import pytest
from benchmarks.machines import random_axis
from numpy.typing import NDArray

from oarlock.experiments.common.experiment import Experiment
from oarlock.experiments.identify.between_edges import between_edges, seen_from_edges, torque_doubt
from oarlock.experiments.identify.experiments import experiment_for
from oarlock.experiments.sensing.pulses import StandingPulses
from oarlock.experiments.sensing.rest import CurrentsAtRest
from oarlock.experiments.sensing.turn import ForcedTurn
from oarlock.machine import Axis
from oarlock.quantities import Estimate
from oarlock.records import Finding, Record
from oarlock.session.adopting import with_finding
from oarlock.session.perform import perform
from tests.model_link import ModelLink, Passing

Array = NDArray[np.float64]
SECTOR = math.tau / 6.0  # rad, of a machine of one pole pair
# The order in which the states come.
STATES = np.array([5.0, 1.0, 3.0, 2.0, 6.0, 4.0])


def rows(w: float, a: float, seconds: float) -> tuple[Array, Array, Array, Array]:
    """Return (t, theta, guess, state) of a shaft at w + a t: rows of 1 ms, means of 20 samples."""
    t = np.arange(0.0, seconds, 5e-5)
    theta = w * t + 0.5 * a * t**2
    guess, hall = guessed(t, theta)
    means = [column.reshape(-1, 20).mean(axis=1) for column in (t, theta, guess)]
    return means[0], means[1], means[2], hall[10::20]


def guessed(t: Array, theta: Array) -> tuple[Array, Array]:
    """Return (angle as a drive would guess it, state): from edge to edge by the last speed."""
    sector = np.floor(theta / SECTOR)
    made, at, speed, since = np.empty_like(theta), 0.0, 0.0, t[0]
    made[0] = theta[0]
    for n in range(1, t.size):
        if sector[n] != sector[n - 1]:
            side = sector[n] - sector[n - 1]
            speed, at = side * SECTOR / (t[n] - since), SECTOR * max(sector[n], sector[n - 1])
            since = t[n]
        low, high = SECTOR * sector[n], SECTOR * (sector[n] + 1.0)
        made[n] = min(max(at + speed * (t[n] - since), low), high)
    return made, STATES[sector.astype(int) % 6]


def test_a_shaft_that_speeds_up_is_seen_without_the_guess_that_lags() -> None:
    t, theta, guess, hall = rows(5.0, 40.0, 2.0)
    seen = between_edges(t, guess, hall)
    inner = (t > 0.3) & (t < 1.95)
    lag = float(np.abs(guess - theta)[inner].max())
    assert lag > 0.1 * SECTOR
    assert float(np.abs(seen - theta)[inner].max()) < 0.1 * lag
    slow = (t > 0.3) & (t < 0.8)
    assert abs(float(np.mean((seen - theta)[slow]))) < 0.002
    assert abs(float(np.mean((guess - theta)[slow]))) > 0.02


def test_what_lies_on_two_sides_of_a_gap_is_taken_for_itself() -> None:
    t, _, guess, hall = rows(5.0, 40.0, 2.0)
    cut = (t < 0.8) | (t >= 1.4)
    seen = between_edges(t[cut], guess[cut], hall[cut])
    alone = between_edges(t[t >= 1.4], guess[t >= 1.4], hall[t >= 1.4])
    assert np.array_equal(seen[-alone.size :], alone)


def test_edges_that_follow_at_once_leave_the_drives_angle() -> None:
    t, _, guess, hall = rows(500.0, 0.0, 0.2)
    assert np.array_equal(between_edges(t, guess, hall), guess)


def test_currents_are_turned_back_by_what_the_guess_was_wrong() -> None:
    """10 A along q of the rotor as it is, told by a drive in the frame that it guesses."""
    t, theta, guess, hall = rows(5.0, 40.0, 2.0)
    told = 10j * np.exp(1j * (theta - guess))
    record = Record(
        experiment="inertia", sample_time=1e-3, units={},
        columns={"t": t, "theta_m": guess, "hall": hall, "id": told.real, "iq": told.imag,
                 "vd": 2.0 * told.real, "vq": 2.0 * told.imag},
    )  # fmt: skip
    seen = seen_from_edges(record, 1.0)
    inner = (t > 0.3) & (t < 1.95)
    assert np.abs(record["id"])[inner].max() > 1.0
    assert np.abs(seen["id"])[inner].max() < 0.2
    assert np.allclose(seen["iq"][inner], 10.0, atol=0.02)
    assert np.allclose(seen["vq"], 2.0 * seen["iq"])
    assert record["theta_m"] is guess  # what was recorded stays


def _halls(seed: int) -> Axis:
    return random_axis(np.random.default_rng(700 + seed), sensor="hall")[0]


def _table_within(axis: Axis, std: float) -> Axis:
    """Return it with a table of halls that is known so well (rad)."""
    for n in range(1, 7):
        path = f"sensor.hall_{n}"
        one = axis.parameter(path)
        axis = axis.with_parameter(path, replace(one, printed=replace(one.printed, std=std)))
    return axis


def test_what_edges_hide_grows_with_the_cube_of_speed_and_goes_with_fast_sampling() -> None:
    axis = _table_within(_halls(11), 0.0)
    late = 200.0 * axis.machine.pole_pairs.value * axis.inverter.Ts / math.sqrt(12.0)
    coarse = torque_doubt(_table_within(axis, 0.05), 200.0) / torque_doubt(axis, 200.0)
    assert coarse == pytest.approx(1.0 + (0.05 / late) ** 2)
    assert torque_doubt(axis, 200.0) == pytest.approx(8.0 * torque_doubt(axis, 100.0))
    fast = replace(axis, inverter=replace(axis.inverter, control_frequency=replace(
        axis.inverter.control_frequency, printed=replace(
            axis.inverter.control_frequency.printed, value=2.0 / axis.inverter.Ts))))  # fmt: skip
    ratio = torque_doubt(axis, 200.0) / torque_doubt(fast, 200.0)
    assert 3.9 < ratio < 4.3  # half the lateness; the controller is another one by a little


@pytest.mark.parametrize("seed", [11, 23])
def test_friction_by_halls_of_many_poles_lies_within_what_is_said(seed: int) -> None:
    """Nine and ten pole pairs: edges come so fast that B was off by ten times its uncertainty."""
    axis, plant = random_axis(np.random.default_rng(700 + seed), sensor="hall")
    assert plant.pole_pairs >= 9
    link = ModelLink(plant, seed=seed)
    keys = ("resistance", "inductance_d", "inductance_q", "flux", "inertia")
    every: list[Experiment] = [CurrentsAtRest(), StandingPulses(), ForcedTurn()]
    every += [experiment_for(key, held=False) for key in keys]
    found: Mapping[str, Estimate] = {}
    for experiment in every:
        done = perform(experiment, axis, link, lambda _f, _d: None, Passing(link))
        assert isinstance(done.reading, Finding), done.run.ended
        axis, found = (
            with_finding(axis, done.reading, replace(done.run, id=1)),
            done.reading.estimates,
        )
    for path, true in (("viscous", plant.viscous), ("coulomb", plant.coulomb)):
        one = found[f"mechanics.{path}"]
        assert one.std is not None
        assert abs(one.value - true) < 2.5 * one.std
    assert found["mechanics.viscous"].value > 1.05 * plant.viscous  # or there is nothing to say
