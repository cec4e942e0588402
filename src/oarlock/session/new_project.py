"""Making a project: with one axis of which nothing is known yet, or from a file."""

import re
from pathlib import Path

from oarlock.errors import InputError
from oarlock.files import shown
from oarlock.machine import Axis
from oarlock.machine.axis_file import format_axis, parse_axis, read_axis
from oarlock.store.project import Project

SUFFIX = ".oarlock"
FIRST_AXIS = "Motor 1"


def hollow(name: str) -> Axis:
    """Return an axis of which nothing is known."""
    return parse_axis(f"oarlock = 2\nname = {_quoted(name)}\n", place=name)


def _quoted(name: str) -> str:
    import json

    return json.dumps(name, ensure_ascii=False)  # a TOML basic string is written the same way


def checked_name(name: str, taken: tuple[str, ...] = ()) -> str:
    """Return a name for an axis or a project, without blanks around it.

    Raises
    ------
    InputError : empty, too long, not printable, or taken already

    """
    name = name.strip()
    if not name or len(name) > 60 or not name.isprintable() or "/" in name:
        raise InputError(f"'{name[:60]}' is no name", place="name",
                         remedy="Write up to 60 letters, no slash")  # fmt: skip
    if name.casefold() in (other.casefold() for other in taken):
        raise InputError(f"there is an axis '{name}' already", place="name",
                         remedy="Choose another name")  # fmt: skip
    return name


def file_name(name: str) -> str:
    """Return the file that a project of this name gets."""
    plain = re.sub(r"[^\w.-]+", "-", name.strip().lower()).strip("-.")
    return f"{plain or 'project'}{SUFFIX}"


def usual_folder() -> Path:
    """Return the folder in which a new project is written."""
    from platformdirs import user_documents_path

    return user_documents_path() / "Oarlock"


def make_project(path: Path, name: str, axis: Axis | None = None) -> Path:
    """Make a project with one axis and return its path.

    Parameters
    ----------
    axis : None: one of which nothing is known

    Raises
    ------
    InputError : the file exists, or cannot be written

    """
    name = checked_name(name)
    first = axis or hollow(FIRST_AXIS)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise InputError(f"this folder cannot be made: {error.strerror}", place=str(path.parent),
                         remedy="Choose another place") from error  # fmt: skip
    label = "begun" if axis is None else "from a file"
    Project.make(path, name, lambda p: p.save_axis(first.name, format_axis(first), label))
    return path


def project_beside(axis_file: Path) -> Path:
    """Return the project beside an axis file, made from it where there is none yet.

    Raises
    ------
    InputError : the file makes no sense, or the project cannot be written

    """
    name = axis_file.name.removesuffix(".toml").removesuffix(".axis")
    path = axis_file.with_name(f"{name}{SUFFIX}")
    axis = read_axis(axis_file)
    if not path.exists():
        label = f"from {shown(Path(axis_file.name))}"
        Project.make(path, name, lambda p: p.save_axis(axis.name, format_axis(axis), label))
    return path
