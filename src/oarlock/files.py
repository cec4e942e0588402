"""Read text and write files so that nothing is lost: whole or not at all, with the old one kept."""

import os
import tempfile
import tomllib
from pathlib import Path
from typing import Any

from oarlock.errors import InputError


def read_text(path: Path, *, encoding: str = "utf-8") -> str:
    """Return the text of `path`, or say in one line why it cannot be had."""
    data = read_bytes(path)
    if b"\0" in data:
        raise InputError("this is not a text file", place=str(path), remedy="Choose another file")
    try:
        return data.decode(encoding)
    except UnicodeDecodeError as error:
        line = data[: error.start].count(b"\n") + 1
        raise InputError(
            f"line {line} is not {encoding.upper()}", place=str(path), remedy="Save it as UTF-8"
        ) from error


def text_lines(text: str) -> list[str]:
    """Return the lines of a text as every reader counts them: no form feed ends one.

    `str.splitlines` would end lines at form feeds and separators, too.
    """
    lines = text.replace("\r\n", "\n").replace("\r", "\n").split("\n")
    return lines[:-1] if lines[-1] == "" else lines


def shown(path: Path) -> str:
    """Return a path as text that can be stored and printed, odd bytes of its name replaced."""
    return os.fsencode(path).decode("utf-8", errors="replace")


def parse_toml(text: str, *, place: str) -> dict[str, Any]:
    """Return what a TOML text holds.

    Raises
    ------
    InputError : not TOML, numbers of thousands of digits, or tables nested without end

    """
    try:
        return tomllib.loads(text)
    except RecursionError as error:
        raise InputError("its tables are nested too deep", place=place,
                         remedy="Write it flatter") from error  # fmt: skip
    except ValueError as error:  # the library's own error is one of these
        raise InputError(f"not TOML: {error}", place=place, remedy="Mend that line") from error


def read_bytes(path: Path) -> bytes:
    """Return the content of `path`, or say in one line why it cannot be had."""
    try:
        return path.read_bytes()
    except FileNotFoundError as error:
        raise InputError("no such file", place=str(path), remedy="Check the name") from error
    except OSError as error:
        raise cannot(error, path, "read") from error


def write_atomic(path: Path, data: bytes, *, backup: bool = True) -> Path | None:
    """Replace `path` by `data` at once; return where the old content was kept.

    The new file is written aside, synced and renamed, so that a crash leaves the old file or
    the new one, never half of either. Mode bits are kept and a symbolic link stays one.
    """
    target = path.resolve()
    kept: Path | None = None
    try:
        mode = target.stat().st_mode & 0o7777 if target.exists() else 0o644
        if target.exists() and not os.access(target, os.W_OK):
            raise InputError("the file is read-only", place=str(path), remedy="Allow writing to it")
        handle, name = tempfile.mkstemp(prefix=f".{target.name}.", dir=target.parent)
        aside = Path(name)
        try:
            with os.fdopen(handle, "wb") as file:
                file.write(data)
                file.flush()
                os.fsync(file.fileno())
            aside.chmod(mode)
            if backup and target.exists():
                kept = _keep(target)
            aside.replace(target)
        finally:
            aside.unlink(missing_ok=True)
        _sync_folder(target.parent)
    except OSError as error:
        raise cannot(error, path, "write") from error
    return kept


def _keep(target: Path) -> Path:
    number = 1
    while (kept := target.with_name(f"{target.name}.bak{number}")).exists():
        number += 1
    kept.write_bytes(target.read_bytes())
    return kept


def _sync_folder(folder: Path) -> None:
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def cannot(error: OSError, path: Path, verb: str) -> InputError:
    """Translate an operating system's error into one line with its place and remedy."""
    reason = error.strerror or type(error).__name__
    remedy = {
        28: "Make room on the disk and try again",
        13: "Check the file's permissions",
        30: "Choose a folder that can be written",
        2: "Check the folder's name",
    }.get(error.errno or 0, "Check the path")
    return InputError(f"cannot {verb}: {reason.lower()}", place=str(path), remedy=remedy)


def read_head(path: Path, size: int) -> str:
    """Return the first `size` bytes of a text file, odd bytes replaced."""
    try:
        with path.open("rb") as file:
            data = file.read(size)
    except FileNotFoundError as error:
        raise InputError("no such file", place=str(path), remedy="Check the name") from error
    except OSError as error:
        raise cannot(error, path, "read") from error
    if b"\0" in data:
        raise InputError("this is not a text file", place=str(path), remedy="Save it as text")
    return data.decode("utf-8-sig", errors="replace")
