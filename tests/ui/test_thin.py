"""A long curve is thinned to what a screen holds, and no peak is lost."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from oarlock.ui.kit.thin import thinned


@given(st.integers(1, 5000), st.integers(1, 400), st.integers(0, 2**32 - 1))
def test_least_and_most_of_each_column_stay(many: int, columns: int, seed: int) -> None:
    rng = np.random.default_rng(seed)
    x = np.cumsum(rng.random(many) + 0.01)
    y = rng.standard_normal(many)
    low, high = np.sort(rng.uniform(x[0] - 1.0, x[-1] + 1.0, 2))
    seen_x, seen_y = thinned(x, y, low, high, columns)
    assert np.all(np.diff(seen_x) >= 0.0)
    assert seen_x.size <= 4 * columns + 2
    inside = (x >= low) & (x <= high)
    if np.any(inside):
        assert seen_y.min() <= y[inside].min()
        assert seen_y.max() >= y[inside].max()
        assert seen_x[0] <= x[inside][0]
        assert seen_x[-1] >= x[inside][-1]
    at = np.searchsorted(x, seen_x)
    assert seen_y == pytest.approx(y[at])


def test_a_spike_of_one_sample_in_many_is_drawn_where_it_is() -> None:
    x = np.arange(200_000, dtype=np.float64)
    y = np.zeros(x.size)
    y[123_456], y[123_470] = 5.0, -3.0
    seen_x, seen_y = thinned(x, y, 0.0, x[-1], 800)
    assert seen_x.size < 3000
    assert seen_x[int(np.argmax(seen_y))] == 123_456.0
    assert seen_x[int(np.argmin(seen_y))] == 123_470.0
    assert seen_y[np.abs(seen_x - 123_456.0) > 300.0] == pytest.approx(0.0)


def test_what_a_screen_holds_is_left_as_it_is_with_one_neighbour_on_each_side() -> None:
    x = np.arange(100, dtype=np.float64)
    seen_x, seen_y = thinned(x, x**2, 20.5, 30.5, 800)
    assert seen_x.tolist() == list(range(20, 32))
    assert seen_y.tolist() == [n**2 for n in range(20, 32)]
