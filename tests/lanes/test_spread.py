"""Loops spread over lanes come to the bits of the plain ones, or are refused."""

import functools
from collections.abc import Callable
from pathlib import Path
from types import ModuleType

import numpy as np
import pytest

from oarlock.jit import njit
from oarlock.lanes.expressions import DIFFERS, SETTING, CannotSpreadError, Source
from oarlock.lanes.spread import Spreading, load
from tests.lanes import toys

LANES, CASES = 8, 120
KINDS = {"settings": SETTING, "state": DIFFERS}
LOOPS = (
    "parted",
    "counted",
    "rounded",
    "remembered",
    "unlike",
    "set_apart",
    "steered",
    "passed_on",
)


def spread_toys() -> Spreading:
    return Spreading(left_out=frozenset(), alike=frozenset(), settings=frozenset({"settings"}))


def spread(*names: str) -> str:
    spreading = spread_toys()
    return spreading.module({name: (getattr(toys, name), KINDS, ()) for name in names})


@pytest.fixture(scope="module")
def loops(tmp_path_factory: pytest.TempPathFactory) -> ModuleType:
    folder = tmp_path_factory.mktemp("spread")
    return load("spread_toys", lambda: spread(*LOOPS), folder)


@functools.cache
def plain(name: str) -> Callable[..., None]:
    """One of the toys as it is; its least of equals as compiled."""
    compiled: Callable[..., None] = njit()(getattr(toys, name))
    return compiled


def both(
    loops: ModuleType, name: str, settings: np.ndarray, state: np.ndarray, k: int
) -> tuple[np.ndarray, np.ndarray, int]:
    """Return a state after the loop on lanes, after the plain one on each, and whether they parted.

    What the lanes share is checked here: it is what the last lane that came there wrote.
    """
    together, meta, apart = state.copy(), np.zeros(2, dtype=np.int64), np.zeros(1, dtype=np.int64)
    getattr(loops, name)(np.ascontiguousarray(settings), together, meta, k, apart)
    alone, seven = state.copy(), 0
    for lane in range(LANES):
        own, shared = alone[:, lane].copy(), np.zeros(2, dtype=np.int64)
        plain(name)(settings[:, lane].copy(), own, shared, k)
        alone[:, lane] = own
        seven = max(seven, int(shared[1]))
        assert shared[0] == meta[0]
    assert meta[1] == seven
    return together, alone, int(apart[0])


@pytest.mark.parametrize("name", ["parted", "counted", "rounded", "remembered"])
def test_lanes_come_to_the_same_bits(loops: ModuleType, name: str) -> None:
    rng, settled = np.random.default_rng(8), np.zeros(LANES)
    for case in range(CASES):
        state = np.ascontiguousarray(rng.normal(size=(5, LANES)) * 1.5)
        if case % 3 == 0:  # on the edges between ways
            state = np.ascontiguousarray(np.round(2.0 * state) / 2.0)
        settings = np.sort(rng.normal(size=(6, LANES)), axis=0)
        together, alone, _ = both(loops, name, settings, state, case % 3)
        assert np.array_equal(together, alone, equal_nan=True)
        assert np.array_equal(np.signbit(together), np.signbit(alone))
        settled += (alone != state).any(axis=0)
    assert settled.min() > CASES / 2  # it did something in every lane


def test_what_is_no_number_is_unlike_all(loops: ModuleType) -> None:
    state = np.ascontiguousarray(np.random.default_rng(3).normal(size=(5, LANES)))
    state[0, :4] = state[1, :4]
    state[:2, 2:6] = np.nan
    together, alone, _ = both(loops, "unlike", np.ones((6, LANES)), state, 7)
    assert np.array_equal(together, alone, equal_nan=True)
    assert np.array_equal(together[2] - state[2] > 0.0, np.arange(LANES) > 1)


@pytest.mark.parametrize("name", ["parted", "rounded"])
def test_a_lane_that_is_no_number_leaves_the_others_alone(loops: ModuleType, name: str) -> None:
    state = np.ones((5, LANES))
    state[0] = np.linspace(-2.0, 2.0, LANES)
    state[0, 5] = np.nan
    settings = np.ones((6, LANES))
    if name == "rounded":
        state[1, 5] = np.nan
        others = [n for n in range(LANES) if n != 5]
        one_less = state.copy()
        one_less[:, 5] = 1.0
        with_it = both(loops, name, settings, one_less, 1)[0]
        meta, apart = np.zeros(2, dtype=np.int64), np.zeros(1, dtype=np.int64)
        loops.rounded(settings, state, meta, 1, apart)
        assert np.array_equal(state[:, others], with_it[:, others])
        return
    together, alone, _ = both(loops, name, settings, state, 1)
    assert np.array_equal(together, alone, equal_nan=True)


