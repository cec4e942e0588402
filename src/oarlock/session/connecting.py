"""Opening a link with all that is read first, and trying again after it was lost."""

import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from oarlock.cancel import Cancel
from oarlock.drive.link import Link
from oarlock.errors import OarlockError
from oarlock.session.drive_memory import memory_of
from oarlock.session.jobs import Done, Failed, Jobs, Stopped
from oarlock.session.told import told_by

if TYPE_CHECKING:
    from oarlock.drive.practice_process import PracticeProcess

PRACTICE = "practice"
_EVERY = 0.1  # s from the end of one try to the next
_ANSWER = 0.4  # s in which a drive that is back answers
_PATIENCE = 5.0  # s after which a bus is opened anew: it may stand and carry nothing


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Opened:
    """A link, and what was read over it."""

    link: Link
    practice: "PracticeProcess | None"
    held: bool  # by a brake
    holds: dict[str, float]  # gains and filters in the drive's memory
    facts: dict[str, float]  # what it tells of itself


def opened(
    channel: str, practice: "PracticeProcess | None", cancel: Cancel, *, timeout: float = 1.0,
    patient: bool = False,
) -> Opened:  # fmt: skip
    """Open a link and read what is needed at once. Work for a job.

    Parameters
    ----------
    patient : ask a drive that does not answer again and again for a while

    Raises
    ------
    InputError : a channel that makes no sense
    LinkError : nobody answers, or not as the contract says
    Cancelled : it is not wanted any more

    """
    from oarlock.drive.canopen_link import CanopenLink

    until = time.monotonic() + (_PATIENCE if patient else 0.0)

    def asks_again() -> bool:
        cancel.check()
        return time.monotonic() < until

    link = CanopenLink(channel, timeout=timeout, asks_again=asks_again)
    try:
        held = link.read(["Facts.Shaft held"])["Facts.Shaft held"] > 0.0
        holds, facts = memory_of(link), told_by(link)
        cancel.check()
    except BaseException:
        close_quietly(link)
        raise
    return Opened(link=link, practice=practice, held=held, holds=holds, facts=facts)


def close_quietly(link: Link) -> None:
    """Close a link that may be gone already."""
    try:
        link.close()
    except OarlockError:
        return  # nothing more can be asked of it


def open_channel(channel: str, practice: "PracticeProcess | None", cancel: Cancel) -> "Opened":
    """Open a channel, with a practice drive's process of its own where it asks for one.

    Raises
    ------
    InputError, LinkError, Cancelled : as `opened`

    """
    if channel == PRACTICE or channel.startswith(PRACTICE + " "):
        from oarlock.drive.practice_process import PracticeProcess

        if practice is None:
            practice = PracticeProcess(*channel.split()[1:])
        channel = practice.channel
    try:
        return opened(channel, practice, cancel)
    except BaseException:
        if practice is not None:
            practice.stop()
        raise


def stop_aside(practice: "PracticeProcess | None") -> None:
    """Stop a practice drive in a thread of its own: it may take its time."""
    if practice is not None:
        threading.Thread(target=practice.stop, name="stop practice", daemon=True).start()


class Again:
    """Waits on a channel until its drive answers; touched on the owner's thread only.

    A bus that is gone is opened over and over; on one that stands the drive is asked again and
    again, so that it is found as soon as it is there.
    """

    def __init__(self, jobs: Jobs, taken: Callable[[Opened], None]) -> None:
        self._jobs, self._taken = jobs, taken
        self._channel = ""
        self._next = 0.0
        self._attempt: Cancel | None = None

    @property
    def waits(self) -> bool:
        """Whether a channel is being tried."""
        return bool(self._channel)

    def begin(self, channel: str) -> None:
        """Try this channel from now on."""
        self._channel, self._next = channel, time.monotonic()

    def end(self) -> None:
        """Try no more."""
        self._channel = ""
        if self._attempt is not None:
            self._attempt.set()
            self._attempt = None

    def tick(self) -> None:
        """Start a try where it is time for one; called a few times a second."""
        if not self._channel or self._attempt is not None or time.monotonic() < self._next:
            return
        channel = self._channel
        attempt = self._attempt = self._jobs.start(
            lambda _progress, cancel: opened(channel, None, cancel, timeout=_ANSWER, patient=True),
            on_end=lambda outcome: self._ended(outcome, attempt),
            name="connect again",
        )

    def _ended(self, outcome: Done[Opened] | Stopped | Failed, attempt: Cancel) -> None:
        wanted = attempt is self._attempt and bool(self._channel)
        self._attempt = None if attempt is self._attempt else self._attempt
        if isinstance(outcome, Done):
            if wanted:
                self._channel = ""
                self._taken(outcome.value)
            else:
                close_quietly(outcome.value.link)
        elif isinstance(outcome, Failed) and not isinstance(outcome.error, OarlockError):
            raise outcome.error
        self._next = time.monotonic() + _EVERY
