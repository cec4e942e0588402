"""The SQLite file under a project: opened untrusted, whole after each commit, errors in one line.

A rollback journal is used, not a write-ahead log: between two commits the one file holds all, so
that a copy of it, made while it is open or after a crash, lacks nothing.
"""

import contextlib
import os
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from oarlock.errors import InputError
from oarlock.files import cannot
from oarlock.store.migrations import APPLICATION_ID, SCHEMAS

# What a damaged file makes the library raise; an error's own text may be damaged, too.
BROKEN = (sqlite3.Error, UnicodeDecodeError, KeyError, OverflowError, MemoryError)
MOST_BYTES = 512_000_000  # of one text or blob in a file from elsewhere
_SHARED = bytes.fromhex("d9d505f920a163d7")  # at the end of a journal that names another file
_BACKUP = "Restore a backup; the file was not touched"


def refuse_strangers(path: Path, newest: int) -> None:
    """Refuse, without touching it, a file that this version cannot read as a project.

    Nothing of the file but its header and its list of tables is looked at: a table that is not
    the format's, a view or a trigger of its own would run when the file is used. Where a process
    was killed in the middle of a commit, its half is taken back first: nothing can be read before.

    Raises
    ------
    InputError : no project, of a later version, or with anything besides the format's tables

    """
    try:
        try:
            _refuse_strange(path, newest, "ro")
        except sqlite3.OperationalError as error:
            if getattr(error, "sqlite_errorcode", 0) != sqlite3.SQLITE_READONLY_ROLLBACK:
                raise
            _refuse_shared_journal(path)
            _refuse_strange(path, newest, "rw")
    except BROKEN as error:
        raise translated(error, path) from error


def _refuse_strange(path: Path, newest: int, mode: str) -> None:
    db = sqlite3.connect(f"{path.resolve().as_uri()}?mode={mode}", uri=True, timeout=0.5)
    try:
        _distrust(db)
        (application,) = db.execute("PRAGMA application_id").fetchone()
        (version,) = db.execute("PRAGMA user_version").fetchone()
        if application != APPLICATION_ID:
            raise InputError("this is not a project", place=str(path),
                             remedy="Choose a file that ends in .oarlock")  # fmt: skip
        if version > newest:
            cause = f"written by a later version (format {version}, this one reads {newest})"
            raise InputError(cause, place=str(path), remedy="Use that version")
        _refuse_schema(db, version, path)
    finally:
        db.close()


def _refuse_shared_journal(path: Path) -> None:
    """Refuse a journal that names another file: taking a commit back would delete that one.

    A commit over several files ends its journals with such a name and eight bytes that mark it
    (sqlite.org/fileformat2.html, section 3); a project is one file.
    """
    journal = path.with_name(f"{path.name}-journal")
    if journal.read_bytes()[-len(_SHARED) :] == _SHARED:
        raise InputError(f"the journal beside it, {journal.name}, is not this file's alone",
                         place=str(path), remedy="Move the journal away")  # fmt: skip


def _refuse_schema(db: sqlite3.Connection, version: int, path: Path) -> None:
    found = schema(db)
    if version not in SCHEMAS:
        raise InputError(f"format {version} is not known", place=str(path), remedy=_BACKUP)
    expected = expected_schema(version)
    for row in found:
        if row not in expected:
            cause = f"it holds a {row[0]} '{row[1]}' that is not of this format"
            raise InputError(cause, place=str(path), remedy="Ask its sender; it was not opened")
    for row in expected:
        if row not in found:
            raise InputError(f"damaged: no {row[0]} {row[1]}", place=str(path), remedy=_BACKUP)


Row = tuple[str, str, str, str]


def schema(db: sqlite3.Connection) -> set[Row]:
    """Return (type, name, table, SQL with plain blanks) of everything that a database defines."""
    rows = db.execute("SELECT type, name, tbl_name, sql FROM sqlite_master").fetchall()
    return {(str(t), str(n), str(of), " ".join(str(sql or "").split())) for t, n, of, sql in rows}


def expected_schema(version: int) -> set[Row]:
    """Return what a project of a version defines, as `schema` would."""
    db = sqlite3.connect(":memory:")
    try:
        db.executescript(SCHEMAS[version])
        return schema(db)
    finally:
        db.close()


def _distrust(db: sqlite3.Connection) -> None:
    """Set what keeps a file from elsewhere from doing more than hold data."""
    db.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, MOST_BYTES)
    db.execute("PRAGMA trusted_schema = OFF")
    db.execute("PRAGMA cell_size_check = ON")
    db.execute("PRAGMA mmap_size = 0")


