"""The command line. Exit status: 0 done, 1 a check failed, 2 bad input, 3 the link failed."""

import json
import os
import sys
from collections.abc import Sequence
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

import click

from oarlock.errors import InputError, LinkError, OarlockError


class _Default(click.Group):
    """A group that takes anything which is no command for a project to open."""

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args and args[0] not in self.commands and not args[0].startswith("-"):
            args = ["open", *args]
        return super().resolve_command(ctx, args)


@click.group(cls=_Default, invoke_without_command=True)
@click.version_option(package_name="oarlock")
@click.pass_context
def cli(context: click.Context) -> None:
    """Identify a permanent-magnet motor, tune its loops, prove them, hand the gains over."""
    if context.invoked_subcommand is None:
        context.exit(_window(None))


@cli.command("open", hidden=True)
@click.argument("project", type=click.Path(path_type=Path))
def open_project(project: Path) -> int:
    """Open a project in the window; an axis file becomes a project beside it."""
    if project.suffix == ".toml":
        project = _project_of(project)
    return _window(project)


def _project_of(axis_file: Path) -> Path:
    """Return the project beside an axis file, made from it where there is none yet."""
    from oarlock.machine.axis_file import format_axis, read_axis
    from oarlock.store.project import Project

    name = axis_file.name.removesuffix(".toml").removesuffix(".axis")
    path = axis_file.with_name(f"{name}.oarlock")
    axis = read_axis(axis_file)
    if not path.exists():
        project = Project.create(path, name)
        project.save_axis(axis.name, format_axis(axis), f"from {axis_file.name}")
        project.close()
    return path


def _window(project: Path | None, *, practice: bool = False) -> int:
    from oarlock.ui.app import run_window

    if project is None:
        from oarlock.demo.project import default_folder, make_demo

        project, practice = make_demo(default_folder()), True
    return run_window(project, practice=practice)


