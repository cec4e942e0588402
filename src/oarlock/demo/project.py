"""Make a project of the demo: both axes' files, and their firmware headers beside it."""

import importlib.resources
from pathlib import Path

from oarlock.files import write_atomic
from oarlock.machine.axis_file import format_axis, parse_axis
from oarlock.store.project import Project

PROJECT_NAME = "River survey"
FILE = "river-survey.oarlock"
HEADER = "winch_gains.h"
SCENARIOS = {"winch": "lift.scenario.toml", "thruster": "passage.scenario.toml"}
_BESIDE = ("heave.scenario.toml", "heave.csv", "passage.csv", "river.csv")
# Each axis by its practice drive: axis file and header carry its name.
AXES = ("winch", "thruster")


def demo_text(name: str) -> str:
    """Return a file of the demo."""
    return (importlib.resources.files("oarlock.demo") / name).read_text(encoding="utf-8")


def make_demo(folder: Path) -> Path:
    """Make the demo project in `folder` unless it is there; return its path."""
    folder.mkdir(parents=True, exist_ok=True)
    path = folder / FILE
    for name in AXES:
        header = folder / f"{name}_gains.h"
        if not header.exists():
            write_atomic(header, demo_text(header.name).encode())
    for name in (*SCENARIOS.values(), *_BESIDE):
        if not (folder / name).exists():
            write_atomic(folder / name, demo_text(name).encode())
    if not path.exists():
        Project.make(path, PROJECT_NAME, lambda project: _fill(project, folder))
    return path


def _fill(project: Project, folder: Path) -> None:
    for name in AXES:
        axis = parse_axis(demo_text(f"{name}.axis.toml"), place="demo")
        project.save_axis(axis.name, format_axis(axis), "from the datasheet")
        project.set_view(f"{axis.name}/header", str(folder / f"{name}_gains.h"))
        project.set_view(f"{axis.name}/practice", name)
        project.set_view(f"{axis.name}/scenario", demo_text(SCENARIOS[name]))


def default_folder() -> Path:
    """Return where the demo lies for this user."""
    from platformdirs import user_data_path

    return user_data_path("oarlock") / "demo"
