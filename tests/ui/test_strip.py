"""The ratio between two loops on the timescales strip stands clear of rings."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from oarlock.ui.frame.loop_lane import _RING, _beside


def test_without_rings_it_stands_in_the_middle() -> None:
    assert _beside(100.0, 300.0, 20.0, []) == 200.0
    assert _beside(100.0, 300.0, 20.0, [90.0, 310.0]) == 200.0  # those of other loops
    assert _beside(100.0, 300.0, 20.0, [120.0]) == 200.0  # far enough away


def test_it_moves_aside_or_is_left_out() -> None:
    moved = _beside(100.0, 300.0, 20.0, [205.0])
    assert moved is not None
    assert moved + 20.0 + _RING <= 205.0 + 1e-9
    assert moved - 20.0 >= 100.0
    assert _beside(100.0, 150.0, 20.0, [125.0]) is None


@given(
    st.floats(0.0, 500.0), st.floats(1.0, 400.0), st.floats(5.0, 40.0),
    st.lists(st.floats(-50.0, 950.0), max_size=4),
)  # fmt: skip
def test_it_never_covers_a_ring(left: float, room: float, half: float, rings: list[float]) -> None:
    right = left + max(room, 2.0 * half)
    at = _beside(left, right, half, rings)
    if at is None:
        assert any(left < x < right for x in rings)
        return
    assert left - 1e-6 <= at - half
    assert at + half <= right + 1e-6
    for x in rings:
        if left < x < right:
            assert abs(x - at) >= half + _RING - 1e-6


@pytest.mark.parametrize("side", [-1.0, 1.0])
def test_the_wider_room_is_taken(side: float) -> None:
    at = _beside(0.0, 300.0, 20.0, [150.0 - 10.0 * side])
    assert at is not None
    assert (at - 150.0) * side > 0.0
