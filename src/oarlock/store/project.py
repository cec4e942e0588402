"""A project in one SQLite file that any SQLite tool can read.

Axis states are kept as the TOML of axis files, records as compressed float arrays. Records are
never altered: triggers refuse it. Every call commits before it returns.
"""

import contextlib
import json
import sqlite3
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from oarlock.errors import InputError
from oarlock.files import cannot
from oarlock.records import Plain, Record, Run
from oarlock.store.cells import ODD, RUN_FIELDS, packed, plain, record_of, run_of, summed, text
from oarlock.store.database import (
    BROKEN,
    connect,
    connect_to_read,
    new_file,
    refuse_strangers,
    translated,
    write_anew,
)
from oarlock.store.migrations import CREATE, MIGRATIONS, VERSION

_CHANGEABLE = {"note", "pinned", "starred", "used", "remark", "figures"}


class Project:
    """An open project file; calls from several threads wait for each other."""

    def __init__(self, path: Path, connection: sqlite3.Connection) -> None:
        self.path, self._db = path, connection
        self._lock = threading.RLock()
        self._inode = 0  # known once it is open under its own name
        self.on_notice: Callable[[str], None] = lambda _text: None

    @classmethod
    def make(cls, path: Path, name: str, fill: "Callable[[Project], None]") -> None:
        """Make a new project with what `fill` puts into it: all of it, or no file at all.

        Raises
        ------
        InputError : an existing file, or one that cannot be written

        """
        with new_file(path) as aside:
            try:
                project = cls(aside, connect(aside))
                with contextlib.closing(project._db):
                    with project._told():
                        project._db.executescript(f"BEGIN;{CREATE};COMMIT;")
                        project._db.execute("INSERT INTO meta VALUES ('name', ?)", (name,))
                    fill(project)
            except InputError as error:  # its file is not there to be looked at
                raise type(error)(error.cause, place=str(path), remedy=error.remedy) from error

    @classmethod
    def create(cls, path: Path, name: str) -> "Project":
        """Make a new, empty project and open it; an existing file is refused."""
        cls.make(path, name, lambda _project: None)
        return cls.open(path)

    @classmethod
    def open(cls, path: Path) -> "Project":
        """Open a project, brought forward to this version of the format.

        Raises
        ------
        InputError : no such file, not a project, of a later version, in use, or damaged

        """
        if not path.is_file():
            raise InputError("no such file", place=str(path), remedy="Check the name")
        refuse_strangers(path, VERSION)
        project = cls(path, connect(path))
        try:
            with project._told():
                project._admit()
        except InputError:
            project._db.close()
            raise
        return project

    @classmethod
    @contextmanager
    def look(cls, path: Path) -> Iterator["Project"]:
        """Look at the axes of a project; nothing is written, and nothing beside it touched.

        Raises
        ------
        InputError : no such file, not a project, of a later version, or open in a window

        """
        if not path.is_file():
            raise InputError("no such file", place=str(path), remedy="Check the name")
        refuse_strangers(path, VERSION)
        project = cls(path, connect_to_read(path))
        try:
            yield project
        finally:
            project._db.close()

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
        self._inode = self.path.stat().st_ino

    @contextmanager
    def _told(self) -> Iterator[None]:
        """Commit what is done inside, or undo it and tell the error in one line."""
        try:
            with self._lock, self._db:
                yield
        except BROKEN as error:
            raise translated(error, self.path) from error

    @contextmanager
    def _written(self) -> Iterator[None]:
        """Do the same for a change: it goes to the file that has this project's name."""
        with self._lock:
            if self._inode:
                self._stay()
            with self._told():
                yield

    def _stay(self) -> None:
        """See that the file still is where it was; where it was deleted, write it anew."""
        try:
            if self.path.stat().st_ino == self._inode:
                return
        except FileNotFoundError:
            write_anew(self._db, self.path)
        except OSError as error:
            raise cannot(error, self.path, "write") from error
        else:
            raise InputError("another file has taken its place", place=str(self.path),
                             remedy="Move that file away; nothing is lost meanwhile")  # fmt: skip
        self._db.close()
        self._db = connect(self.path)
        self._inode = self.path.stat().st_ino
        self.on_notice(f"{self.path.name} was deleted while it was open: it was written anew")

    @contextmanager
    def _decoded(self) -> Iterator[None]:
        """Tell in one line that what was read inside makes no sense."""
        try:
            yield
        except InputError:
            raise
        except ODD as error:
            remedy = "Restore a backup; the file was not touched"
            raise InputError(f"damaged: {error}", place=str(self.path), remedy=remedy) from error

    def close(self) -> None:
        """Close the file; harmless when it is."""
        with self._lock:
            self._db.close()
            for end in ("journal", "shm"):  # empty, or of a log that is no longer there
                left = self.path.with_name(f"{self.path.name}-{end}")
                if left.exists() and (end == "shm" or not left.stat().st_size):
                    left.unlink()

    @property
    def name(self) -> str:
        """What the project is called."""
        with self._told():
            row = self._db.execute("SELECT value FROM meta WHERE key = 'name'").fetchone()
        return row[0] if row and isinstance(row[0], str) else self.path.stem

    # Axes

    def save_axis(self, name: str, toml: str, label: str) -> None:
        """Keep a state of an axis; earlier ones stay."""
        with self._written():
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
            rows = self._db.execute(query).fetchall()
        with self._decoded():
            return {text(name): text(toml) for name, toml in rows}

    def rename_axis(self, old: str, new: str) -> None:
        """Give an axis another name, in every state and run of it, and in what was on screen."""
        with self._written():
            self._db.execute("UPDATE axis_state SET axis = ? WHERE axis = ?", (new, old))
            self._db.execute("UPDATE run SET axis = ? WHERE axis = ?", (new, old))
            rows = self._db.execute("SELECT key FROM view").fetchall()
            for (key,) in rows:
                if isinstance(key, str) and key.startswith(f"{old}/"):
                    renamed = f"{new}/{key.removeprefix(f'{old}/')}"
                    self._db.execute("UPDATE OR REPLACE view SET key = ? WHERE key = ?",
                                     (renamed, key))  # fmt: skip

    def copy_to(self, path: Path) -> None:
        """Write the whole project to another file: all of it, or none.

        Raises
        ------
        InputError : it exists, or cannot be written

        """
        with new_file(path) as aside, self._told():
            self._db.execute("VACUUM INTO ?", (str(aside),))

    # The logbook

    def add_run(self, run: Run, record: Record | None) -> None:
        """Keep a run with its record, under the number it has."""
        names = ("id", *RUN_FIELDS)
        marks = ", ".join("?" * len(names))
        values = [plain(getattr(run, name)) for name in names]
        data = packed(record) if record is not None else []  # takes its time: no lock is held
        with self._written():
            self._db.execute(f"INSERT INTO run ({', '.join(names)}) VALUES ({marks})", values)
            if record is not None:
                row = (run.id, record.experiment, record.sample_time, plain(record.settings),
                       record.drive, record.date, record.ended)  # fmt: skip
                self._db.execute("INSERT INTO record VALUES (?, ?, ?, ?, ?, ?, ?)", row)
                if record.trip or record.sums is not None:
                    told = (run.id, *summed(record))
                    self._db.execute("INSERT INTO outcome VALUES (?, ?, ?, ?)", told)
                self._db.executemany(
                    "INSERT INTO channel VALUES (?, ?, ?, ?, ?, ?)",
                    [(run.id, *channel) for channel in data],
                )

    def next_run(self) -> int:
        """Return the number that the next run may have."""
        with self._told():
            row = self._db.execute("SELECT coalesce(max(id), 0) + 1 FROM run").fetchone()
        return int(row[0])

    def change_run(self, number: int, **changes: object) -> None:
        """Change what a user may change of a run: note, pin, star, use; and its reading."""
        strange = set(changes) - _CHANGEABLE
        if strange:
            raise ValueError(f"cannot change {strange}")
        with self._written():
            for name, value in changes.items():
                self._db.execute(
                    f"UPDATE run SET {name} = ? WHERE id = ?",
                    (plain(value), number),
                )

    def runs(self, axis: str) -> list[Run]:
        """Return the logbook of an axis, oldest first."""
        names = ", ".join(("id", *RUN_FIELDS))
        query = f"SELECT {names} FROM run WHERE axis = ? ORDER BY id"
        with self._told():
            rows = self._db.execute(query, (axis,)).fetchall()
        with self._decoded():
            return [run_of(row) for row in rows]

    def record(self, number: int) -> Record | None:
        """Return a run's record, or None where it has none."""
        with self._told():
            row = self._db.execute("SELECT * FROM record WHERE run = ?", (number,)).fetchone()
            channels = self._db.execute(
                "SELECT name, unit, type, data FROM channel WHERE run = ? ORDER BY position",
                (number,),
            ).fetchall()
            outcome = self._db.execute(
                "SELECT trip, channels, sums FROM outcome WHERE run = ?", (number,)
            ).fetchone()
        if row is None:
            return None
        with self._decoded():
            return record_of(row, channels, outcome)

    # What was on screen

    def set_view(self, key: str, value: object) -> None:
        """Keep something of the screen's state."""
        with self._written():
            self._db.execute("INSERT OR REPLACE INTO view VALUES (?, ?)", (key, json.dumps(value)))

    def view(self) -> dict[str, Plain]:
        """Return the kept state of the screen."""
        with self._told():
            rows = self._db.execute("SELECT key, value FROM view").fetchall()
        found = {}
        for key, value in rows:
            with contextlib.suppress(ValueError, TypeError, RecursionError):
                found[text(key)] = json.loads(text(value))  # what is odd there is not missed
        return found
