"""The drive side of an open project: connect, play experiments as jobs, stop at once."""

import threading
from collections.abc import Callable
from functools import cached_property
from typing import TYPE_CHECKING, TypeVar

from psygnal import Signal

from oarlock.cancel import Cancel
from oarlock.drive.link import Link, Live, emergency_name
from oarlock.drive.travel import Span
from oarlock.errors import InputError, OarlockError
from oarlock.experiments.common.experiment import Experiment
from oarlock.machine import Axis
from oarlock.machine.limits import too_hot
from oarlock.records import Record
from oarlock.session.connecting import PRACTICE, Again, close_quietly, open_channel, stop_aside
from oarlock.session.drive_memory import DriveMemory
from oarlock.session.hand_tuning import HandTuning
from oarlock.session.jobs import Doing, Done, Failed, Jobs, Post, Progress, Stopped
from oarlock.session.parked import Parked, Parking, calm
from oarlock.session.perform import Performed, from_file, perform
from oarlock.session.session import Session
from oarlock.session.told import as_told, in_one_line, with_told

if TYPE_CHECKING:
    from oarlock.drive.practice_process import PracticeProcess
    from oarlock.session.commissioning import Commissioning
    from oarlock.session.connecting import Opened as _Opened

T = TypeVar("T")
_SILENT = 0.35  # s without a sign of life


