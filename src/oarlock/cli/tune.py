"""Gains and figures of the loops, from the inside out."""

import json
import math
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING

import click

from oarlock.cli.output import finite
from oarlock.errors import InputError

if TYPE_CHECKING:
    from oarlock.control.margins import Margins
    from oarlock.machine import Axis

Told = dict[str, object]


@click.command()
@click.argument("axis_file", type=click.Path(path_type=Path))
@click.option("--json", "as_json", is_flag=True, help="One object on standard output.")
@click.option("--out", type=click.Path(path_type=Path), help="The axis with its gains.")
def tune(axis_file: Path, as_json: bool, out: Path | None) -> int:
    """Compute gains and figures of the current loop, and of each outer one that has a target."""
    from oarlock.machine.axis_file import format_axis, read_axis

    axis = read_axis(axis_file)
    told: dict[str, Told] = {}
    for key, design in (("current", _current), ("speed", _speed), ("position", _position)):
        if key != "current" and axis.loops[key].target is None:
            continue
        try:
            axis, told[key] = design(axis)
        except InputError as error:
            raise error.at(f"{axis_file}, [targets.{key}]") from error
    if out:
        from oarlock.files import write_atomic

        write_atomic(out, format_axis(axis).encode())
    if as_json:
        click.echo(json.dumps(finite(told), allow_nan=False))
    else:
        _print(told)
    return 0 if all(figures["stable"] for figures in told.values()) else 1


def _current(axis: "Axis") -> "tuple[Axis, Told]":
    from oarlock.control.current import design_current

    design = design_current(axis)
    told = {"gains": asdict(design.gains), **_figures(design.margins),
            "bandwidth_Hz": design.margins.bandwidth / math.tau}  # fmt: skip
    return axis.with_gains(design.gains), told


def _speed(axis: "Axis") -> "tuple[Axis, Told]":
    import numpy as np

    from oarlock.control.speed import load_figures, tracking_bandwidth
    from oarlock.control.speed_design import Turning, design_speed, usual_speed

    loop = design_speed(axis, turning=Turning(speed=usual_speed(axis)))
    rated = axis.rated
    t = np.arange(4000, dtype=np.float64) * loop.plant.T
    load = load_figures(t, rated * loop.loaded.step(t.size))
    told = {"gains": asdict(loop.gains), **_figures(loop.margins),
            "bandwidth_Hz": tracking_bandwidth(loop) / math.tau,
            "dip_rated_rpm": load.dip * 60.0 / math.tau, "recovery_s": load.recovery}  # fmt: skip
    return axis.with_loop_gains("speed", loop.gains), told


def _position(axis: "Axis") -> "tuple[Axis, Told]":
    from oarlock.control.position import step_overshoot
    from oarlock.control.position_design import design_position

    loop = design_position(axis)
    told = {"gains": asdict(loop.gains), **_figures(loop.margins),
            "overshoot": step_overshoot(loop)}  # fmt: skip
    return axis.with_loop_gains("position", loop.gains), told


def _figures(m: "Margins") -> Told:
    return {
        "crossover_Hz": m.crossover / math.tau,
        "phase_margin_deg": math.degrees(m.phase_margin),
        "gain_margin_dB": 20.0 * math.log10(m.gain_margin)
        if math.isfinite(m.gain_margin)
        else math.inf,
        "Ms": m.Ms,
        "stable": m.stable,
    }


def _print(told: dict[str, Told]) -> None:
    """Print a line for each number; a heading where there are several loops."""
    for key, figures in told.items():
        if len(told) > 1:
            click.echo(f"[{key}]")
        gains = figures["gains"]
        rows = {**(gains if isinstance(gains, dict) else {}), **figures}
        for name, value in rows.items():
            if isinstance(value, bool):
                click.echo(f"{name:18}{'yes' if value else 'no':>12}")
            elif isinstance(value, int | float):
                click.echo(f"{name:18}{value:>12.6g}")
