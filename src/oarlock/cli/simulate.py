"""Rehearse a scenario on the machine as the axis describes it."""

import json
import math
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from oarlock.cli.output import finite

if TYPE_CHECKING:
    from oarlock.machine import Axis
    from oarlock.records import Record
    from oarlock.rehearse.figures import RehearsalFigures
    from oarlock.rehearse.run import Rehearsal
    from oarlock.rehearse.scenario import Scenario
    from oarlock.rehearse.vary import Spread, Study
    from oarlock.simulate.plant_parameters import Modulation

_SHOWN = 5  # machines that fall out


@click.command()
@click.argument("axis_file", type=click.Path(path_type=Path))
@click.argument("scenario_file", type=click.Path(path_type=Path))
@click.option("--csv", "csv", type=click.Path(path_type=Path), help="Channels over bins.")
@click.option("--vary", type=click.IntRange(2, 20_000), help="So many machines within ±.")
@click.option("--cluster", metavar="ADDRESS", help="Vary on the Dask cluster there.")
@click.option("--ripple", is_flag=True, help="What makes the torque ripple, by cause.")
@click.option("--json", "as_json", is_flag=True, help="One object on standard output.")
@click.option(
    "--inverter",
    type=click.Choice(["average", "switching"]),
    default="average",
    help="The bridge averaged over each period, or edge by edge.",
)
@click.option(
    "--modulation",
    type=click.Choice(["space-vector", "sine", "discontinuous"]),
    default="space-vector",
    help="Of a switching inverter.",
)
@click.option("--seed", type=int, default=0, help="Of the current sense's noise.")
def simulate(
    axis_file: Path,
    scenario_file: Path,
    csv: Path | None,
    vary: int | None,
    cluster: str | None,
    ripple: bool,
    as_json: bool,
    inverter: str,
    modulation: str,
    seed: int,
) -> int:
    """Simulate a scenario with the axis's own loops and print its figures."""
    from oarlock.machine.axis_file import read_axis
    from oarlock.rehearse.figures import figures_of
    from oarlock.rehearse.run import rehearse
    from oarlock.rehearse.scenario import read_scenario
    from oarlock.simulate.plant_parameters import Modulation
    from oarlock.views.rehearsal import unread

    if cluster and not vary:
        raise click.UsageError("--cluster shares out what --vary asks for: give both")
    axis, scenario = read_axis(axis_file), read_scenario(scenario_file)
    switching = Modulation(modulation.replace("-", " "))
    bridge = switching if inverter == "switching" else Modulation.AVERAGED
    run = rehearse(scenario, axis, seed=seed, bridge=bridge)
    told, unseen = figures_of(run, axis), unread(run, axis)
    if csv is not None:
        from oarlock.records.csv_file import write_record

        write_record(csv, _record(run, axis))
    many = _varied(scenario, axis, vary, told, bridge, cluster) if vary else None
    whole = run.ended == "done"  # of half a scenario no cause can be told
    made = _ripple(scenario, axis, switching, seed) if ripple and whole else None
    if as_json:
        said = asdict(told) | ({"variants": many} if many else {})
        said |= {"torque_ripple": made} if made else {}
        said |= {"sensor": unseen} if unseen else {}
        click.echo(json.dumps(finite(said), allow_nan=False))
    else:
        _print(scenario, told, bridge)
        if unseen:
            click.echo(f"{unseen}.")
        if many:
            _print_variants(many)
        if made:
            _print_ripple(made)
    all_done = many is None or many["done"] == many["count"]
    return 0 if whole and all_done else 1


def _ripple(
    scenario: "Scenario", axis: "Axis", switching: "Modulation", seed: int
) -> dict[str, float]:
    """Return the torque ripple (N·m rms), whole and of each cause alone."""
    from oarlock.rehearse.ripple import ripple_of

    found = ripple_of(scenario, axis, bridge=switching, seed=seed)
    return {"whole": found.whole} | {cause.name: cause.torque for cause in found.causes}


def _print_ripple(made: dict[str, float]) -> None:
    click.echo(f"torque ripple {made['whole']:.3g} N·m rms on a switching inverter; of each cause "
               "alone:")  # fmt: skip
    for name, torque in made.items():
        if name != "whole":
            click.echo(f"  {name:16}{torque:.3g} N·m rms")


def _varied(
    scenario: "Scenario", axis: "Axis", vary: int, told: "RehearsalFigures", bridge: "Modulation",
    address: str | None,
) -> dict[str, Any]:  # fmt: skip
    """Return what many machines within the uncertainty of the estimates come to."""
    if address is None:
        return _of_many(scenario, axis, vary, told, bridge, None)
    from oarlock.rehearse.cluster import join

    cluster = join(address)
    try:
        return _of_many(scenario, axis, vary, told, bridge, cluster.figures)
    finally:
        cluster.close()


