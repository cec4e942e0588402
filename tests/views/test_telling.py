"""What the stages' pictures tell stays what it was, unless it is meant to move.

Each number has its own test against what is true; these find what moves beside what was meant.
"""

import pytest

from tests.kept import assert_stays, can_compare
from tests.views.telling import FOLDER, cases

CASES = cases()


@pytest.mark.parametrize("case", CASES)
def test_what_a_picture_tells_stays(case: str) -> None:
    if not can_compare(FOLDER):
        pytest.skip("kept on another kind of processor")
    assert_stays(FOLDER, case, CASES[case]())
