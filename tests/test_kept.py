"""What experiments and pictures tell stays what it was, unless it is meant to move.

Each number has its own test against what is true; these find what moves beside what was meant.
"""

from collections.abc import Callable
from pathlib import Path

import pytest

from tests.experiments import telling as experiments
from tests.kept import Plain, apart, assert_stays, can_compare, plain
from tests.views import telling as pictures

CASES = [(room.FOLDER, case, tell) for room in (experiments, pictures)
         for case, tell in room.cases().items()]  # fmt: skip


@pytest.mark.parametrize(("folder", "case", "tell"), CASES, ids=[case for _, case, _ in CASES])
def test_what_is_told_stays(folder: Path, case: str, tell: Callable[[], Plain]) -> None:
    if not can_compare(folder):
        pytest.skip("kept on another kind of processor")
    assert_stays(folder, case, tell())


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
        assert [where for where, _, _ in apart(kept, kept | other)] == [path]
    assert plain("Kp = 1.6873204333188692, 24.51 Hz") == "Kp = 1.6873204, 24.51 Hz"
    near = {"a": [1.0 + 1e-7, {"size": 30.0, "shape": [3], "sums": [1e-5, 1.0, 0.0]}]}
    assert not list(apart(kept, kept | near))