def connect(path: Path) -> sqlite3.Connection:
    """Return a connection that owns the file: a second window is refused, whoever comes first.

    Raises
    ------
    InputError : it is open elsewhere, read-only, or cannot be opened

    """
    try:
        db = sqlite3.connect(path, timeout=0.5, check_same_thread=False)
    except BROKEN as error:
        raise translated(error, path) from error
    try:
        _distrust(db)
        db.execute("PRAGMA synchronous = FULL")
        db.execute("PRAGMA foreign_keys = ON")
        # The lock first, and kept from then on. Kept from the start, two that come at once would
        # each hold the half of it that the other one needs.
        db.execute("BEGIN EXCLUSIVE")
        db.execute("PRAGMA locking_mode = EXCLUSIVE")
        db.execute("PRAGMA user_version").fetchone()
        db.rollback()
        db.execute("PRAGMA journal_mode = TRUNCATE")
    except BROKEN as error:
        db.close()
        raise translated(error, path) from error
    return db


def connect_to_read(path: Path) -> sqlite3.Connection:
    """Return a connection that writes nothing and keeps no lock; errors as `connect`."""
    try:
        db = sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro", uri=True, timeout=0.1,
                             check_same_thread=False)  # fmt: skip
        _distrust(db)
    except BROKEN as error:
        raise translated(error, path) from error
    return db


def write_anew(db: sqlite3.Connection, path: Path) -> None:
    """Write all that an open database holds to a file at `path`, where there is none any more.

    Raises
    ------
    InputError : something else is there now, or it cannot be written

    """
    try:
        with _written_aside(path) as aside, contextlib.closing(sqlite3.connect(aside)) as copy:
            db.backup(copy)
    except OSError as error:
        raise InputError(f"deleted while open, and cannot be written anew: {error.strerror}",
                         place=str(path), remedy="Bring its folder back") from error  # fmt: skip
    except sqlite3.Error as error:
        raise translated(error, path) from error


@contextmanager
def new_file(path: Path) -> Iterator[Path]:
    """Give a file to write what is to stand at `path`, which it does once it is whole and synced.

    Raises
    ------
    InputError : an existing file, or one that cannot be written

    """
    taken = InputError("this file exists", place=str(path), remedy="Choose another name")
    if path.exists():
        raise taken
    try:
        with _written_aside(path) as aside:
            yield aside
    except FileExistsError as error:
        raise taken from error
    except OSError as error:
        raise cannot(error, path, "write") from error


@contextmanager
def _written_aside(path: Path) -> Iterator[Path]:
    """Give a file beside `path` to write; without an error it gets the name at the end."""
    _clear_leftovers(path)
    aside = path.with_name(f".{path.name}.{os.getpid()}.new")
    try:
        aside.unlink(missing_ok=True)
        yield aside
        _publish(aside, path)
    finally:
        aside.unlink(missing_ok=True)
        aside.with_name(f"{aside.name}-journal").unlink(missing_ok=True)


def _clear_leftovers(path: Path) -> None:
    """Take away what was left of files whose writing was killed."""
    for left in path.parent.glob(f".{path.name}.*.new*"):
        owner = left.name.removeprefix(f".{path.name}.").partition(".")[0]
        if owner.isdigit() and not Path(f"/proc/{owner}").exists():
            left.unlink(missing_ok=True)


def _publish(aside: Path, path: Path) -> None:
    """Give a whole file that was written aside its name, unless that is taken; OSError if it is."""
    with aside.open("rb") as file:
        os.fsync(file.fileno())
    try:
        os.link(aside, path)  # unlike a rename, this replaces nothing
    except FileExistsError:
        raise
    except OSError:  # a file system without links
        if path.exists():
            raise
        aside.rename(path)
    handle = os.open(path.parent, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


_CAUSES: tuple[tuple[str, str, str], ...] = (
    ("full", "the disk is full", "Make room; nothing that was saved is lost"),
    ("readonly", "the file is read-only", "Allow writing to it and its folder"),
    ("locked", "it is open in another window", "Close it there first"),
    ("not a database", "this is not a project", "Choose a file that ends in .oarlock"),
    ("unable to open", "cannot be opened", "Check folder and permissions"),
    ("malformed", "the file is damaged", _BACKUP),
    ("too big", "a value in it is too large", _BACKUP),
    ("disk i/o", "the disk does not answer", "Check the disk"),
)


def translated(error: Exception, path: Path) -> InputError:
    """Return what the library says in one line with its place and remedy."""
    text = str(error).lower() if isinstance(error, sqlite3.Error) else "malformed"
    name = getattr(error, "sqlite_errorname", "") or ""
    if name.startswith("SQLITE_READONLY") or (name.startswith("SQLITE_IOERR") and _sealed(path)):
        text = "readonly"
    for word, cause, remedy in _CAUSES:
        if word in text:
            return InputError(cause, place=str(path), remedy=remedy)
    return InputError(str(error), place=str(path), remedy="Save under another name")


def _sealed(path: Path) -> bool:
    """Return whether the file or its folder may not be written."""
    return (path.exists() and not os.access(path, os.W_OK)) or not os.access(path.parent, os.W_OK)
