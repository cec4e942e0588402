"""Gains on trial: tests are played with them one after another; only if all hold are they taken."""

from collections.abc import Callable, Sequence

from oarlock.experiments.common.experiment import Experiment
from oarlock.machine import Axis
from oarlock.session.bench import Bench
from oarlock.session.perform import Performed
from oarlock.session.session import Session


class Trial:
    """One candidate; what stands in the axis stays until every test holds."""

    def __init__(
        self, session: Session, bench: Bench, candidate: Axis, tests: Sequence[Experiment],
        label: str, on_end: Callable[[str], None],
    ) -> None:  # fmt: skip
        self._session, self._bench = session, bench
        self._candidate, self._before = candidate, session.axis
        self._left, self._label, self._on_end = list(tests), label, on_end

    def start(self) -> None:
        """Play the next test."""
        self._bench.run(self._left.pop(0), self._played, axis=self._candidate)

    def _played(self, performed: Performed) -> None:
        reading = performed.reading
        if performed.run.ended != "done" or reading is None or not reading.holds:
            why = reading.said if reading is not None else performed.run.ended
            self._on_end(f"The old gains are kept: {why}")
        elif self._left:
            self.start()
        elif self._session.axis != self._before:
            self._on_end("The axis was changed meanwhile: these gains are not taken")
        else:
            self._session.edit(self._label, self._candidate)
            self._on_end("")
