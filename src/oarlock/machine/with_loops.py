"""An axis with other loops, as one object: what is kept for it is found again while gains move."""

from dataclasses import fields
from functools import lru_cache
from typing import Any

from oarlock.machine.axis import Axis
from oarlock.machine.loop import Loops

_APART = tuple(one.name for one in fields(Axis) if one.name != "loops")


def with_loops(axis: Axis, loops: Loops) -> Axis:
    """Return an axis with other loops; the same object where all is equal."""
    return _of_parts(tuple([getattr(axis, name) for name in _APART]), loops)


@lru_cache(maxsize=32)
def _of_parts(apart: tuple[object, ...], loops: Loops) -> Axis:
    given: dict[str, Any] = dict(zip(_APART, apart, strict=True))
    return Axis(loops=loops, **given)
