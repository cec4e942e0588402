"""A flag that one thread raises and another looks at."""

import threading

from oarlock.errors import Cancelled


class Cancel:
    """Ask work to stop; the work looks with `check` where it can stop cleanly."""

    def __init__(self) -> None:
        self._event = threading.Event()

    def set(self) -> None:
        """Ask the work to stop; may be called from any thread, any number of times."""
        self._event.set()

    @property
    def is_set(self) -> bool:
        """Whether a stop was asked for."""
        return self._event.is_set()

    def check(self) -> None:
        """Raise `Cancelled` once a stop was asked for."""
        if self._event.is_set():
            raise Cancelled

    def wait(self, seconds: float) -> None:
        """Sleep for `seconds`, or raise `Cancelled` as soon as a stop is asked for."""
        self._event.wait(seconds)
        self.check()
