"""The command line. Exit status: 0 done, 1 a check failed, 2 bad input, 3 the link failed."""

import gc
import json
import math
import os
import sys
from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
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


def _window(project: Path | None, *, practice: bool = False) -> int:
    gc.disable()  # until the window stands: what loads now stays
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
@click.option("--as", "quantity", help="What a recording without head is of: flux, inertia, …")
@click.option(
    "--column",
    "columns",
    multiple=True,
    metavar="CHANNEL=COLUMN[UNIT]*FACTOR",
    help="Which column is which channel, by name or number: iq=Ch2[mA], vab=CH1*10.",
)
@click.option(
    "--set",
    "settings",
    multiple=True,
    metavar="KEY=VALUE",
    help="What a head would say: frequency=1000.",
)
@click.option("--counts", type=float, default=0.0, help="Counts a turn, of angles in counts.")
@click.option("--phase", is_flag=True, help="vab is from phase to star point, not line to line.")
@click.option("--sample-time", type=float, default=0.0, help="s, where there is no time column.")
@click.option("--accuracy", default="", help="Of the instruments' gains: 0.5 % if not said.")
@click.option("--json", "as_json", is_flag=True, help="One object on standard output.")
@click.option("--out", type=click.Path(path_type=Path), help="The axis with what was found.")
def identify(
    axis_file: Path,
    records: Sequence[Path],
    quantity: str | None,
    columns: Sequence[str],
    settings: Sequence[str],
    counts: float,
    phase: bool,
    sample_time: float,
    accuracy: str,
    as_json: bool,
    out: Path | None,
) -> int:
    """Estimate from recordings, with uncertainty and checks; see docs/records.md."""
    from oarlock.machine.axis_file import format_axis, read_axis
    from oarlock.records import Finding
    from oarlock.session.perform import from_file

    axis, told, ok = read_axis(axis_file), [], True
    asked = _Asked(quantity, columns, settings, counts, phase, sample_time, accuracy)
    for path in records:
        try:
            record = asked.record(path)
            performed = from_file(record, axis)
        except InputError as error:
            raise (error if str(path) in error.place else error.at(str(path))) from error
        finding = performed.reading
        if performed.run.ended != "done":
            raise InputError(performed.run.ended.removeprefix("unreadable: "), place=str(path))
        if not isinstance(finding, Finding):
            raise InputError("this record identifies nothing", place=str(path))
        ok = ok and finding.holds
        told.append(_finding_told(path, finding))
        if finding.holds:
            for name, estimate in finding.estimates.items():
                axis = axis.adopting(name, replace(estimate, source=path.name))
    if out:
        from oarlock.files import write_atomic

        write_atomic(out, format_axis(axis).encode())
    if as_json:
        click.echo(json.dumps(_finite({"findings": told, "holds": ok}), allow_nan=False))
    else:
        for finding_told in told:
            _print_finding(finding_told)
    return 0 if ok else 1


@dataclass(frozen=True, slots=True)
class _Asked:
    """What the command line says of its recordings."""

    quantity: str | None
    columns: Sequence[str]
    settings: Sequence[str]
    counts: float
    phase: bool
    sample_time: float
    accuracy: str = ""

    def record(self, path: Path) -> Any:
        """Read one recording: by its own head, or by what is asked here."""
        from oarlock.identify.columns import form_of, wanted
        from oarlock.records.csv_file import read_record
        from oarlock.records.recording import guess, preview, recording

        seen = preview(path)
        if seen.experiment and not self.quantity:
            return read_record(path)
        if not self.quantity:
            remedy = "Name it with --as resistance, inductance_d, flux, inertia, …"
            raise InputError("its head names no experiment", place=str(path), remedy=remedy)
        given = dict(self._setting(text) for text in self.settings)
        if self.accuracy:
            given["accuracy"] = self._share(self.accuracy)
        mapping = guess(seen, self.quantity, wanted(self.quantity))
        sources = {**mapping.sources, **dict(self._source(text) for text in self.columns)}
        if self.phase and "vab" in sources:
            scale = 3.0**0.5 if self.quantity == "flux" else 2.0
            sources["vab"] = replace(sources["vab"], scale=scale * sources["vab"].scale)
        form_of(self.quantity, set(sources) | ({"t"} if self.sample_time else set()))
        mapping = replace(mapping, sources=sources, settings=given, counts=self.counts)
        return recording(seen, replace(mapping, sample_time=self.sample_time))

    @staticmethod
    def _source(text: str) -> tuple[str, Any]:
        import re

        from oarlock.records.recording import CHANNELS, Source

        pattern = r"(\w+)=([^\[\]]*?)(?:\[([^\]]*)\])?(?:\*([-+]?[0-9.]+(?:[eE][-+]?[0-9]+)?))?"
        found = re.fullmatch(pattern, text)
        if not found or found[1] not in CHANNELS:
            remedy = f"Write CHANNEL=COLUMN[UNIT]*FACTOR; channels: {', '.join(CHANNELS)}"
            raise InputError(f"'{text}' names no channel", place="--column", remedy=remedy)
        try:
            scale = float(found[4] or 1.0)
        except ValueError:
            scale = 0.0
        if not 0.0 < abs(scale) < math.inf:
            raise InputError(f"'{text}' has no factor to multiply by", place="--column",
                             remedy="Write it as in vab=CH1*10")  # fmt: skip
        return found[1], Source(found[2].strip(), found[3] or "", scale)

    @staticmethod
    def _share(text: str) -> float:
        """Return a ratio of a text such as `1%` or `0.01`."""
        plain = text.strip()
        try:
            value = float(plain.removesuffix("%")) / (100.0 if plain.endswith("%") else 1.0)
        except ValueError as error:
            raise InputError(f"'{text}' is no accuracy", place="--accuracy",
                             remedy="Write --accuracy 1%") from error  # fmt: skip
        if not 0.0 <= value < 0.2:
            raise InputError(f"'{text}' is no accuracy of an instrument", place="--accuracy",
                             remedy="Write --accuracy 1%")  # fmt: skip
        return value

    @staticmethod
    def _setting(text: str) -> tuple[str, Any]:
        key, equals, value = text.partition("=")
        try:
            numbers = [float(part) for part in value.split(",")]
        except ValueError as error:
            raise InputError(f"'{text}' gives no number", place="--set",
                             remedy="Write --set frequency=1000") from error  # fmt: skip
        if not equals:
            raise InputError(f"'{text}' gives no value", place="--set", remedy="Write KEY=VALUE")
        return key, numbers if key == "frequencies" or len(numbers) > 1 else numbers[0]


def _finite(value: Any) -> Any:
    """Return plain values with null where JSON has no such number."""
    if isinstance(value, dict):
        return {key: _finite(item) for key, item in value.items()}
    if isinstance(value, list | tuple):
        return [_finite(item) for item in value]
    return None if isinstance(value, float) and not math.isfinite(value) else value


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

    click.echo(f"{told['record']}: {told['quantity']} (± is one standard uncertainty)")
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
        click.echo(json.dumps(_finite({"current": told}), allow_nan=False))
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
