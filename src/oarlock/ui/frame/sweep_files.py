"""Measured responses to and from CSV files, for the loop on screen."""

import functools
from pathlib import Path
from typing import TYPE_CHECKING

from oarlock.errors import InputError
from oarlock.experiments.loops.current_response import CurrentSwept
from oarlock.experiments.loops.sweep_response import SweepResult
from oarlock.experiments.loops.sweep_table import as_table
from oarlock.records.csv_file import read_record, write_record
from oarlock.session.perform import Performed
from oarlock.ui.frame.palette import Command
from oarlock.ui.kit.pickers import ask_file

if TYPE_CHECKING:
    from oarlock.ui.frame.window import MainWindow

_KINDS = {"current": "current sweep", "speed": "speed sweep"}
_FILES = "Responses (*.csv);;All (*)"


def sweep_commands(window: "MainWindow") -> list[Command]:
    """Return what can be done with the sweeps of the loop on screen."""
    kind = _KINDS.get(window.current.key)
    if kind is None:
        return []
    found = [Command(f"Read a {kind} from a CSV file …", "", functools.partial(_ask, window))]
    run = window.session.now.latest(kind)
    if run is not None:
        start = str(window.session.path.parent / f"{kind.replace(' ', '-')}-{run.id}.csv")
        save = functools.partial(save_sweep, window, run.id)
        found.append(
            Command(
                f"Save the {kind} of {run.started[11:16]} as CSV …",
                "",
                lambda: ask_file(window, "Save the response", start, _FILES, save, new=True),
            )
        )
    return found


def save_sweep(window: "MainWindow", number: int, path: Path) -> None:
    """Write a run's response to a file."""
    now = window.session.now
    run, reading = now.run(number), now.readings.get(number)
    if run is None or not isinstance(reading, SweepResult | CurrentSwept):
        window.message.say("This sweep is still being read. Try again in a moment")
        return
    try:
        write_record(path, as_table(run, reading))
    except InputError as error:
        window.message.say(str(error))


def _ask(window: "MainWindow") -> None:
    folder = str(window.session.path.parent)
    ask_file(window, "Read a response", folder, _FILES, functools.partial(read_sweep, window))


def read_sweep(window: "MainWindow", path: Path) -> None:
    """Read a response into the logbook, in a job."""
    session = window.session

    def told(performed: Performed) -> None:
        if performed.reading is None:
            window.message.say(performed.run.ended)

    window.bench.read(lambda: read_record(path), session.axis, told)
