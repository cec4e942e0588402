"""The drive's own memory: what it would start with, and whether that is what is in use here."""

from collections.abc import Mapping
from typing import TYPE_CHECKING

from oarlock.drive.contract.entries import BY_NAME
from oarlock.drive.link import Link
from oarlock.errors import OarlockError
from oarlock.experiments.loops.cascade import differing, standing_numbers
from oarlock.session.jobs import Done, Failed, Stopped
from oarlock.session.session import Session
from oarlock.views.saved import saved_crossovers

if TYPE_CHECKING:
    from oarlock.session.bench import Bench

_OWN = ("Current controller", "Speed controller", "Position controller", "Torque filter",
        "Speed filter")  # fmt: skip


def memory_of(link: Link) -> dict[str, float]:
    """Return gains and filters that a drive would start with; nothing where it does not tell."""
    try:
        differs = link.unsaved()
        names = [name for name in BY_NAME if name.startswith(_OWN)]
        return {name: differs.get(name, value) for name, value in link.read(names).items()}
    except OarlockError:
        return {}


class DriveMemory:
    """What the connected drive's memory holds; touched on the owner's thread only."""

    def __init__(self, session: Session, bench: "Bench") -> None:
        self._session, self._bench = session, bench
        self.holds: Mapping[str, float] = {}  # empty: not known

    def connected(self, holds: Mapping[str, float]) -> None:
        """Take what a drive that was just connected holds; empty when it is gone."""
        self.holds = holds

    @property
    def differs(self) -> bool:
        """Whether the drive would start with other gains or filters than are in use."""
        return bool(differing(self._session.axis, self.holds))

    def crossovers(self, which: str) -> dict[str, float]:
        """Return where a restart would put the loops, as `saved_crossovers`."""
        return saved_crossovers(self._session.axis, self.holds, which)

    def save(self) -> None:
        """Write gains and filters in use to the drive, and have it keep them."""
        try:
            numbers = standing_numbers(self._session.axis)
        except OarlockError as error:
            self._bench.told.emit(str(error))
            return

        def work(link: Link, *_: object) -> dict[str, float]:
            link.write(numbers)
            link.save()
            return memory_of(link)

        def ended(outcome: Done[dict[str, float]] | Stopped | Failed) -> None:
            if isinstance(outcome, Done):
                self.connected(outcome.value)
                self._bench.changed.emit()
                self._bench.told.emit("The drive keeps gains and filters in its own memory")

        self._bench.begin(work, ended)