def test_settings_may_differ_where_they_lead_the_same_way(loops: ModuleType) -> None:
    settings = np.vstack([np.linspace(0.6, 2.0, LANES), np.full(LANES, 4.0), np.ones(LANES)])
    together, alone, parted = both(loops, "set_apart", settings, np.zeros((1, LANES)), 0)
    assert parted == 0
    assert np.array_equal(together, alone)


@pytest.mark.parametrize("place", [0, 1, 2])
def test_settings_that_lead_apart_are_noted(loops: ModuleType, place: int) -> None:
    settings = np.vstack([np.full(LANES, 0.2), np.full(LANES, 4.0), np.ones(LANES)])
    settings[place, 6] = -1.0 if place == 2 else 0.9
    if place == 0:
        assert both(loops, "set_apart", settings, np.zeros((1, LANES)), 0)[2] == 1
    settings[0] = 0.9 if place == 1 else settings[0]
    assert both(loops, "set_apart", settings, np.zeros((1, LANES)), 0)[2] == 1


@pytest.mark.parametrize("k", [0, 1, 2])
@pytest.mark.parametrize("case", range(32))
def test_settings_steer_all_lanes_as_they_steer_each(loops: ModuleType, case: int, k: int) -> None:
    high = [case >> n & 1 for n in range(5)]
    settings = np.outer([high[0], 1.0, 1.0 + high[1], 1.0 + 2.0 * high[2], high[3], 3.0 * high[4]],
                        np.ones(LANES))  # fmt: skip
    state = np.ascontiguousarray(np.random.default_rng(case).normal(size=(3, LANES)))
    together, alone, parted = both(loops, "steered", settings, state, k)
    assert np.array_equal(together, alone)
    assert parted == 0


@pytest.mark.parametrize(("place", "other"), [(0, -1.0), (2, 1.0), (3, 3.0), (5, 4.0)])
def test_settings_are_asked_before_anything_depends_on_them(
    loops: ModuleType, place: int, other: float
) -> None:
    """Also those of a way that is not gone: lanes go alone then, and that is only slower."""
    settings = np.outer([1.0, 1.0, 2.0, 1.0, 0.5, 3.0], np.ones(LANES))
    state = np.zeros((3, LANES))
    assert both(loops, "steered", settings, state, 0)[2] == 0
    settings[place, 5] = other
    meta, apart = np.zeros(2, dtype=np.int64), np.zeros(1, dtype=np.int64)
    loops.steered(settings, state.copy(), meta, 0, apart)
    assert apart[0] == 1


def test_what_is_asked_further_down_is_asked_too(loops: ModuleType) -> None:
    settings, state = np.ones((2, LANES)), np.zeros((1, LANES))
    assert both(loops, "passed_on", settings, state, 0)[2] == 0
    settings[1, 5] = -1.0
    meta, apart = np.zeros(2, dtype=np.int64), np.zeros(1, dtype=np.int64)
    loops.passed_on(settings, state, meta, 0, apart)
    assert apart[0] == 1


def test_settings_at_fixed_places_are_asked_where_a_call_begins() -> None:
    text = spread("steered")
    body, _, entry = text.partition("@njit()")
    assert "memory_.same(lanes_.less_equal(memory_.setting(settings, 0), 0.0), apart)" in entry
    assert "memory_.same_whole(memory_.setting(settings, 5), apart)" in entry
    assert "settings[0, 0] <= 0.0" in body
    assert body.count("memory_.same") == 1  # at places that are counted
    assert "memory_.same" not in spread("parted").partition("@njit()")[2]


@pytest.mark.parametrize(
    ("name", "place", "says"),
    [("endless", "endless", "while"), ("by_lane", "by_lane", "state[here]"),
     ("shared_by_some", "shared_by_some", "meta[0]"),
     ("renamed", "told_otherwise", "settings is called given there")],
)  # fmt: skip
def test_what_has_no_counterpart_is_refused_with_its_place(
    name: str, place: str, says: str
) -> None:
    with pytest.raises(CannotSpreadError) as refused:
        spread(name)
    assert place in str(refused.value)
    assert says in str(refused.value)


def test_what_all_lanes_share_is_called_as_it_is() -> None:
    text = spread("counted")
    assert "def toys_first_above_12" in text
    spreading = spread_toys()
    plain: Source = toys.bounded
    assert spreading.shared(plain) == "toys_bounded"
    assert spreading.plain["toys_bounded"] == (
        "from tests.lanes.toys import bounded as toys_bounded"
    )


def test_a_module_is_written_once(tmp_path: Path) -> None:
    made = []

    def source() -> str:
        made.append(1)
        return "x = 1\n"

    assert load("spread_once", source, tmp_path).x == 1
    assert load("spread_once", source, tmp_path).x == 1
    assert len(made) == 1
    assert [path.name for path in tmp_path.iterdir() if path.is_file()] == ["spread_once.py"]
