"""Opening a project in the window."""

import gc
from pathlib import Path

import click


@click.command("open", hidden=True)
@click.argument("project", type=click.Path(path_type=Path))
def open_project(project: Path) -> int:
    """Open a project in the window; an axis file becomes a project beside it."""
    if project.suffix == ".toml":
        project = _project_of(project)
    return run(project)


def _project_of(axis_file: Path) -> Path:
    """Return the project beside an axis file, made from it where there is none yet."""
    from oarlock.files import shown
    from oarlock.machine.axis_file import format_axis, read_axis
    from oarlock.store.project import Project

    name = axis_file.name.removesuffix(".toml").removesuffix(".axis")
    path = axis_file.with_name(f"{name}.oarlock")
    axis = read_axis(axis_file)
    if not path.exists():
        label = f"from {shown(Path(axis_file.name))}"
        Project.make(path, name, lambda p: p.save_axis(axis.name, format_axis(axis), label))
    return path


def run(project: Path | None, *, practice: bool = False) -> int:
    """Open a project, or the demo where there is none, and stay until the window closes."""
    gc.disable()  # until the window stands: what loads now stays
    from oarlock.ui.frame.app import run_window

    if project is None:
        from oarlock.demo.project import default_folder, make_demo

        project, practice = make_demo(default_folder()), True
    return run_window(project, practice=practice)
