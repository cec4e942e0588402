"""Which projects were open before, the newest first, in one small file of the user's.

The list is a convenience: where it cannot be read it is empty, where it cannot be written it is
left as it was.
"""

import contextlib
import json
from collections.abc import Iterable
from dataclasses import asdict, dataclass
from datetime import datetime
from pathlib import Path

from oarlock.errors import InputError
from oarlock.files import write_atomic

_MOST = 2000


@dataclass(frozen=True, slots=True)
class RecentAxis:
    """An axis as it was left."""

    name: str
    said: str  # one sentence


@dataclass(frozen=True, slots=True)
class Recent:
    """A project as it was left."""

    path: Path
    name: str
    opened: str  # local time, ISO 8601
    axes: tuple[RecentAxis, ...]


def place() -> Path:
    """Return the file that holds the list."""
    from platformdirs import user_state_path

    return user_state_path("oarlock") / "recent.json"


def recent() -> tuple[Recent, ...]:
    """Return the projects, the newest first."""
    try:
        raw = json.loads(place().read_text(encoding="utf-8"))
    except (OSError, ValueError, RecursionError):
        return ()
    return (
        tuple(found for entry in raw if (found := _entry(entry))) if isinstance(raw, list) else ()
    )


def _entry(raw: object) -> Recent | None:
    if not isinstance(raw, dict):
        return None
    path, name, opened, axes = (raw.get(key) for key in ("path", "name", "opened", "axes"))
    if not (isinstance(path, str) and isinstance(name, str) and isinstance(opened, str) and path):
        return None
    listed = axes if isinstance(axes, list) else []
    return Recent(path=Path(path), name=name, opened=opened, axes=tuple(
        RecentAxis(str(one.get("name", "")), str(one.get("said", "")))
        for one in listed if isinstance(one, dict)
    ))  # fmt: skip


def remember(path: Path, name: str, axes: Iterable[RecentAxis]) -> None:
    """Put a project at the head of the list; an axis of which nothing is said keeps its line."""
    path = path.absolute()
    known = recent()
    before = {a.name: a for old in known if old.path == path for a in old.axes}
    kept = tuple(one if one.said else before.get(one.name, one) for one in axes)
    now = datetime.now().astimezone().isoformat(timespec="seconds")
    _write([Recent(path, name, now, kept), *(old for old in known if old.path != path)])


def forget(path: Path) -> None:
    """Take a project off the list; its file stays."""
    _write([old for old in recent() if old.path != path])


def _write(entries: list[Recent]) -> None:
    rows = [{**asdict(entry), "path": str(entry.path)} for entry in entries[:_MOST]]
    with contextlib.suppress(OSError, InputError):
        place().parent.mkdir(parents=True, exist_ok=True)
        write_atomic(place(), json.dumps(rows, indent=0).encode(), backup=False)
