"""A project in one SQLite file that any SQLite tool can read.

Axis states are kept as the TOML of axis files, records as compressed float arrays. Records are
never altered: triggers refuse it. Every call commits before it returns.
"""

import json
import math
import sqlite3
import threading
import zlib
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np

from oarlock.errors import InputError
from oarlock.records import Record, Run
from oarlock.store.migrations import APPLICATION_ID, CREATE, MIGRATIONS, VERSION

_RUN_FIELDS = (
    "axis", "kind", "title", "started", "ended", "settings", "gains", "figures", "remark",
    "note", "pinned", "starred", "used", "sparkline",
)  # fmt: skip
# What a damaged file makes the library raise; an error's own text may be damaged, too.
_BROKEN = (sqlite3.Error, UnicodeDecodeError)
_CHANGEABLE = {"note", "pinned", "starred", "used", "remark", "figures"}


class Project:
    """An open project file; calls from several threads wait for each other."""

    def __init__(self, path: Path, connection: sqlite3.Connection) -> None:
        self.path, self._db = path, connection
        self._lock = threading.RLock()

    @classmethod
    def create(cls, path: Path, name: str) -> "Project":
        """Make a new, empty project; an existing file is refused."""
        if path.exists():
            raise InputError("this file exists", place=str(path), remedy="Choose another name")
        project = cls(path, _connect(path))
        with project._told():
            project._db.executescript(CREATE)
            project._db.execute("INSERT INTO meta VALUES ('name', ?)", (name,))
        return project

    @classmethod
    def open(cls, path: Path) -> "Project":
        """Open a project, brought forward to this version of the format.

        Raises
        ------
        InputError : no such file, not a project, of a later version, in use, or damaged

        """
        if not path.is_file():
            raise InputError("no such file", place=str(path), remedy="Check the name")
        _refuse_strangers(path)
        project = cls(path, _connect(path))
        try:
            with project._told():
                project._admit()
        except InputError:
            project._db.close()
            raise
        return project

    def _admit(self) -> None:
        (version,) = self._db.execute("PRAGMA user_version").fetchone()
        problem = self._db.execute("PRAGMA quick_check(1)").fetchone()[0]
        if problem != "ok":
            remedy = "Restore a backup; the file was not touched"
            raise InputError(f"damaged: {problem}", place=str(self.path), remedy=remedy)
        for number in range(version, VERSION):
            self._db.executescript(
                f"BEGIN;{MIGRATIONS[number]};PRAGMA user_version={number + 1};COMMIT;"
            )

    @contextmanager
    def _told(self) -> Iterator[None]:
        """Commit what is done inside, or undo it and tell the error in one line."""
        try:
            with self._lock, self._db:
                yield
        except _BROKEN as error:
            raise _translated(error, self.path) from error

    @contextmanager
    def _decoded(self) -> Iterator[None]:
        """Tell in one line that what was read inside makes no sense."""
        try:
            yield
        except (zlib.error, ValueError, TypeError, KeyError, AttributeError) as error:
            remedy = "Restore a backup; the file was not touched"
            raise InputError(f"damaged: {error}", place=str(self.path), remedy=remedy) from error

    def close(self) -> None:
        """Close the file; harmless when it is."""
        self._db.close()
        aside = self.path.with_name(f"{self.path.name}-shm")
        if not aside.with_name(f"{self.path.name}-wal").exists():
            aside.unlink(missing_ok=True)  # left by the look at the file before it was opened

    @property
    def name(self) -> str:
        """What the project is called."""
        with self._told():
            row = self._db.execute("SELECT value FROM meta WHERE key = 'name'").fetchone()
        return str(row[0]) if row else self.path.stem

    # Axes

    def save_axis(self, name: str, toml: str, label: str) -> None:
        """Keep a state of an axis; earlier ones stay."""
        with self._told():
            self._db.execute(
                "INSERT INTO axis_state (axis, label, toml, saved) VALUES (?, ?, ?, datetime())",
                (name, label, toml),
            )

    def axes(self) -> dict[str, str]:
        """Return the newest state of each axis, as TOML by name, oldest axis first."""
        query = (
            "SELECT axis, toml FROM axis_state WHERE id IN "
            "(SELECT max(id) FROM axis_state GROUP BY axis) ORDER BY "
            "(SELECT min(id) FROM axis_state AS first WHERE first.axis = axis_state.axis)"
        )
        with self._told():
            return dict(self._db.execute(query).fetchall())

    # The logbook

    def add_run(self, run: Run, record: Record | None) -> None:
        """Keep a run with its record, under the number it has."""
        names = ("id", *_RUN_FIELDS)
        marks = ", ".join("?" * len(names))
        with self._told():
            self._db.execute(
                f"INSERT INTO run ({', '.join(names)}) VALUES ({marks})",
                [_plain(getattr(run, name)) for name in names],
            )
            if record is not None:
                self._add_record(run.id, record)

    def next_run(self) -> int:
        """Return the number that the next run may have."""
        with self._told():
            row = self._db.execute("SELECT coalesce(max(id), 0) + 1 FROM run").fetchone()
        return int(row[0])

    def _add_record(self, number: int, record: Record) -> None:
        self._db.execute(
            "INSERT INTO record VALUES (?, ?, ?, ?, ?, ?, ?)",
            (number, record.experiment, record.sample_time, json.dumps(dict(record.settings)),
             record.drive, record.date, record.ended),
        )  # fmt: skip
        for position, (name, column) in enumerate(record.columns.items()):
            single = column.astype("<f4")
            exact = bool(np.array_equal(single.astype(np.float64), column))
            data = zlib.compress((single if exact else column.astype("<f8")).tobytes(), 6)
            row = (number, position, name, record.units[name], "<f4" if exact else "<f8", data)
            self._db.execute("INSERT INTO channel VALUES (?, ?, ?, ?, ?, ?)", row)

    def change_run(self, number: int, **changes: object) -> None:
        """Change what a user may change of a run: note, pin, star, use; and its reading."""
        strange = set(changes) - _CHANGEABLE
        if strange:
            raise ValueError(f"cannot change {strange}")
        with self._told():
            for name, value in changes.items():
                self._db.execute(
                    f"UPDATE run SET {name} = ? WHERE id = ?",
                    (_plain(value), number),
                )

    def runs(self, axis: str) -> list[Run]:
        """Return the logbook of an axis, oldest first."""
        names = ", ".join(("id", *_RUN_FIELDS))
        query = f"SELECT {names} FROM run WHERE axis = ? ORDER BY id"
        with self._told():
            rows = self._db.execute(query, (axis,)).fetchall()
        with self._decoded():
            return [_run(row) for row in rows]

    def record(self, number: int) -> Record | None:
        """Return a run's record, or None where it has none."""
        with self._told():
            row = self._db.execute("SELECT * FROM record WHERE run = ?", (number,)).fetchone()
            channels = self._db.execute(
                "SELECT name, unit, type, data FROM channel WHERE run = ? ORDER BY position",
                (number,),
            ).fetchall()
        if row is None:
            return None
        with self._decoded():
            return _record(row, channels)

    # What was on screen

    def set_view(self, key: str, value: object) -> None:
        """Keep something of the screen's state."""
        with self._told():
            self._db.execute("INSERT OR REPLACE INTO view VALUES (?, ?)", (key, json.dumps(value)))

    def view(self) -> dict[str, Any]:
        """Return the kept state of the screen."""
        with self._told():
            rows = self._db.execute("SELECT key, value FROM view").fetchall()
        with self._decoded():
            return {key: json.loads(value) for key, value in rows}


