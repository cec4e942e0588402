"""Opening a project in the window."""

import gc
from pathlib import Path

import click


@click.command("open", hidden=True)
@click.argument("project", type=click.Path(path_type=Path))
def open_project(project: Path) -> int:
    """Open a project in the window; an axis file becomes a project beside it."""
    if project.suffix == ".toml":
        from oarlock.session.new_project import project_beside

        project = project_beside(project)
    return run(project)


def run(project: Path | None, *, practice: bool = False) -> int:
    """Open a project, or the start page where there is none, and stay until the window closes."""
    gc.disable()  # until the window stands: what loads now stays
    from oarlock.demo.project import FILE, default_folder, make_demo
    from oarlock.ui.frame.program import Demo, run_program

    demo = Demo(default_folder() / FILE, lambda: make_demo(default_folder()))
    return run_program(project, demo, practice=practice)
