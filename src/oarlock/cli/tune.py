"""Gains and figures of the loops."""

import json
import math
from dataclasses import asdict
from pathlib import Path

import click

from oarlock.cli.output import finite
from oarlock.errors import InputError


@click.command()
@click.argument("axis_file", type=click.Path(path_type=Path))
@click.option("--json", "as_json", is_flag=True, help="One object on standard output.")
@click.option("--out", type=click.Path(path_type=Path), help="The axis with its gains.")
def tune(axis_file: Path, as_json: bool, out: Path | None) -> int:
    """Compute gains and figures of the current loop."""
    from oarlock.control.current import design_current
    from oarlock.machine.axis_file import format_axis, read_axis

    axis = read_axis(axis_file)
    try:
        design = design_current(axis)
    except InputError as error:
        raise error.at(f"{axis_file}, [targets.current]") from error
    if out:
        from oarlock.files import write_atomic

        write_atomic(out, format_axis(axis.with_gains(design.gains)).encode())
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
        click.echo(json.dumps(finite({"current": told}), allow_nan=False))
    else:
        for name, value in {**asdict(design.gains), **told}.items():
            if isinstance(value, bool | int | float):
                click.echo(
                    f"{name:18}{value:>12.6g}" if value is not True else f"{name:18}{'yes':>12}"
                )
    return 0 if m.stable else 1
