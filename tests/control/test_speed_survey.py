"""The bulk look at gains and filters against the exact loop: responses, stability, areas."""

import math
from dataclasses import replace

import numpy as np
import pytest
from benchmarks.loops import case

from oarlock.control._sought import _turns, first_kept
from oarlock.control.filters import coefficients
from oarlock.control.limited import Room, limited_step
from oarlock.control.speed import SpeedLoop
from oarlock.control.speed_gains import keeps, stiffest
from oarlock.control.speed_plant import Measuring, SpeedPlant
from oarlock.control.speed_survey import (
    Look,
    Survey,
    Wanted,
    _table,
    frequencies,
    least_area,
    summing,
)
from oarlock.control.speed_ways import (
    members,
    proposed_notches,
    slower,
    stiffest_with,
    with_filters,
)
from oarlock.machine.filters import Filter, FilterKind
from oarlock.machine.speed_loop import SpeedGains

KEEN = Wanted(margin=math.radians(45.0))


def notch(plant: SpeedPlant, place: float, width: float = 1.2, depth: float = 0.1) -> Filter:
    return Filter(path="torque", kind=FilterKind.NOTCH, frequency=place * plant.shaft.resonance,
                  width=width, depth=depth)  # fmt: skip


def seen(plant: SpeedPlant, omega: np.ndarray[tuple[int], np.dtype[np.float64]]) -> np.ndarray[
    tuple[int], np.dtype[np.complex128]
]:  # fmt: skip
    found = plant.push.response(omega)[0] * plant.following.response(omega)[0]
    return np.asarray(found, dtype=np.complex128)


@pytest.mark.parametrize("number", [0, 3, 8, 12])
@pytest.mark.parametrize("place", [0.95, 1.6, 2.4])
def test_the_compiled_search_finds_what_the_plain_one_finds(number: int, place: float) -> None:
    """The areas of the plain one are by NumPy's transform of the same responses."""
    bare = case(number).plant
    survey = Survey(bare, members(bare, 0.1, (-1.0, 1.0)), KEEN)
    filters = (notch(bare, place, 2.5, 0.2),)
    sections = np.array([coefficients(one, bare.current.plant.Ts) for one in filters])
    whole, n = survey._nominal.response(sections), survey._omega.size
    others = np.array([one.response(sections) for one in survey._others])
    look = Look(T=bare.T, summed=survey._seen.summing, seen=whole[:n], others=others,
                crossovers=survey._seen.crossovers, crossing=whole[n:])  # fmt: skip
    even, swings = survey._even.response(sections), survey._swings

    def dip(Kp: float, Ki: float) -> float:
        answer = np.zeros(even.size + 2, dtype=np.complex128)
        answer[1:-1] = swings.load / (1.0 + even * (Kp + Ki * swings.summing))
        return float(np.abs(np.fft.irfft(answer).cumsum()).sum()) * bare.T

    best = least_area(look, KEEN, dip)
    for most in (1e9, *(share * best[0] for share in (1.3, 1.001, 0.9) if best)):
        plain = least_area(look, KEEN, dip, most=most)
        told = survey.area(filters, most)
        assert told == pytest.approx(plain[0] if plain else 1e9, rel=1e-9)


@pytest.mark.parametrize("number", [0, 3, 8, 12])
def test_a_sum_over_the_nearest_aliases_is_what_the_slower_loop_sees(number: int) -> None:
    bare = case(number).plant
    filters = (notch(bare, 1.0), notch(bare, 2.2, 3.0, 0.4))
    omega = frequencies(bare)
    sections = np.array([coefficients(one, bare.current.plant.Ts) for one in filters])
    told = _table(bare, omega).response(sections)
    exact = seen(with_filters(bare, filters), omega)
    low = omega < 0.5 * math.pi / bare.T
    assert np.quantile(np.abs(told[low] / exact[low] - 1.0), 0.95) < 2e-3
    assert np.max(np.abs(told - exact) / np.maximum(np.abs(exact), 1e-3 * np.abs(exact[0]))) < 0.02


@pytest.mark.parametrize("divider", [1, 2, 3])
def test_no_alias_counts_twice_where_the_rates_lie_close(divider: int) -> None:
    bare = replace(case(8).plant, measuring=Measuring(divider=divider))
    omega = np.geomspace(10.0, 0.3 * math.pi / bare.T, 60)
    one = notch(bare, 1.0)
    sections = np.array([coefficients(one, bare.current.plant.Ts)])
    told = _table(bare, omega).response(sections)
    assert np.max(np.abs(told / seen(with_filters(bare, (one,)), omega) - 1.0)) < 1e-5


def test_the_turns_of_the_loop_tell_its_stability() -> None:
    rng = np.random.default_rng(5)
    agree = unstable = 0
    for n in range(60):
        bare = case(n).plant
        plant = with_filters(bare, (notch(bare, float(rng.uniform(0.8, 2.5))),))
        omega = frequencies(plant)
        Kp = float(np.exp(rng.uniform(-3.0, 1.5)))
        gains = SpeedGains(Kp=Kp, Ki=Kp * float(np.exp(rng.uniform(1.0, 5.0))))
        exact = SpeedLoop(plant, gains).opened.feedback().is_stable
        told = _turns(seen(plant, omega), summing(omega, plant.T), gains.Kp, gains.Ki)
        agree += bool(told) == exact
        unstable += not exact
    assert agree >= 59
    assert 10 < unstable < 55


