"""Projects of the demo for tests: each is made once, then copied."""

import atexit
import functools
import shutil
import sqlite3
import tempfile
from contextlib import closing
from pathlib import Path

from oarlock.demo.project import make_demo
from oarlock.machine import Axis
from oarlock.machine.axis_file import format_axis
from oarlock.store.project import Project


@functools.cache
def _made(axis: Axis | None) -> Path:
    """Make the demo's project, one of its axes as given; it stays until the tests end."""
    folder = Path(tempfile.mkdtemp(prefix="oarlock-demo-"))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    path = make_demo(folder)
    if axis is not None:
        project = Project.open(path)
        project.save_axis(axis.name, format_axis(axis), "known")
        project.close()
    return path


def demo_with(axis: Axis | None, folder: Path) -> Path:
    """Return the demo's project in a new folder, one of its axes as given."""
    made = _made(axis)
    copy = Path(shutil.copytree(made.parent, folder)) / made.name
    with closing(sqlite3.connect(copy)) as file, file:  # headers lie beside the copy
        moved = (str(made.parent), str(folder))
        file.execute("UPDATE view SET value = replace(value, ?, ?)", moved)
    return copy
