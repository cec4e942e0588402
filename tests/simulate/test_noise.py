"""Random numbers of the kernel: normal, and no stream tells anything of another."""

import math

import numpy as np
import pytest

from oarlock.simulate import noise
from oarlock.simulate.noise import EDGES, normal, uniform

MANY = 20_000


@pytest.fixture(scope="module")
def drawn() -> np.ndarray:
    """Normal numbers of six neighbouring streams, (streams, samples)."""
    return np.array([[normal(7, clock, stream) for clock in range(MANY)] for stream in range(1, 7)])


def test_they_are_normal(drawn: np.ndarray) -> None:
    assert np.abs(drawn.mean(axis=1)).max() < 4.0 / np.sqrt(MANY)
    assert drawn.std(axis=1) == pytest.approx(np.ones(6), rel=0.03)
    assert np.mean(drawn**4, axis=1) == pytest.approx(3.0 * np.ones(6), rel=0.12)
    assert np.mean(np.abs(drawn) > 2.0, axis=1) == pytest.approx(0.0455 * np.ones(6), rel=0.2)


def test_of_two_hundred_thousand_each_size_is_as_frequent_as_it_should_be() -> None:
    found = np.array([normal(3, clock, 2) for clock in range(200_000)])
    for size in (0.1, 0.5, 1.0, 1.5, 2.0, 2.5, 3.0, 3.4426, 3.7):  # the tail begins at 3.4426
        wanted = 0.5 * math.erfc(size / math.sqrt(2.0))
        spread = math.sqrt(wanted * (1.0 - wanted) / found.size)
        assert np.mean(found > size) == pytest.approx(wanted, abs=4.0 * spread)
        assert np.mean(found < -size) == pytest.approx(wanted, abs=4.0 * spread)


def test_the_layers_have_one_area_and_the_base_with_its_tail_as_much() -> None:
    high = np.exp(-0.5 * EDGES[1:] ** 2)
    areas = EDGES[1:-1] * np.diff(high)
    assert areas == pytest.approx(np.full(areas.size, areas[0]), rel=1e-6)
    tail = math.sqrt(math.pi / 2.0) * math.erfc(EDGES[1] / math.sqrt(2.0))
    assert EDGES[1] * high[0] + tail == pytest.approx(areas[0], rel=1e-6)
    assert np.all(np.diff(EDGES) < 0.0)


def test_compiled_and_plain_are_the_same(
    drawn: np.ndarray, monkeypatch: pytest.MonkeyPatch
) -> None:
    beyond = [int(n) for n in np.flatnonzero(np.abs(drawn[0]) > 3.2)]
    clocks = (*range(400), *beyond)
    for name in ("_bits", "_share", "uniform", "_beside"):
        monkeypatch.setattr(noise, name, getattr(noise, name).py_func)
    plain = normal.py_func  # type: ignore[attr-defined]
    with np.errstate(over="ignore"):
        assert [plain(7, clock, 1) for clock in clocks] == [drawn[0, clock] for clock in clocks]
    assert len(beyond) > 10


def test_streams_and_samples_are_independent(drawn: np.ndarray) -> None:
    """Neither numbers nor their sizes are correlated, between streams and from sample to sample."""
    for shaped in (drawn, drawn**2, np.abs(drawn)):
        for other in (drawn, drawn**2, np.abs(drawn)):
            both = np.corrcoef(np.vstack([shaped, other]))
            between = both[:6, 6:] - np.diag(np.diag(both[:6, 6:]))
            assert np.abs(between).max() < 0.035
            later = [np.corrcoef(a[1:], b[:-1])[0, 1] for a, b in zip(shaped, other, strict=True)]
            assert np.abs(later).max() < 0.035


def test_they_depend_on_all_three_and_on_nothing_else() -> None:
    assert uniform(1, 2, 3) == uniform(1, 2, 3)
    found = {uniform(seed, clock, stream) for seed in range(9) for clock in range(9)
             for stream in range(9)}  # fmt: skip
    assert len(found) == 9**3
    assert all(0.0 < u < 1.0 for u in found)
