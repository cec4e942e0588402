"""How checks are held against the limits that they state."""

from collections.abc import Callable

from oarlock.records import Check, Finding


def check(finding: Finding, code: str) -> Check:
    """Return one check of a finding."""
    return next(one for one in finding.checks if one.code == code)


def limited(
    find: Callable[[float], Finding], code: str, *, within: float, beyond: float, told: str = ""
) -> None:
    """A check holds at one value and fails at the other, and its sentence names the limit."""
    good, bad = (check(find(value), code) for value in (within, beyond))
    assert good.passed, good.sentence
    assert not bad.passed, bad.sentence
    assert told in bad.sentence