def _of_many(
    scenario: "Scenario", axis: "Axis", vary: int, told: "RehearsalFigures", bridge: "Modulation",
    spread: "Spread | None",
) -> dict[str, Any]:  # fmt: skip
    from oarlock.rehearse.vary import study, tornado

    made = study(scenario, axis, vary, bridge=bridge, spread=spread)
    figures = ("following_peak", "peak_current", "voltage")
    quantiles = {name: [float(x) for x in made.quantiles(name)] for name in figures}
    chosen = "peak_current" if math.isnan(told.following_peak) else "following_peak"
    moved = {
        one.name: [one.low, one.high]
        for one in tornado(scenario, axis, chosen, bridge=bridge, spread=spread)
    }
    return _margins(axis, vary) | _shares(made, chosen) | _fallen(made, scenario, axis, bridge) | {
        "count": vary, "done": made.done, "quantiles_5_50_95": quantiles, "moves": chosen,
        "moved_by": moved, "std": {one.name: one.std for one in made.tolerances},
    }  # fmt: skip


def _fallen(
    made: "Study", scenario: "Scenario", axis: "Axis", bridge: "Modulation"
) -> dict[str, Any]:
    """Return which machines fall out, by what each value of them is multiplied, and what helps."""
    from oarlock.rehearse.envelope import out_of, remedy
    from oarlock.rehearse.vary import plants_of

    out = out_of(made, scenario, axis)
    machines = [{"number": n, "ended": made.figures[n].ended,
                 "factors": {tolerance.name: float(factor) for tolerance, factor
                             in zip(made.tolerances, made.factors[n], strict=True)}}
                for n in out]  # fmt: skip
    share = None
    if out and 0 not in out:
        share = remedy(scenario, axis, plants_of(axis, made.factors[list(out)]), bridge=bridge)
    return {"fall_out": machines, "acceleration_that_helps": share}


def _shares(made: "Study", chosen: str) -> dict[str, Any]:
    """Return what makes the scatter of a figure; nothing where too few machines tell it."""
    from oarlock.errors import InputError
    from oarlock.rehearse.shares import shares

    try:
        found = shares(made, chosen)
    except InputError:
        return {}
    alone = {one.name: one.share for one in found.alone}
    return {"shares": alone | {"together": found.together}, "said_of_shares": found.sentence}


def _margins(axis: "Axis", many: int) -> dict[str, Any]:
    """Return how the speed loop's margin holds on so many machines; nothing without gains."""
    from oarlock.errors import InputError
    from oarlock.rehearse.holding import holding

    try:
        found = holding(axis, many)
    except InputError:
        return {}
    kept = {"Kp": found.gains.Kp, "Ki": found.gains.Ki} if found.gains else None
    return {"speed_margin": {"nominal": found.nominal, "worst": found.worst,
                             "nominal_gain": found.nominal_gain, "worst_gain": found.worst_gain,
                             "unstable": found.unstable, "gains_that_hold": kept}}  # fmt: skip


def _print_variants(many: dict[str, Any]) -> None:
    click.echo(f"{many['count']} machines within the uncertainty: {many['done']} come to their end")
    _print_fallen(many)
    scales = {
        "following_peak": (180.0 / math.pi, "°", "following error"),
        "peak_current": (1.0, "A", "peak current"),
        "voltage": (100.0, "%", "bus in use"),
    }
    for name, values in many["quantiles_5_50_95"].items():
        scale, unit, label = scales[name]
        if not math.isnan(values[0]):
            low, middle, high = (f"{scale * value:.3g}" for value in values)
            click.echo(f"  {label:16}{middle} {unit}, nine in ten {low} to {high}")
    scale, unit, label = scales[many["moves"]]
    click.echo(f"  what moves the {label}, at two standard uncertainties each:")
    for name, (low, high) in many["moved_by"].items():
        ends = f"{scale * low:.3g} to {scale * high:.3g} {unit}"
        if math.isnan(low) or math.isnan(high):
            ends = "does not come to the end"
        click.echo(f"    {name:14}{ends}   (±{200 * many['std'][name]:.2g} %)")
    if "said_of_shares" in many:
        click.echo(f"  of the scatter of the {label}: {many['said_of_shares']}")
    found = many.get("speed_margin")
    if found:
        nominal, worst = (math.degrees(found[name]) for name in ("nominal", "worst"))
        least = (
            f"unstable on {found['unstable']}" if found["unstable"] else
            f"at worst {worst:.1f}°"
        )  # fmt: skip
        if 0.0 < found["worst_gain"] < math.inf:
            least += f" and {20.0 * math.log10(found['worst_gain']):.1f} dB"
        click.echo(f"  speed loop: {nominal:.1f}° of margin, {least}")
        if found["gains_that_hold"]:
            g = found["gains_that_hold"]
            click.echo(f"  Kp {g['Kp']:.4g}, Ki {g['Ki']:.4g} keep {nominal:.1f}° on all of them")


