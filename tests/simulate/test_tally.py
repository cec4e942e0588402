"""What is kept of samples as they come, against what NumPy makes of all of them at once."""

import math

import numpy as np
import pytest

from oarlock.simulate import layout as k
from oarlock.simulate import tally

WIDTH, SAMPLES, BEGAN, R = 7, 61, 0.3, 0.8


@pytest.fixture(scope="module")
def rows() -> np.ndarray:
    """Samples of a machine at 24 V, whose voltage is at its limit here and there."""
    rng = np.random.default_rng(4)
    found = rng.normal(size=(SAMPLES, tally.RECORDED)).astype(np.float32) * np.float32(6.0)
    found[:, tally.BUS] = 24.0 + rng.random(SAMPLES)
    return found


def kept_of(
    rows: np.ndarray, cuts: tuple[int, ...] = (), reach: np.ndarray | None = None
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Return counts, sums, the bin that is begun, and bins, of rows that come in portions."""
    counts, sums = np.zeros(tally.COUNTS, dtype=np.int64), np.zeros(tally.SUMS)
    begun, kept = np.zeros((3, tally.COLUMNS)), np.zeros((3, tally.COLUMNS, SAMPLES))
    none = np.zeros((0, k.REACH_SIZE), dtype=np.float32)
    for first, until in zip((0, *cuts), (*cuts, len(rows)), strict=True):
        part = none if reach is None else reach[first:until]
        tally.gather(rows[first:until], 0, until - first, part, BEGAN, R, WIDTH, counts, sums,
                     begun, kept)  # fmt: skip
    return counts, sums, begun, kept.transpose(0, 2, 1)


def columns(rows: np.ndarray) -> np.ndarray:
    """Return each column of all samples, (n, 13), in double precision."""
    x = rows.astype(np.float64)
    at = x[:, 0] - BEGAN
    amperes, volts = np.hypot(x[:, 4], x[:, 5]), np.hypot(x[:, 6], x[:, 7])
    power = x[:, 10] * x[:, 9] + 1.5 * R * amperes**2
    return np.column_stack([at, x[:, 1] - at, x[:, 2:8], x[:, 9], power, amperes, volts, x[:, 8]])


def test_bins_are_least_most_and_mean(rows: np.ndarray) -> None:
    counts, _, begun, kept = kept_of(rows)
    truth, whole = columns(rows), SAMPLES // WIDTH
    bins = truth[: whole * WIDTH].reshape(whole, WIDTH, -1)
    assert counts[tally.BINS] == whole
    assert kept[tally.MEAN, :whole] == pytest.approx(bins.mean(axis=1), rel=1e-12, abs=1e-12)
    assert kept[tally.LEAST, :whole] == pytest.approx(bins.min(axis=1), rel=1e-14, abs=1e-14)
    assert kept[tally.MOST, :whole] == pytest.approx(bins.max(axis=1), rel=1e-14, abs=1e-14)
    left = truth[whole * WIDTH :]
    assert counts[tally.FILLED] == len(left) == 5
    assert begun[tally.MEAN] / 5 == pytest.approx(left.mean(axis=0), rel=1e-12, abs=1e-12)
    assert begun[tally.MOST] == pytest.approx(left.max(axis=0), rel=1e-14, abs=1e-14)


def test_sums_are_over_all_samples(rows: np.ndarray) -> None:
    counts, sums, _, _ = kept_of(rows)
    truth = columns(rows)
    limit = truth[:, tally.KEPT_BUS] / math.sqrt(3.0)
    assert counts[tally.SAMPLES] == SAMPLES
    assert 3 < sums[tally.OVER] < SAMPLES - 3
    assert sums[tally.OVER] == np.count_nonzero(truth[:, tally.VOLTS] >= 0.999 * limit)
    assert sums[tally.OF_CURRENT] == pytest.approx(np.sum(truth[:, tally.AMPERES] ** 2))
    assert sums[tally.OF_FOLLOWING] == pytest.approx(np.sum(truth[:, tally.FOLLOWING] ** 2))
    assert sums[tally.OF_RIPPLE] == 0.0


@pytest.mark.parametrize("cuts", [(1,), (7, 14), (3, 3, 40), (60,)])
def test_portions_come_to_the_same_bits(rows: np.ndarray, cuts: tuple[int, ...]) -> None:
    for whole, part in zip(kept_of(rows), kept_of(rows, cuts), strict=True):
        assert np.array_equal(whole, part)


def test_compiled_and_plain_are_the_same_to_the_bit(
    rows: np.ndarray, monkeypatch: pytest.MonkeyPatch
) -> None:
    reach = np.full((SAMPLES, k.REACH_SIZE), 20.0, dtype=np.float32)
    compiled = kept_of(rows, (9,), reach)
    for name in ("_take", "_recorded", "_places", "_amounts", "_widen", "gather"):
        monkeypatch.setattr(tally, name, getattr(tally, name).py_func)
    for a, b in zip(compiled, kept_of(rows, (9,), reach), strict=True):
        assert np.array_equal(a, b)


def test_a_bridge_that_switches_drives_currents_further(rows: np.ndarray) -> None:
    rng = np.random.default_rng(5)
    reach = rng.normal(size=(SAMPLES, k.REACH_SIZE)).astype(np.float32) * np.float32(12.0)
    _, sums, _, kept = kept_of(rows, reach=reach)
    _, _, _, plain = kept_of(rows)
    whole = SAMPLES // WIDTH
    bins = reach[: whole * WIDTH].reshape(whole, WIDTH, -1).astype(np.float64)
    assert np.array_equal(kept[tally.MEAN], plain[tally.MEAN])
    for side, column, of, join in (
        (tally.LEAST, tally.KEPT_D, k.D_LEAST, np.minimum),
        (tally.MOST, tally.KEPT_D, k.D_MOST, np.maximum),
        (tally.LEAST, tally.KEPT_Q, k.Q_LEAST, np.minimum),
        (tally.MOST, tally.KEPT_Q, k.Q_MOST, np.maximum),
        (tally.MOST, tally.AMPERES, k.SIZE_MOST, np.maximum),
    ):
        furthest = join.reduce(bins[:, :, of], axis=1)
        wanted = join(plain[side, :whole, column], furthest)
        assert np.array_equal(kept[side, :whole, column], wanted)
        assert not np.array_equal(wanted, plain[side, :whole, column])
    assert sums[tally.OF_RIPPLE] == pytest.approx(np.sum(reach[:, k.RIPPLE], dtype=np.float64))