@pytest.mark.parametrize(("gain", "stable"), [(5.0, True), (0.6, True), (0.4, False)])
def test_a_loop_that_is_stable_from_some_gain_on_only(gain: float, stable: bool) -> None:
    """(1 + s)²/s³: by Routh's criterion from 1/2 on; it begins beyond −180°."""
    s = 1j * np.geomspace(1e-2, 1e3, 4000)
    assert _turns((1.0 + s) ** 2 / s**3, np.zeros(s.size, dtype=complex), gain, 0.0) is stable


def test_gains_that_break_a_limit_are_passed_over() -> None:
    plant = with_filters(case(8).plant, (notch(case(8).plant, 1.0),))
    omega = frequencies(plant)
    at = seen(plant, omega)
    nobody = np.zeros((0, omega.size), dtype=np.complex128)
    Kp, Ki = np.array([50.0, 2.0, 0.5, 0.2]), np.array([500.0, 40.0, 6.0, 1.0])
    first = first_kept(at, nobody, summing(omega, plant.T), (Kp, Ki), KEEN.limits())
    for n in range(4):
        held = keeps(SpeedLoop(plant, SpeedGains(Kp=Kp[n], Ki=Ki[n])).margins, KEEN)
        assert held == (n >= first)


@pytest.mark.parametrize("number", [4, 16, 22, 36])
def test_the_area_that_is_told_is_that_of_the_exact_loop(number: int) -> None:
    bare = case(number).plant
    survey = Survey(bare, members(bare, 0.1, (-1.0, 1.0)), KEEN)
    for filters in ((notch(bare, 0.95),), (notch(bare, 2.0, 4.0, 0.3), notch(bare, 1.2, 1.0, 0.6))):
        loop, told = stiffest_with(bare, filters, KEEN), survey.area(filters)
        assert loop is not None
        assert told == pytest.approx(loop.dip_area, rel=0.25)
    wild = replace(notch(bare, 1.0), frequency=math.pi / bare.current.plant.Ts)
    assert survey.area((wild,)) == 1e9
    assert survey.area((notch(bare, 0.95),), most=1e-9) == 1e9


@pytest.mark.parametrize("number", [10, 28])
def test_what_is_proposed_keeps_its_margins_wherever_the_resonance_lies(number: int) -> None:
    bare = case(number).plant
    way = proposed_notches(bare, KEEN)
    plain = slower(bare, KEEN)
    assert way is not None
    assert keeps(way.loop.margins, KEEN)
    for other in members(way.loop.plant, 0.1, (-1.0, -0.7, -0.3, 0.3, 0.7, 1.0)):
        assert SpeedLoop(other, way.loop.gains).margins.stable
    assert plain is None or way.load.IAE < 0.5 * plain.load.IAE
    assert way.title in ("Notch", "Two notches")
    assert len(way.filters) == 1 + (way.title == "Two notches")


def test_of_a_rigid_shaft_the_least_area_is_near_what_its_delay_allows() -> None:
    bare = case(0).plant
    rigid = replace(bare, shaft=replace(bare.shaft, stiffness=0.0, motor=7e-3, load=0.0))
    loop = stiffest(rigid, KEEN)
    assert loop is not None
    assert keeps(loop.margins, KEEN)
    assert proposed_notches(rigid, KEEN) is None
    tried = 0
    for share in (0.8, 0.9, 1.1):  # no other crossover at this margin does better
        gains = SpeedGains(Kp=share * loop.gains.Kp, Ki=share * share * loop.gains.Ki)
        other = SpeedLoop(rigid, gains)
        if keeps(other.margins, KEEN):
            tried += 1
            assert other.dip_area > 0.98 * loop.dip_area
    assert tried


def test_the_area_of_a_dip_is_that_of_the_shaft_stepped_sample_by_sample() -> None:
    plant = case(8).plant
    loop = slower(plant, KEEN)
    assert loop is not None
    room = Room(current=1e9, volts=1e9, volts_down=1e9)
    speed, _ = limited_step(loop.loop, room, 1200, load=1.0)
    area = float(np.sum(np.abs(speed))) * plant.T
    assert loop.loop.dip_area == pytest.approx(area, rel=1e-6)


def test_a_rigid_shaft_and_a_resonance_that_is_sure_need_no_others() -> None:
    from benchmarks.loops import case

    twisting = case(0).plant
    rigid = replace(twisting, shaft=replace(twisting.shaft, load=0.0, stiffness=0.0, damping=0.0))
    assert not rigid.shaft.twists
    assert members(rigid, 0.1) == []
    assert members(twisting, 0.0) == []
    there = [one.shaft.resonance / twisting.shaft.resonance for one in members(twisting, 0.1)]
    assert there == pytest.approx([0.9, 0.95, 1.05, 1.1])