def _print_fallen(many: dict[str, Any]) -> None:
    """Print who falls out: of the first few what is farthest from what is believed."""
    out = many["fall_out"]
    if not out:
        return
    many_of = (
        "falls out: it ends early, or falls"
        if len(out) == 1
        else "fall out: they end early, or fall"
    )
    click.echo(f"  {len(out)} {many_of} far behind")
    for one in out[:_SHOWN]:
        apart = {name: factor - 1.0 for name, factor in one["factors"].items()
                 if many["std"][name] > 0.0}  # fmt: skip
        first = sorted(apart, key=lambda name: -abs(apart[name] / many["std"][name]))[:2]
        told = ", ".join(f"{name} {100 * apart[name]:+.2g} %" for name in first)
        ended = "" if one["ended"] == "done" else f" {one['ended']}"
        click.echo(f"    machine {one['number']:<6}{told}{ended}".replace("-", "−"))
    if len(out) > _SHOWN:
        click.echo(f"    and {len(out) - _SHOWN} more: --json lists them")
    share = many["acceleration_that_helps"]
    if share is not None:
        click.echo(f"  with {share:g} of the acceleration all of them follow")


def _record(run: "Rehearsal", axis: "Axis") -> "Record":
    from oarlock.records import Record
    from oarlock.rehearse.bins import COLUMNS, UNITS

    columns, units = {"t": run.t}, {"t": "s"}
    for name in COLUMNS:
        for kind, table in (("", run.mean), ("_least", run.least), ("_most", run.most)):
            columns[f"{name}{kind}"], units[f"{name}{kind}"] = table[name], UNITS[name]
    settings = {"scenario": run.scenario.name}
    return Record(experiment="rehearsal", sample_time=axis.inverter.Ts, columns=columns,
                  units=units, settings=settings, ended=run.ended)  # fmt: skip


def _print(scenario: "Scenario", told: "RehearsalFigures", bridge: "Modulation") -> None:
    from oarlock.quantities.kinds import RPM
    from oarlock.rehearse.scenario import Control

    rows = [
        ("ended", told.ended),
        ("simulated", f"{told.seconds:.3g} s"),
        ("top speed", f"{told.top_speed / RPM:.0f} rpm"),
        ("current", f"{told.peak_current:.3g} A peak, {told.rms_current:.3g} A rms"),
        ("copper loss", f"{told.copper_loss:.3g} W"),
        ("energy", f"{told.drawn:.3g} J from the bus, {told.returned:.3g} J back to it"),
        ("voltage", f"{100 * told.voltage:.0f} % of the bus at most, "
                    f"{100 * told.saturated:.1f} % of the time at its limit"),
    ]  # fmt: skip
    if scenario.supply is not None:
        burnt = f", {told.burnt:.3g} J in the brake resistor" if scenario.supply.brake_from else ""
        rows.append(("bus", f"{told.bus_least:.0f} to {told.bus_most:.0f} V{burnt}"))
    if not math.isnan(told.winding):
        warm = f"{told.winding:.0f} °C" if told.winding < 999.0 else "hotter and hotter"
        rows.append(("winding", f"{warm} where this is repeated for long, in air of 40 °C"))
    if not math.isnan(told.ripple):
        share = "" if math.isnan(told.distortion) else f", {100 * told.distortion:.2g} % of it"
        rows.append(("switching adds", f"{told.ripple:.3g} A rms of ripple{share}"))
    if not math.isnan(told.following_peak):
        peak, rms = (math.degrees(x) for x in (told.following_peak, told.following_rms))
        rows.append(("following error", f"{peak:.3g}° peak, {rms:.3g}° rms"))
    kind = "averaged inverter" if math.isnan(told.ripple) else f"switching inverter, {bridge}"
    click.echo(f"{scenario.name}: {kind}, ideal sensor as fine as the axis's")
    for label, text in rows:
        click.echo(f"  {label:16}{text}")
    per, unit = {
        Control.POSITION: (math.tau, "turns"), Control.SPEED: (RPM, "rpm"),
        Control.CURRENT: (1.0, "A"),
    }[scenario.control]  # fmt: skip
    for point in told.points:
        past = "" if math.isnan(point.overshoot) else f", {100 * point.overshoot:.1f} % over"
        click.echo(f"  at {point.at:<7g} s     asked {point.asked / per:.4g}, "
                   f"reached {point.reached / per:.4g} {unit}{past}")  # fmt: skip
