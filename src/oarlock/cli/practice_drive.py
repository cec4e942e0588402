"""The simulated drive alone."""

import os
import sys
from collections.abc import Sequence

import click


@click.command(
    "practice-drive", context_settings={"ignore_unknown_options": True, "help_option_names": []}
)
@click.argument("arguments", nargs=-1, type=click.UNPROCESSED)
def practice_drive(arguments: Sequence[str]) -> int:
    """Run the simulated drive alone."""
    command = [sys.executable, "-m", "oarlock.practice", *arguments]
    os.execv(sys.executable, command)
