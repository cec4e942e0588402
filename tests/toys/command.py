"""A command: the weight of a length of cable."""

import click


@click.command("cable")
@click.argument("metres", type=float)
def cable(metres: float) -> int:
    """Weigh a length of cable."""
    click.echo(f"{0.18 * metres:.1f} kg")
    return 0
