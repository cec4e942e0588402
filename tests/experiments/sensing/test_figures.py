"""Figures of Sensing against closed forms: what a hall table is off, what pulses scatter by."""

import math
from dataclasses import replace

import numpy as np
import pytest

from oarlock.experiments.sensing.halls import HallTable, even_error, left_ripple, widths
from oarlock.experiments.sensing.pulses import DIRECTIONS, StandingPulses
from oarlock.experiments.sensing.pulses_reading import _answer
from oarlock.experiments.sensing.search_reading import read_search
from oarlock.experiments.sensing.turn_reading import _hall_checks
from oarlock.machine import Axis
from oarlock.records import Record

ORDER = (1, 3, 2, 6, 4, 5)


def table(off: tuple[float, ...]) -> HallTable:
    """A table whose sectors begin so many rad away from where they would, evenly."""
    starts = [-1.0] * 8
    for n, state in enumerate(ORDER):
        starts[state] = 0.3 + n * math.tau / 6.0 + off[n]
    return HallTable(starts=tuple(starts), std=0.0, spread=0.0, play=0.0, order=ORDER,
                     edges=np.zeros((0, 3)), against=0.0)  # fmt: skip


def test_what_even_sectors_would_be_wrong_by() -> None:
    even = table((0.0,) * 6)
    assert even_error(even) == pytest.approx((0.0, 0.0), abs=1e-12)
    assert widths(even) == pytest.approx([math.tau / 6.0] * 6)
    off = (0.06, 0.0, 0.0, 0.0, 0.0, 0.0)  # the mean of all is no error: it is the zero
    worst, ripple = even_error(table(off))
    assert worst == pytest.approx(0.05)
    assert ripple == pytest.approx(0.06 / (math.tau / 6.0))
    late = table((0.0, 0.0, 0.12, 0.0, -0.12, 0.0))
    assert even_error(late)[0] == pytest.approx(0.12)
    assert widths(late)[1] == pytest.approx(math.tau / 6.0 + 0.12)
    assert left_ripple(even) >= 0.0


def pulses(rng: np.random.Generator, noise: float, *, half: int = 4, cycles: int = 25) -> Record:
    """Square waves of 10 V along each direction; three sensors that answer by a known map."""
    rows, period = 2 * half * cycles, 2 * half
    phase = math.tau * np.arange(rows) / period
    wave = -np.cos(phase - math.tau / period)  # behind the drive's delay of one sample
    parts = []
    for n in range(DIRECTIONS):
        angle = math.tau * n / DIRECTIONS
        i = np.array([2.0 * math.cos(angle), 1.5 * math.sin(angle)])
        phases = [
            i[0] * math.cos(t) + i[1] * math.sin(t) for t in (0.0, math.tau / 3, -math.tau / 3)
        ]
        part = np.outer(wave, phases) + noise * rng.standard_normal((rows, 3))
        parts.append(np.column_stack([part, np.full(rows, angle)]))
    whole = np.concatenate(parts)
    columns = {name: whole[:, n] for n, name in enumerate(("ia", "ib", "ic", "theta_e"))}
    return Record(experiment="standing pulses", sample_time=1e-4, units={}, columns=columns,
                  settings={"half": half, "volts": 10.0})  # fmt: skip


def test_the_answer_to_pulses_scatters_as_is_stated() -> None:
    rng, rows = np.random.default_rng(3), 8 * 25
    clean = _answer(pulses(rng, 0.0), rows)
    assert abs(clean.map[0]) == pytest.approx([0.2, 0.0], abs=1e-6)
    noisy = [_answer(pulses(rng, 0.05), rows) for _ in range(120)]
    side = np.sign(clean.map[0, 0])
    maps = np.array([np.sign(one.map[0, 0]) * side * one.map for one in noisy])
    scatter = float(np.sqrt(np.mean(np.var(maps, axis=0))))
    stated = float(np.mean([one.std for one in noisy]))
    assert stated == pytest.approx(scatter, rel=0.15)
    assert np.mean(maps, axis=0) == pytest.approx(clean.map, abs=4.0 * scatter / math.sqrt(120))


def test_twice_the_noise_is_stated_as_twice() -> None:
    rows = 8 * 25
    one, two = (
        _answer(pulses(np.random.default_rng(5), noise), rows).std for noise in (0.02, 0.04)
    )
    assert two == pytest.approx(2.0 * one, rel=0.02)


@pytest.mark.parametrize(("against", "steady"), [(0.09, True), (0.12, False), (0.6, False)])
def test_edges_that_were_met_against_the_way_mean_a_rotor_that_swings(
    against: float, steady: bool
) -> None:
    found = {one.code: one for one in _hall_checks(replace(table((0.0,) * 6), against=against))}
    assert found["steady"].passed is steady
    assert ("swings" in found["steady"].sentence) is not steady


@pytest.mark.parametrize(
    ("play", "holds"), [(-1.0, False), (-0.2, True), (24.5, True), (25.5, False)]
)
def test_friction_holds_both_ways_apart_and_not_too_far(play: float, holds: bool) -> None:
    """Ways that lie beyond one another are no friction: something else is wrong."""
    far = replace(table((0.0,) * 6), play=math.radians(play))
    assert {one.code: one.passed for one in _hall_checks(far)}["friction"] is holds


def test_every_square_wave_swings_for_whole_periods_before_it_is_recorded(axis: Axis) -> None:
    """Else the current would not swing about zero yet."""
    plan, Ts = StandingPulses().plan(axis), axis.inverter.Ts
    waves = [(n, step) for n, step in enumerate(plan.steps) if step.wave is not None]
    assert len(waves) == 2 * DIRECTIONS
    for (n, ahead), (m, recorded) in zip(waves[::2], waves[1::2], strict=True):
        assert m == n + 1
        assert not ahead.record
        assert recorded.record
        period = 1.0 / recorded.wave.frequency  # type: ignore[union-attr]
        assert ahead.duration / period == pytest.approx(4.0)
        assert recorded.duration / period == pytest.approx(50.0)
        assert plan.steps[n - 1].duration / period == pytest.approx(0.25)
        assert period / Ts == pytest.approx(16.0)


@pytest.mark.parametrize(("ended", "way"), [("the drive tripped", 1.0), ("done", 0.0)])
def test_a_search_that_did_not_end_or_has_no_way_finds_nothing(
    axis: Axis, ended: str, way: float
) -> None:
    names = ("theta_e", "id_ref", "motion", "theta_m", "theta_m_after", "edge", "edge_too")
    record = Record(experiment="bounded search", sample_time=1e-4, units={}, ended=ended,
                    columns={name: np.zeros(3) for name in names},
                    settings={"same_way": way})  # fmt: skip
    found = read_search(record, axis)
    assert not found.estimates
    assert not found.holds or found.remark == ended
    assert found.remark == ended
