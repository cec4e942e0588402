"""The command line. Exit status: 0 done, 1 a check failed, 2 bad input, 3 the link failed.

One file for each command, and its line in `COMMANDS`.
"""

from collections.abc import Sequence

import click

from oarlock.cli import associate, demo, handover, identify, practice_drive, simulate, tune, window
from oarlock.errors import LinkError, OarlockError

COMMANDS: list[click.Command] = [
    window.open_project,
    demo.demo,
    practice_drive.practice_drive,
    identify.identify,
    tune.tune,
    handover.handover,
    simulate.simulate,
    associate.associate,
]


class _Default(click.Group):
    """A group that takes anything which is no command for a project to open."""

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args and args[0] not in self.commands and not args[0].startswith("-"):
            args = ["open", *args]
        return super().resolve_command(ctx, args)


def group(commands: Sequence[click.Command]) -> click.Group:
    """Return the program with these commands."""

    @click.group(cls=_Default, invoke_without_command=True)
    @click.version_option(package_name="oarlock")
    @click.pass_context
    def cli(context: click.Context) -> None:
        """Identify a permanent-magnet motor, tune its loops, prove them, hand the gains over."""
        if context.invoked_subcommand is None:
            context.exit(window.run(None))

    for command in commands:
        cli.add_command(command)
    return cli


def main(arguments: Sequence[str] | None = None) -> int:
    """Run a command; whatever a user got wrong ends in one line."""
    try:
        result = group(COMMANDS).main(
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
