"""Firmware configuration: written anew, or changed where it stands."""

from pathlib import Path

import click


@click.command()
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
    from oarlock.handover.patch import (
        code_only,
        patch_file,
        read_map,
        told_without_place,
        without_place,
    )
    from oarlock.handover.values import values_for
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
    named = read_map(map_file) if map_file else {}
    text = read_text(update)
    values = values_for(axis, code_only(text), named)
    mapping = named or default_map(text, values)
    patch = patch_file(update, mapping, values)
    lacking = without_place(values, mapping)
    if lacking:
        click.echo(f"{update}: no place for {told_without_place(lacking)}; firmware with it does "
                   "not do what was tuned", err=True)  # fmt: skip
    click.echo(patch.diff(), nl=False)
    if not dry_run and patch.after != patch.before:
        kept = patch.write()
        click.echo(f"wrote {update}; before: {kept}", err=True)
    return 0