def _refuse_strangers(path: Path) -> None:
    """Refuse, without touching it, a file that this version cannot read as a project."""
    try:
        db = sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro", uri=True, timeout=0.5)
        try:
            (application,) = db.execute("PRAGMA application_id").fetchone()
            (version,) = db.execute("PRAGMA user_version").fetchone()
        finally:
            db.close()
    except _BROKEN as error:
        raise _translated(error, path) from error
    if application != APPLICATION_ID:
        remedy = "Choose a file that ends in .oarlock"
        raise InputError("this is not a project", place=str(path), remedy=remedy)
    if version > VERSION:
        cause = f"written by a later version (format {version}, this program reads {VERSION})"
        raise InputError(cause, place=str(path), remedy="Use that version")


def _connect(path: Path) -> sqlite3.Connection:
    try:
        db = sqlite3.connect(path, timeout=0.5, check_same_thread=False)
    except _BROKEN as error:
        raise _translated(error, path) from error
    try:
        db.execute("PRAGMA locking_mode = EXCLUSIVE")
        db.execute("PRAGMA journal_mode = WAL")
        db.execute("PRAGMA synchronous = FULL")
        db.execute("PRAGMA foreign_keys = ON")
        db.execute("PRAGMA user_version").fetchone()
        db.execute("BEGIN IMMEDIATE")
        db.rollback()
    except _BROKEN as error:
        db.close()
        raise _translated(error, path) from error
    return db


