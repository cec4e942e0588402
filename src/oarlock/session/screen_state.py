"""What the screen keeps in a project: which keys there are, and what each may hold.

A project may come from elsewhere. What is not known here, or not of its kind, is not taken over.
"""

import math
import re
from collections.abc import Callable, Mapping
from typing import Any

# Kept once for the project; everything else for each axis, as `AXIS/key`.
SHARED = {"axis", "stage", "window", "dark"}
_DRIVE = re.compile(r"[a-z0-9_-]{1,40}")  # it stands on a command line


def _text(value: object) -> bool:
    return isinstance(value, str) and len(value) < 4096


def _number(value: object) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and math.isfinite(value)


def _size(value: object) -> bool:
    sizes = value if isinstance(value, list) and len(value) == 2 else [0]
    return all(isinstance(n, int) and 200 <= n <= 20_000 for n in sizes)


def _span(value: object) -> bool:
    ends = value if isinstance(value, list) and len(value) == 2 else [""]
    return all(_number(turns) for turns in ends)


def _texts(value: object) -> bool:
    return isinstance(value, dict) and all(_text(k) and _text(v) for k, v in value.items())


def _plain(value: object) -> bool:
    return isinstance(value, dict) and all(
        _text(k) and (_text(v) or _number(v) or isinstance(v, bool)) for k, v in value.items()
    )


def _practice(value: object) -> bool:
    return isinstance(value, str) and bool(_DRIVE.fullmatch(value))


_KINDS: dict[str, Callable[[object], bool]] = {
    "axis": _text, "stage": _text, "window": _size, "dark": lambda v: isinstance(v, bool),
    "header": _text, "map": _texts, "practice": _practice, "proven": _text,
    "handover_written": _plain, "sensing": _text, "identify": _text, "map_omega": _number,
    "standing": _span,
    "may_turn": lambda v: isinstance(v, bool), "winding": _number, "step": _plain,
}  # fmt: skip


def sound(kept: Mapping[str, Any]) -> dict[str, Any]:
    """Return what of the kept state is known and of its kind."""
    found = {}
    for key, value in kept.items():
        kind = _KINDS.get(key.rpartition("/")[2])
        if kind is not None and kind(value):
            found[key] = value
    return found
