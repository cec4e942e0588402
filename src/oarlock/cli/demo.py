"""The demo: in the window, or its whole job headless."""

import os
from pathlib import Path

import click

from oarlock.cli import window


def _has_display() -> bool:
    platform = os.environ.get("QT_QPA_PLATFORM", "")
    return bool(platform or os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY"))


@click.command()
@click.option("--headless", is_flag=True, help="The whole job, no window.")
@click.option("--out", type=click.Path(path_type=Path), help="Where results go.")
@click.option("--fresh", is_flag=True, help="Begin the demo anew.")
@click.option("--seed", type=int, default=0, help="Which practice drive.")
def demo(headless: bool, out: Path | None, fresh: bool, seed: int) -> int:
    """Open the demo with a practice drive running, or do its whole job headless."""
    from oarlock.demo.project import default_folder, make_demo

    if not headless and not _has_display():
        click.echo("No display here: doing the same job headless.", err=True)
        headless = True
    if headless:
        return _headless(out or Path("demo-out"), seed)
    folder = out or default_folder()
    if fresh:
        _set_aside(folder)
    return window.run(make_demo(folder), practice=True)


def _set_aside(folder: Path) -> None:
    """Rename an earlier demo, so that nothing anybody did in it is lost."""
    if folder.exists():
        number = 1
        while (kept := folder.with_name(f"{folder.name}-{number}")).exists():
            number += 1
        folder.rename(kept)
        click.echo(f"The earlier demo is kept in {kept}", err=True)


def _headless(folder: Path, seed: int) -> int:
    from oarlock.demo.job import run_job

    if folder.exists() and any(folder.iterdir()):
        _set_aside(folder)
    status = run_job(folder, click.echo, seed=seed)
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from oarlock.ui.frame.screenshots import take_screenshots

    pictures = take_screenshots(folder / "river-survey.oarlock", folder)
    click.echo(f"wrote   project, records, headers and {len(pictures)} pictures to {folder}")
    return status