def _has_display() -> bool:
    platform = os.environ.get("QT_QPA_PLATFORM", "")
    return bool(platform or os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY"))


@cli.command()
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
    return _window(make_demo(folder), practice=True)


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
    from oarlock.ui.screenshots import take_screenshots

    pictures = take_screenshots(folder / "river-survey.oarlock", folder)
    click.echo(f"wrote   project, records, headers and {len(pictures)} pictures to {folder}")
    return status


@cli.command(
    "practice-drive", context_settings={"ignore_unknown_options": True, "help_option_names": []}
)
@click.argument("arguments", nargs=-1, type=click.UNPROCESSED)
def practice_drive(arguments: Sequence[str]) -> int:
    """Run the simulated drive alone."""
    command = [sys.executable, "-m", "oarlock.practice", *arguments]
    os.execv(sys.executable, command)


@cli.command()
@click.argument("axis_file", type=click.Path(path_type=Path))
@click.argument("records", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--json", "as_json", is_flag=True, help="One object on standard output.")
@click.option("--out", type=click.Path(path_type=Path), help="The axis with what was found.")
def identify(
    axis_file: Path,
    records: Sequence[Path],
    as_json: bool,
    out: Path | None,
) -> int:
    """Estimate from recordings, with uncertainty and checks."""
    from oarlock.machine.axis_file import format_axis, read_axis
    from oarlock.records import Finding
    from oarlock.records.csv_file import read_record
    from oarlock.session.perform import read

    axis, told, ok = read_axis(axis_file), [], True
    for path in records:
        try:
            finding = read(read_record(path), axis, axis.gains)
        except InputError as error:
            raise (error if str(path) in error.place else error.at(str(path))) from error
        if not isinstance(finding, Finding):
            raise InputError("this record identifies nothing", place=str(path))
        ok = ok and finding.holds
        told.append(_finding_told(path, finding))
        if finding.holds:
            for name, estimate in finding.estimates.items():
                found = replace(estimate, source=path.name)
                axis = axis.adopting(name, found)
    if out:
        from oarlock.files import write_atomic

        write_atomic(out, format_axis(axis).encode())
    if as_json:
        click.echo(json.dumps({"findings": told, "holds": ok}))
    else:
        for finding_told in told:
            _print_finding(finding_told)
    return 0 if ok else 1


def _finding_told(path: Path, finding: Any) -> dict[str, Any]:
    return {
        "record": str(path),
        "quantity": finding.quantity,
        "estimates": {
            name: {"value": e.value, "std": e.std, "unit": e.unit}
            for name, e in (*finding.estimates.items(), *finding.extra.items())
        },
        "checks": [asdict(check) for check in finding.checks],
        "holds": finding.holds,
    }


def _print_finding(told: dict[str, Any]) -> None:
    from oarlock.quantities.display import with_std

    click.echo(f"{told['record']}: {told['quantity']}")
    for name, e in told["estimates"].items():
        number, plus, unit = with_std(e["value"], e["std"], e["unit"])
        click.echo(f"  {name:24}{number:>10} {unit:5}{'± ' + plus if plus else ''}")
    for check in told["checks"]:
        click.echo(f"  {'holds ' if check['passed'] else 'FAILS '} {check['sentence']}")


@cli.command()
@click.argument("axis_file", type=click.Path(path_type=Path))
@click.option("--json", "as_json", is_flag=True, help="One object on standard output.")
@click.option("--out", type=click.Path(path_type=Path), help="The axis with its gains.")
def tune(axis_file: Path, as_json: bool, out: Path | None) -> int:
    """Compute gains and figures of the current loop."""
    import math

    from oarlock.control.design import design_current
    from oarlock.machine.axis_file import format_axis, read_axis

    axis = read_axis(axis_file)
    try:
        design = design_current(axis)
    except InputError as error:
        raise error.at(f"{axis_file}, [targets.current]") from error
    if out:
        from oarlock.files import write_atomic

        write_atomic(out, format_axis(replace(axis, gains=design.gains)).encode())
    m = design.margins
    told = {
        "gains": asdict(design.gains),
        "crossover_Hz": m.crossover / math.tau,
        "bandwidth_Hz": m.bandwidth / math.tau,
        "phase_margin_deg": math.degrees(m.phase_margin),
        "gain_margin_dB": 20.0 * math.log10(m.gain_margin),
        "Ms": m.Ms,
        "stable": m.stable,
    }
    if as_json:
        click.echo(json.dumps({"current": told}))
    else:
        for name, value in {**asdict(design.gains), **told}.items():
            if isinstance(value, bool | int | float):
                click.echo(
                    f"{name:18}{value:>12.6g}" if value is not True else f"{name:18}{'yes':>12}"
                )
    return 0 if m.stable else 1


@cli.command()
@click.argument("axis_file", type=click.Path(path_type=Path))
@click.option("--format", "form", type=click.Choice(["c-float"]), default="c-float")
@click.option("--out", type=click.Path(path_type=Path), help="The new file.")
@click.option("--update", type=click.Path(path_type=Path), help="An existing file to change.")
@click.option("--map", "map_file", type=click.Path(path_type=Path), help="Symbol = value, TOML.")
@click.option("--dry-run", is_flag=True, help="Show the difference, write nothing.")
def handover(
    axis_file: Path,
    form: str,
    out: Path | None,
    update: Path | None,
    map_file: Path | None,
    dry_run: bool,
) -> int:
    """Write a new header, or new values into an existing one."""
    from oarlock.files import read_text, write_atomic
    from oarlock.handover.header import default_map, header
    from oarlock.handover.patch import patch_file, read_map
    from oarlock.handover.values import handover_values
    from oarlock.machine.axis_file import read_axis

    del form  # one so far
    if (out is None) == (update is None):
        raise click.UsageError("give either --out or --update")
    axis = read_axis(axis_file)
    if out is not None:
        text = header(axis)
        if dry_run:
            click.echo(text, nl=False)
        else:
            write_atomic(out, text.encode())
        return 0
    if update is None:
        return 2
    values = handover_values(axis)
    mapping = read_map(map_file) if map_file else default_map(read_text(update), values)
    patch = patch_file(update, mapping, values)
    click.echo(patch.diff(), nl=False)
    if not dry_run and patch.after != patch.before:
        kept = patch.write()
        click.echo(f"wrote {update}; before: {kept}", err=True)
    return 0


def main(arguments: Sequence[str] | None = None) -> int:
    """Run a command; whatever a user got wrong ends in one line."""
    try:
        result = cli.main(
            args=None if arguments is None else list(arguments),
            prog_name="oarlock",
            standalone_mode=False,
        )
    except click.ClickException as error:
        click.echo(f"oarlock: {error.format_message()}. See 'oarlock --help'", err=True)
        return 2
    except click.Abort:
        return 130
    except LinkError as error:
        click.echo(f"oarlock: {error}", err=True)
        return 3
    except OarlockError as error:
        click.echo(f"oarlock: {error}", err=True)
        return 2
    except BrokenPipeError:
        return 1
    return int(result or 0)


if __name__ == "__main__":
    sys.exit(main())
