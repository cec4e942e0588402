"""Old records, read again in jobs, so that their findings come back on screen."""

import functools
from collections import deque
from collections.abc import Callable

from oarlock.cancel import Cancel
from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.records import Reading, Record, Run
from oarlock.session.jobs import Done, Failed, Jobs, Progress, Stopped
from oarlock.session.readings import read_again
from oarlock.session.session import Session

_AT_ONCE = 2


class Reader:
    """Reads each record once, a few at a time; `tell` is given what cannot be read.

    All at once they would take the interpreter from the window for as long as all of them take.
    """

    def __init__(self, session: Session, jobs: Jobs, tell: Callable[[str], None]) -> None:
        self._session, self._jobs, self._tell = session, jobs, tell
        self._begun: set[int] = set()
        self._waiting: deque[Run] = deque()
        self._reading = 0

    def read(self) -> None:
        """Begin to read what the screens need and do not have yet."""
        for run in self._session.wanted_readings():
            if run.id in self._begun:
                continue
            self._begun.add(run.id)
            self._waiting.append(run)
        while self._waiting and self._reading < _AT_ONCE:
            self._next()

    def _next(self) -> None:
        run = self._waiting.popleft()
        source, axis = self._session.record_source(run.id), self._session.axis
        self._reading += 1
        self._jobs.start(
            functools.partial(_in_job, run, source, axis),
            on_end=functools.partial(self._ended, run.id),
            name="read a record",
        )

    def _ended(self, number: int, outcome: Done[Reading | None] | Stopped | Failed) -> None:
        self._reading -= 1
        if self._waiting:
            self._next()
        if isinstance(outcome, Done):
            self._session.take_reading(number, outcome.value)
        elif isinstance(outcome, Failed):
            if not isinstance(outcome.error, InputError):
                raise outcome.error
            self._session.take_reading(number, None)  # nobody waits for it any longer
            self._tell(str(outcome.error))


def _in_job(
    run: Run,
    source: Callable[[], Record | None],
    axis: Axis,
    _progress: Progress,
    _cancel: Cancel,
) -> Reading | None:
    record = source()
    return read_again(run, record, axis) if record else None
