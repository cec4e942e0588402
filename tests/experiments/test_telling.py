"""Plans, words and numbers of every experiment stay what they were, unless they are meant to move.

Each number has its own test against what is true; these find what moves beside what was meant.
"""

import json
from typing import Any

import pytest

from tests.experiments.telling import cases, path_of, told

_NEAR, _NOTHING = 1e-5, 1e-12  # of a number; of one that is zero but for rounding
_HINT = "if it is meant: python -m tests.experiments.telling, then read what has changed"


@pytest.mark.parametrize(("name", "kind"), cases())
def test_what_an_experiment_tells_stays(name: str, kind: str) -> None:
    kept = json.loads(path_of(name, kind).read_text())
    apart = list(_apart(kept, json.loads(json.dumps(told(name, kind))), ""))
    assert not apart, f"{apart[:8]}; {_HINT}"


def test_what_moves_is_found_wherever_it_lies() -> None:
    kept = {"a": [1.0, {"size": 30.0, "shape": [3], "sums": [0.0, 1.0, 0.0]}], "b": "12 A", "c": 3}
    for path, other in (
        ("/a/0", {"a": [1.0001, kept["a"][1]]}),  # type: ignore[index]
        ("/a/1/sums/0", {"a": [1.0, {"size": 30.0, "shape": [3], "sums": [1e-3, 1.0, 0.0]}]}),
        ("/a", {"a": [1.0]}),
        ("/b", {"b": "13 A"}),
        ("/c", {"c": None}),
        ("/d", {"d": 1}),
    ):
        assert [where for where, _, _ in _apart(kept, kept | other, "")] == [path]
    near = {"a": [1.0 + 1e-7, {"size": 30.0, "shape": [3], "sums": [1e-5, 1.0, 0.0]}]}
    assert not list(_apart(kept, kept | near, ""))


def _apart(kept: Any, now: Any, where: str, size: float = 0.0) -> Any:
    """Yield (where, kept, now) of what differs; numbers by a share of themselves or of `size`."""
    if isinstance(kept, dict) and isinstance(now, dict):
        for key in kept.keys() | now.keys():
            of_array = kept.get("size", 0.0) if key == "sums" else 0.0
            missing = "nothing"
            yield from _apart(kept.get(key, missing), now.get(key, missing), f"{where}/{key}",
                              of_array)  # fmt: skip
    elif isinstance(kept, list) and isinstance(now, list) and len(kept) == len(now):
        for n, (one, other) in enumerate(zip(kept, now, strict=True)):
            yield from _apart(one, other, f"{where}/{n}", size)
    elif isinstance(kept, float) and isinstance(now, float | int):
        if abs(now - kept) > _NEAR * max(abs(kept), size) + _NOTHING:
            yield where, kept, now
    elif kept != now:
        yield where, kept, now
