"""Make a project of the demo: the winch's axis file, and its firmware header beside it."""

import importlib.resources
from pathlib import Path

from oarlock.files import write_atomic
from oarlock.machine.axis_file import format_axis, parse_axis
from oarlock.store.project import Project

PROJECT_NAME = "River survey"
FILE = "river-survey.oarlock"
HEADER = "winch_gains.h"


def demo_text(name: str) -> str:
    """Return a file of the demo."""
    return (importlib.resources.files("oarlock.demo") / name).read_text(encoding="utf-8")


def make_demo(folder: Path) -> Path:
    """Make the demo project in `folder` unless it is there; return its path."""
    folder.mkdir(parents=True, exist_ok=True)
    path = folder / FILE
    header = folder / HEADER
    if not header.exists():
        write_atomic(header, demo_text(HEADER).encode())
    if not path.exists():
        project = Project.create(path, PROJECT_NAME)
        axis = parse_axis(demo_text("winch.axis.toml"), place="demo")
        project.save_axis(axis.name, format_axis(axis), "from the datasheet")
        project.set_view("header", str(header))
        project.close()
    return path


def default_folder() -> Path:
    """Return where the demo lies for this user."""
    from platformdirs import user_data_path

    return user_data_path("oarlock") / "demo"
