"""Drives of the axes that are not open: connected and de-energised, commanded by nobody.

One drive is commanded at a time, that of the open axis. The others keep their link, so that going
back to an axis takes no time.
"""

import contextlib
import threading
from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

from oarlock.drive.channel import parse_channel
from oarlock.drive.link import Link
from oarlock.errors import InputError, OarlockError
from oarlock.session.connecting import close_quietly, stop_aside

if TYPE_CHECKING:
    from oarlock.drive.practice_process import PracticeProcess

_LOOKS = 3  # in a row without a sign of life: after a standstill here, frames still wait


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Parked:
    """A link that is kept, and what was read over it."""

    link: Link
    practice: "PracticeProcess | None"
    held: bool
    facts: dict[str, float]
    holds: Mapping[str, float]
    channel: str


def calm(link: Link) -> bool:
    """De-energise a drive; return whether it could be told."""
    try:
        link.stop()
    except OarlockError:
        return False
    return True


class Parking:
    """The parked drives by axis; touched on the owner's thread only."""

    def __init__(self) -> None:
        self._parked: dict[str, Parked] = {}
        self._silences: dict[str, int] = {}

    @property
    def names(self) -> tuple[str, ...]:
        """The axes whose drives are parked."""
        return tuple(self._parked)

    def put(self, axis: str, parked: Parked) -> None:
        """Keep a drive that is de-energised."""
        self.drop(axis)
        self._parked[axis], self._silences[axis] = parked, 0

    def take(self, axis: str) -> Parked | None:
        """Give an axis's drive out of hand."""
        return self._parked.pop(axis, None)

    def drop(self, axis: str) -> None:
        """Let an axis's drive go."""
        parked = self.take(axis)
        if parked is not None:
            _let_go(parked)

    def drop_at(self, channel: str) -> None:
        """Let the drive at a channel go, which two axes name: it goes to the open one."""
        for axis, parked in list(self._parked.items()):
            if parked.practice is None and _same(parked.channel, channel):
                self.drop(axis)

    def stop(self) -> None:
        """De-energise all of them, whatever they do."""
        for parked in self._parked.values():
            calm(parked.link)

    def gone(self, silent: float) -> list[str]:
        """Let go of those without a sign of life for `silent` s, look after look; return them."""
        for axis, parked in self._parked.items():
            quiet = parked.link.age() > silent
            self._silences[axis] = self._silences[axis] + 1 if quiet else 0
        lost = [axis for axis in self._parked if self._silences[axis] >= _LOOKS]
        for axis in lost:  # a dead link may take its time
            gone = self._parked.pop(axis)
            threading.Thread(target=_let_go, args=(gone,), name="let go", daemon=True).start()
        return lost

    def close(self) -> None:
        """Let all of them go, at the end of the program."""
        while self._parked:
            _, parked = self._parked.popitem()
            close_quietly(parked.link)
            if parked.practice is not None:
                with contextlib.suppress(OSError):
                    parked.practice.stop()


def _let_go(parked: Parked) -> None:
    close_quietly(parked.link)
    stop_aside(parked.practice)


def _same(one: str, other: str) -> bool:
    """Return whether two texts name one drive."""
    try:
        return parse_channel(one) == parse_channel(other)
    except InputError:
        return False
