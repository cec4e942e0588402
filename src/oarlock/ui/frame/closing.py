"""What is asked before the window closes: a run that goes on, changes that are not in the file."""

import functools
from typing import TYPE_CHECKING

from oarlock.session.jobs import Done, Failed, Jobs, Stopped

if TYPE_CHECKING:
    from oarlock.ui.frame.window import MainWindow

_SHORT = 0.04  # s that closing may wait for the file without saying so


def must_ask(window: "MainWindow", jobs: Jobs) -> bool:
    """Return whether closing would lose something; then the window asks, in itwindow."""
    if window.bench.busy:
        window.message.ask(
            "An experiment is running. Closing stops it, and what it has recorded is not kept.",
            (("Stop it and close", window.close_now), ("Go on", lambda: None)),
        )
        return True
    window.session.show(window=(window.width(), window.height()))
    if window.session.saved_within(_SHORT):
        return False
    window.message.say("Saving…")
    jobs.start(
        lambda _progress, _cancel: window.session.save_now(),
        on_end=functools.partial(_saved, window),
        name="save",
    )
    return True


def _saved(window: "MainWindow", outcome: Done[bool] | Stopped | Failed) -> None:
    if isinstance(outcome, Failed):
        raise outcome.error
    if isinstance(outcome, Done) and outcome.value:
        window.close_now()
        return
    window.message.ask(
        f"{window.session.trouble or 'Not all could be saved'}. Closing now loses "
        f"{window.session.unsaved} changes.",
        (("Try again", window.close), ("Close without saving", window.close_now)),
    )
