"""Estimates from recordings."""

import json
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import click

from oarlock.cli.output import finite
from oarlock.cli.recordings import Asked
from oarlock.errors import InputError


@click.command()
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
    asked = Asked(quantity, columns, settings, counts, phase, sample_time, accuracy)
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
        click.echo(json.dumps(finite({"findings": told, "holds": ok}), allow_nan=False))
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
        "checks": [
            {"name": c.code, "passed": c.passed, "sentence": c.sentence} for c in finding.checks
        ],
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
