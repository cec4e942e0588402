"""Rehearse a scenario on the machine as the axis describes it."""

import json
import math
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING

import click

from oarlock.cli.output import finite

if TYPE_CHECKING:
    from oarlock.machine import Axis
    from oarlock.rehearse.figures import RehearsalFigures
    from oarlock.rehearse.run import Rehearsal


@click.command()
@click.argument("axis_file", type=click.Path(path_type=Path))
@click.argument("scenario_file", type=click.Path(path_type=Path))
@click.option("--csv", "csv", type=click.Path(path_type=Path), help="Channels over bins.")
@click.option("--json", "as_json", is_flag=True, help="One object on standard output.")
@click.option("--seed", type=int, default=0, help="Of the current sense's noise.")
def simulate(
    axis_file: Path, scenario_file: Path, csv: Path | None, as_json: bool, seed: int
) -> int:
    """Simulate a scenario with the axis's own loops, average inverter, and print its figures."""
    from oarlock.machine.axis_file import read_axis
    from oarlock.rehearse.figures import figures_of
    from oarlock.rehearse.run import rehearse
    from oarlock.rehearse.scenario import read_scenario

    axis, scenario = read_axis(axis_file), read_scenario(scenario_file)
    run = rehearse(scenario, axis, seed=seed)
    told = figures_of(run, axis)
    if csv is not None:
        from oarlock.records.csv_file import write_record

        write_record(csv, _record(run, axis))
    if as_json:
        click.echo(json.dumps(finite(asdict(told)), allow_nan=False))
    else:
        _print(scenario.name, told)
    return 0 if run.ended == "done" else 1


def _record(run: "Rehearsal", axis: "Axis"):  # type: ignore[no-untyped-def]  # Record
    from oarlock.records import Record
    from oarlock.rehearse.run import COLUMNS, UNITS

    columns, units = {"t": run.t}, {"t": "s"}
    for name in COLUMNS:
        for kind, table in (("", run.mean), ("_least", run.least), ("_most", run.most)):
            columns[f"{name}{kind}"], units[f"{name}{kind}"] = table[name], UNITS[name]
    settings = {"scenario": run.scenario.name}
    return Record(experiment="rehearsal", sample_time=axis.inverter.Ts, columns=columns,
                  units=units, settings=settings, ended=run.ended)  # fmt: skip


def _print(name: str, told: "RehearsalFigures") -> None:
    from oarlock.quantities.kinds import RPM

    rows = [
        ("ended", told.ended),
        ("simulated", f"{told.seconds:.3g} s"),
        ("top speed", f"{told.top_speed / RPM:.0f} rpm"),
        ("current", f"{told.peak_current:.3g} A peak, {told.rms_current:.3g} A rms"),
        ("copper loss", f"{told.copper_loss:.3g} W"),
        ("voltage", f"{100 * told.voltage:.0f} % of the bus at most, "
                    f"{100 * told.saturated:.1f} % of the time at its limit"),
    ]  # fmt: skip
    if not math.isnan(told.following_peak):
        peak, rms = (math.degrees(x) for x in (told.following_peak, told.following_rms))
        rows.append(("following error", f"{peak:.3g}° peak, {rms:.3g}° rms"))
    click.echo(f"{name}: averaged inverter, ideal sensor as fine as the axis's")
    for label, text in rows:
        click.echo(f"  {label:16}{text}")
    for point in told.points:
        past = "" if math.isnan(point.overshoot) else f", {100 * point.overshoot:.1f} % over"
        click.echo(f"  at {point.at:<7g} s     asked {point.asked:.4g}, "
                   f"reached {point.reached:.4g}{past}")  # fmt: skip