class Bench:
    """Owns the link and the practice drive's process; touched on the owner's thread only."""

    changed = Signal()  # link opened, lost or closed
    doing_changed = Signal(Doing)
    told = Signal(str)  # one line for the user; empty: the last one no longer holds

    def __init__(self, session: Session, jobs: Jobs, post: Post) -> None:
        self._session, self._jobs, self._post = session, jobs, post
        self._link: Link | None = None
        self._practice: PracticeProcess | None = None
        self._cancel: Cancel | None = None
        self._attempt: Cancel | None = None  # to connect
        self._latest = Live(state="de-energised")
        self._lock = threading.Lock()
        self.doing = Doing()
        self.channel = ""
        self.facts: dict[str, float] = {}  # what the connected drive tells of itself
        self.connecting = False
        self.braked = True
        self._silences = 0
        self._emergency = 0
        self.hand = HandTuning(session, self, post)
        self.memory = DriveMemory(session, self)
        self.again = Again(jobs, self._try_again)
        self.parking = Parking()

    @cached_property
    def commissioning(self) -> "Commissioning":
        """All that an axis lacks, in one action; made when it is first asked for."""
        from oarlock.session.commissioning import Commissioning

        return Commissioning(self._session, self)

    @property
    def connected(self) -> bool:
        """Whether a drive answers."""
        return self._link is not None

    @property
    def waiting(self) -> bool:
        """Whether a drive that was lost is looked for."""
        return self.again.waits

    @property
    def name(self) -> str:
        """What is at the other end."""
        return self._link.name if self._link else "no drive"

    @property
    def live(self) -> Live:
        """The newest that the drive said of itself."""
        with self._lock:
            return self._latest

    def connect_drive(self, channel: str) -> None:
        """Open a link in a job: a SocketCAN name, a socket's path, or `practice`."""
        if self.connecting or self.connected:
            return
        self.again.end()
        self.connecting, self.channel = True, channel
        self.parking.drop_at(channel)
        if channel == PRACTICE or channel.startswith(PRACTICE + " "):
            # The stand-in for this axis; what was asked for by name stays.
            channel += f" --axis {self._session.screen.practice}"
        self.changed.emit()
        self._attempt = self._jobs.start(
            lambda _progress, cancel: open_channel(channel, self._practice, cancel),
            on_end=lambda outcome: self._connected(outcome, attempt),
            name="connect",
        )
        attempt = self._attempt

    def _connected(self, outcome: "Done[_Opened] | Stopped | Failed", attempt: Cancel) -> None:
        if attempt is not self._attempt:  # given up meanwhile: it is not wanted any more
            if isinstance(outcome, Done):
                self._close(outcome.value.link)
                stop_aside(outcome.value.practice)
            return
        self.connecting = False
        if isinstance(outcome, Done):
            found = outcome.value
            self._link, self._practice, self.braked = found.link, found.practice, found.held
            self.facts = found.facts
            self.memory.connected(found.holds)
            if found.practice is None:
                self._session.show(channel=self.channel)
            link = self._link
            link.subscribe(lambda live: self._take_live(link, live))
            self._link.ledger.set(self._session.axis, Span(*self._session.screen.standing))
            self.told.emit(self._take_facts())
        elif isinstance(outcome, Failed):
            self._tell_error(outcome.error)
        self.changed.emit()

    def _try_again(self, opened: "_Opened") -> None:
        """Take a link that came back."""
        attempt = self._attempt = Cancel()
        self._connected(Done(opened), attempt)
        self.told.emit("Connected again. The drive carries no current")

    def _take_facts(self) -> str:
        """Take what the drive tells where nothing was entered; return what it says otherwise."""
        axis, differ = with_told(self._session.axis, self.facts)
        self._session.edit("Take what the drive tells", axis)
        return in_one_line(differ)

    @property
    def differs(self) -> bool:
        """Whether the drive tells something else than what was entered."""
        return bool(self.facts) and bool(with_told(self._session.axis, self.facts)[1])

    def use_facts(self) -> None:
        """Take what the drive tells in place of what was entered."""
        self._session.edit("Use what the drive tells", as_told(self._session.axis, self.facts))

    def _take_live(self, link: Link, live: Live) -> None:
        """Take what a drive says, unless that drive was let go meanwhile."""
        with self._lock:
            if link is self._link:
                self._latest = live

    def watch(self) -> None:
        """Look whether the drive is still there; called a few times a second."""
        self.again.tick()
        for name in self.parking.gone(_SILENT):
            self.told.emit(f"{name}: its drive gives no sign of life and is let go")
            self.changed.emit()
        silent = self._link is not None and self._link.age() > _SILENT
        self._silences = self._silences + 1 if silent else 0
        # Three times in a row: after a standstill of this process, frames still wait to be taken.
        if self._link is not None and self._silences >= 3 and self._cancel is None:
            self._silences = 0
            self._lost(f"{self._link.name}: no sign of life; it is built to de-energise by itself")
        if self.busy and self._too_hot():
            self.stop()
        code = self.live.emergency
        if code != self._emergency:
            self._emergency = code
            if code and not self.busy:  # while an experiment runs its end tells it
                self.told.emit(f"{self.name}: {emergency_name(code)}")

    def _lost(self, text: str) -> None:
        link, self._link = self._link, None
        if link is not None:
            self._close(link)
        practice = self._practice is not None
        self._drop_practice()
        if not practice:  # the cable may come back; the practice drive's process is gone
            self.again.begin(self.channel)
            text += ". It is connected again as soon as it answers"
        self.told.emit(text)
        self._forget()

    def _close(self, link: Link) -> None:
        """Close a link in a thread of its own: a dead one may take its time."""
        threading.Thread(target=close_quietly, args=(link,), name="close link", daemon=True).start()

    def _drop_practice(self) -> None:
        practice, self._practice = self._practice, None
        stop_aside(practice)

    # Experiments

    def _too_hot(self) -> bool:
        """Say where the power stage is hotter than it may be; return whether."""
        why = too_hot(self._session.axis, self.live.temperature) if self.connected else ""
        if why:
            self.told.emit(why)
        return bool(why)

    @property
    def busy(self) -> bool:
        """Whether an experiment is under way."""
        return self._cancel is not None

    def run(
        self, experiment: Experiment, on_kept: Callable[[Performed], None],
        axis: Axis | None = None,
    ) -> None:  # fmt: skip
        """Play an experiment in a job; its run lands in the logbook before `on_kept` is told.

        Parameters
        ----------
        axis : with gains on trial; None: the axis as it stands

        """
        played = axis or self._session.axis

        def work(link: Link, progress: Progress, cancel: Cancel) -> Performed:
            return perform(experiment, played, link, progress, cancel, self._keep_attempt)

        def ended(outcome: Done[Performed] | Stopped | Failed) -> None:
            if isinstance(outcome, Done):
                self._session.keep(outcome.value)
                self._tell_end(outcome.value.run.title, outcome.value.run.ended)
                on_kept(outcome.value)

        self.begin(work, ended)

    def begin(
        self,
        work: Callable[[Link, Progress, Cancel], T],
        on_end: Callable[[Done[T] | Stopped | Failed], None],
    ) -> bool:
        """Start work on the drive in a job, where there is one and it is free; return whether."""
        if self._link is None:
            self.told.emit("No drive is connected. Connect one in the top bar")
            return False
        if self.busy:
            self.told.emit("An experiment is under way. Stop it first, or wait")
            return False
        if self._too_hot():
            return False
        link = self._link

        def ended(outcome: Done[T] | Stopped | Failed) -> None:
            self._cancel = None
            self._remember_standing()
            self._set_doing(Doing())
            if isinstance(outcome, Stopped) and not self._too_hot():
                self.told.emit("Stopped. The drive carries no current")
            elif isinstance(outcome, Failed):
                self.fail(outcome.error)
            on_end(outcome)

        self.told.emit("")
        self._set_doing(Doing("setting up", 0.0))
        self._cancel = self._jobs.start(
            lambda progress, cancel: work(link, progress, cancel),
            on_progress=lambda fraction, text: self._set_doing(Doing(text, fraction)),
            on_end=ended,
            name="experiment",
        )
        return True

    def read(
        self, source: Callable[[], Record], axis: Axis, on_kept: Callable[[Performed], None]
    ) -> None:
        """Read a recording in a job; it lands in the logbook as an experiment does."""

        def ended(outcome: Done[Performed] | Stopped | Failed) -> None:
            if isinstance(outcome, Done):
                self._session.keep(outcome.value)
                on_kept(outcome.value)
            elif isinstance(outcome, Failed):
                self._tell_error(outcome.error)

        self._jobs.start(lambda _p, _c: from_file(source(), axis), on_end=ended, name="import")

    def _keep_attempt(self, performed: Performed) -> None:
        """Keep a try that another one follows; called on the job's thread."""
        self._post(lambda: self._keep_now(performed))

    def _keep_now(self, performed: Performed) -> None:
        self._session.keep(performed)

    def _set_doing(self, doing: Doing) -> None:
        self.doing = doing
        self.doing_changed.emit(doing)

    def _tell_end(self, title: str, ended: str) -> None:
        """Say how it ended, where that was not as planned."""
        if ended != "done":
            code = self.live.emergency
            why = f" ({emergency_name(code)})" if code else ""
            self.told.emit(f"{title}: {ended}{why}. What was recorded is kept")

    def _remember_standing(self) -> None:
        axis = self._session.axis
        if self._link is not None and axis.mechanics.max_turns is not None:
            stands = self._link.ledger.standing(axis)
            self._session.show(standing=(stands.least, stands.most))

    def count_travel_from_here(self) -> None:
        """Take where the shaft stands now as the middle of its travel."""
        if self._link is not None and not self.busy:
            self._link.ledger.set(self._session.axis, Span())
            self._remember_standing()

    def fail(self, error: Exception) -> None:
        """Say what went wrong; where the drive does not answer any more, let it go."""
        if isinstance(error, InputError) or not isinstance(error, OarlockError):
            self._tell_error(error)
        elif self._link is not None and self._link.age() > _SILENT:
            self._lost(str(error))
        else:
            self._tell_error(error)

    def _tell_error(self, error: Exception) -> None:
        if not isinstance(error, OarlockError):
            raise error
        self.told.emit(str(error))

    def stop(self) -> None:
        """De-energise at once and end what is under way; harmless when nothing is."""
        try:
            if self._link is not None:
                self._link.stop()
        finally:
            if self._cancel is not None:
                self._cancel.set()
            self.parking.stop()

    def park(self) -> None:
        """Leave the drive connected and de-energised while another axis is open."""
        link = self._link
        if link is None or not calm(link):
            self.disconnect()
            return
        parked = Parked(link=link, practice=self._practice, held=self.braked, facts=self.facts,
                        holds=self.memory.holds, channel=self.channel)  # fmt: skip
        self.parking.put(self._session.axis.name, parked)
        self._link = self._practice = None
        self._forget()

    def resume(self) -> bool:
        """Go on with the drive of the open axis, if it was left connected."""
        parked = self.parking.take(self._session.axis.name)
        if parked is None:
            return False
        self._link, self._practice, self.braked = parked.link, parked.practice, parked.held
        self.facts, self.channel, self._silences = parked.facts, parked.channel, 0
        self.memory.connected(parked.holds)
        self.changed.emit()
        return True

    def _forget(self) -> None:
        """Forget what the drive said that is not at hand any more."""
        with self._lock:
            self._latest = Live(state="de-energised")
        self.memory.connected({})
        self.facts = {}
        self.changed.emit()

    def disconnect(self) -> None:
        """Leave the drive de-energised, or give up connecting to it."""
        self.again.end()
        self.stop()
        if self.connecting and self._attempt is not None:
            self._attempt.set()
            self._attempt, self.connecting = None, False
        link, self._link = self._link, None
        if link is not None:
            if self.memory.differs:
                self.told.emit("The drive would start with other gains than those in use: they "
                               "are not in its memory")  # fmt: skip
            self._close(link)
        self._drop_practice()
        self._forget()

    def close(self) -> None:
        """Leave at the end of the program: wait until link and practice drive are closed."""
        self.again.end()
        self.stop()
        self._jobs.stop_all()
        if self._link is not None:
            close_quietly(self._link)
            self._link = None
        if self._practice is not None:
            self._practice.stop()
            self._practice = None
        self.parking.close()