_CAUSES: tuple[tuple[str, str, str], ...] = (
    ("full", "the disk is full", "Make room; nothing that was saved is lost"),
    ("readonly", "the file is read-only", "Allow writing to it and its folder"),
    ("locked", "it is open in another window", "Close it there first"),
    ("not a database", "this is not a project", "Choose a file that ends in .oarlock"),
    ("unable to open", "cannot be opened", "Check folder and permissions"),
    ("malformed", "the file is damaged", "Restore a backup; the file was not touched"),
    ("disk i/o", "the disk does not answer", "Check the disk"),
)


def _translated(error: Exception, path: Path) -> InputError:
    text = "malformed" if isinstance(error, UnicodeDecodeError) else str(error).lower()
    for word, cause, remedy in _CAUSES:
        if word in text:
            return InputError(cause, place=str(path), remedy=remedy)
    return InputError(str(error), place=str(path), remedy="Save under another name")


def _plain(value: object) -> object:
    """Return a value as SQLite holds it; numbers that JSON lacks become null."""
    if isinstance(value, Mapping | list | tuple):
        return json.dumps(_finite(value))
    return int(value) if isinstance(value, bool) else value


def _finite(value: object) -> object:
    if isinstance(value, Mapping):
        return {key: _finite(item) for key, item in value.items()}
    if isinstance(value, list | tuple):
        return [_finite(item) for item in value]
    if isinstance(value, float) and not math.isfinite(value):
        return None
    return value


def _record(row: tuple[Any, ...], channels: list[tuple[Any, ...]]) -> Record:
    columns, units = {}, {}
    for name, unit, kind, data in channels:
        columns[name] = np.frombuffer(zlib.decompress(data), dtype=kind).astype(np.float64)
        units[name] = unit
    _, experiment, sample_time, settings, drive, date, ended = row
    return Record(
        experiment=experiment,
        sample_time=sample_time,
        columns=columns,
        units=units,
        settings=json.loads(settings),
        drive=drive,
        date=date,
        ended=ended,
    )


def _run(row: tuple[Any, ...]) -> Run:
    values = dict(zip(("id", *_RUN_FIELDS), row, strict=True))
    readers: dict[str, Callable[[Any], Any]] = {
        "settings": json.loads,
        "gains": json.loads,
        "figures": lambda text: {
            k: math.nan if v is None else v for k, v in json.loads(text).items()
        },
        "sparkline": lambda text: tuple(json.loads(text)),
        "pinned": bool,
        "starred": bool,
        "used": bool,
    }
    return Run(**{name: readers.get(name, lambda v: v)(value) for name, value in values.items()})
