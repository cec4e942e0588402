"""Work off the owner's thread: progress, cancel, exactly one outcome.

Work gets frozen inputs and returns values; only the callbacks, which come on the owner's
thread, may touch the session.
"""

import threading
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

from oarlock.cancel import Cancel
from oarlock.errors import Cancelled

T = TypeVar("T")
Progress = Callable[[float, str], None]
Post = Callable[[Callable[[], None]], None]


@dataclass(frozen=True, slots=True)
class Done(Generic[T]):
    """The work ended well."""

    value: T


@dataclass(frozen=True, slots=True)
class Stopped:
    """The work was cancelled."""


@dataclass(frozen=True, slots=True)
class Failed:
    """The work raised."""

    error: Exception


@dataclass(frozen=True, slots=True)
class Doing:
    """What is under way, for the top bar; empty text: nothing."""

    text: str = ""
    fraction: float = 0.0


class Jobs:
    """Starts work in threads; `post` brings a call onto the owner's thread."""

    def __init__(self, post: Post) -> None:
        self._post = post
        self._running: dict[threading.Thread, Cancel] = {}

    def start(
        self,
        work: Callable[[Progress, Cancel], T],
        *,
        on_end: Callable[[Done[T] | Stopped | Failed], None],
        on_progress: Progress = lambda _fraction, _doing: None,
        name: str = "job",
    ) -> Cancel:
        """Start `work(report, cancel)`; return the flag that stops it."""
        cancel = Cancel()

        def report(fraction: float, doing: str) -> None:
            cancel.check()
            self._post(lambda: on_progress(fraction, doing))

        def run() -> None:
            outcome: Done[T] | Stopped | Failed
            try:
                outcome = Done(work(report, cancel))
            except Cancelled:
                outcome = Stopped()
            except Exception as error:  # noqa: BLE001 - the only place: it becomes an outcome
                outcome = Failed(error)
            self._post(lambda: self._end(thread, on_end, outcome))

        thread = threading.Thread(target=run, name=name, daemon=True)
        self._running[thread] = cancel
        thread.start()
        return cancel

    def _end(
        self, thread: threading.Thread, on_end: Callable[[Any], None], outcome: object
    ) -> None:
        self._running.pop(thread, None)
        on_end(outcome)

    @property
    def busy(self) -> bool:
        """Whether any work is under way."""
        return bool(self._running)

    def stop_all(self, timeout: float = 3.0) -> None:
        """Cancel everything and wait for the threads to end."""
        for cancel in self._running.values():
            cancel.set()
        for thread in list(self._running):
            thread.join(timeout)


class Guest(Jobs):
    """Jobs of one window: once it has left, nothing that they end with reaches its stages."""

    def __init__(self, jobs: Jobs) -> None:
        self._host, self._left = jobs, False

    def leave(self) -> None:
        """Let nothing reach the window any more."""
        self._left = True

    def start(
        self,
        work: Callable[[Progress, Cancel], T],
        *,
        on_end: Callable[[Done[T] | Stopped | Failed], None],
        on_progress: Progress = lambda _fraction, _doing: None,
        name: str = "job",
    ) -> Cancel:
        """Start `work` as `Jobs.start` does."""

        def ended(outcome: Done[T] | Stopped | Failed) -> None:
            if not self._left:
                on_end(outcome)

        def progressed(fraction: float, doing: str) -> None:
            if not self._left:
                on_progress(fraction, doing)

        return self._host.start(work, on_end=ended, on_progress=progressed, name=name)

    @property
    def busy(self) -> bool:
        """Whether any work is under way."""
        return self._host.busy

    def stop_all(self, timeout: float = 3.0) -> None:
        """Cancel everything and wait for the threads to end."""
        self._host.stop_all(timeout)
