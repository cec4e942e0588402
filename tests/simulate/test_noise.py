"""Random numbers of the kernel: normal, and no stream tells anything of another."""

import numpy as np
import pytest

from oarlock.simulate.noise import normal, uniform

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
