"""Recordings that nobody here made: the good ones hold and are right, the bad ones do not hold."""

import pytest

from tests.experiments.telling import (
    BAD_ONES,
    GOOD_ONES,
    assert_told,
    foreign,
    told_of_foreign,
)

SAID = {  # words that tell the cause
    "voltage clipped": "at its end",
    "voltage below two samples a period": "folded",
    "phase taken as line to line": "line to line",
    "flux, angle in degrees": "degrees",
    "flux, speed in rpm without a unit": "rpm",
    "flux, poles for pole pairs": "poles",
    "flux, bus sags in it": "sags",
    "inertia, degrees, none printed": "degrees",
    "inertia, speed contradicts angle": "rpm",
    "inertia, a hole of 500 rows": "500 of them in one piece",
    "inertia, sensor reversed": "reversed",
    "Lq, rotor free, angle beside it": "lock it",
    "Lq, rotor free, nothing said": "lock it",
    "Ld, one signal reversed": "reversed",
    "R, it heats meanwhile": "heats",
    "R, two columns of one name": "2 columns are called",
    "R, a third terminal connected": "third terminal",
}


@pytest.mark.parametrize(("kind", "which"), GOOD_ONES)
def test_a_good_recording_holds_and_is_right(kind: str, which: int) -> None:
    outcome = foreign(kind, which)
    assert outcome.verdict == "holds", outcome.why
    assert abs(outcome.off) < 3.5
    assert_told(f"foreign {which} {kind}", told_of_foreign(outcome))


@pytest.mark.parametrize(("kind", "which"), BAD_ONES)
def test_a_bad_recording_does_not_hold(kind: str, which: int) -> None:
    outcome = foreign(kind, which)
    assert outcome.verdict != "holds", outcome.off
    assert SAID.get(kind, "") in outcome.why
    assert_told(f"foreign {which} {kind}", told_of_foreign(outcome))
