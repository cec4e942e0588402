"""The runner against a scripted link: whatever happens, the drive ends without current."""

import itertools
import math
from collections.abc import Callable, Mapping, Sequence

import numpy as np
import pytest
from numpy.typing import NDArray

from oarlock.cancel import Cancel
from oarlock.drive.contract.trips import NONE, OVER_CURRENT
from oarlock.drive.link import Live, Progress, Status
from oarlock.drive.runner import Quiet, play
from oarlock.drive.steps import Limits, Plan, Step
from oarlock.drive.travel import Ledger
from oarlock.errors import Cancelled, DriveRefused, InputError, LinkLost, LinkTimeout
from oarlock.experiments.common.gentle import gentle_gains
from oarlock.machine import Axis


class Scripted:
    """A drive that does what it is told to do, and writes down what it is asked."""

    name = "scripted drive"

    def __init__(self, *states: str, frequency: float = 16000.0) -> None:
        self.states = itertools.chain(states, itertools.repeat(states[-1]))
        self.frequency = frequency
        self.ledger = Ledger()
        self.calls: list[str] = []
        self.fail_on = ""

    def _note(self, call: str) -> None:
        self.calls.append(call)
        if call == self.fail_on:
            raise LinkLost("gone", place=self.name)

    def close(self) -> None:
        self._note("close")

    def age(self) -> float:
        return 0.0

    def read(self, keys: Sequence[str]) -> dict[str, float]:
        self._note("read")
        return dict.fromkeys(keys, self.frequency)

    def write(self, values: Mapping[str, float]) -> None:
        self._note("write")
        self.written = dict(values)

    def load(self, table: NDArray[np.float32]) -> None:
        self._note("load")

    def load_lines(self, lines: NDArray[np.float32]) -> None:
        self._note("load lines")

    def sums(self, rows: int, channels: int) -> NDArray[np.float64]:
        self._note("sums")
        return np.ones((rows, 3 + 7 * channels))

    def commit(self) -> None:
        self._note("commit")

    def put_back(self) -> None:
        self._note("put back")

    def save(self) -> None:
        self._note("save")

    def restore(self) -> None:
        self._note("restore")

    def unsaved(self) -> dict[str, float]:
        return {}

    def start(self) -> None:
        self._note("start")

    def stop(self) -> None:
        self._note("stop")

    def clear(self) -> None:
        self._note("clear")

    def status(self) -> Status:
        self._note("status")
        return Status(state=next(self.states), trip=OVER_CURRENT, played=0.05, rows=2)

    def look(self, first: int, rows: int, channels: int) -> NDArray[np.float32]:
        raise NotImplementedError

    def upload(
        self, rows: int, channels: int, progress: Progress, cancel: Cancel
    ) -> NDArray[np.float32]:
        self._note("upload")
        progress(0.5, "half")
        return np.ones((rows, channels), dtype=np.float32)

    def subscribe(self, sink: Callable[[Live], None]) -> None:
        self._note("subscribe")


@pytest.fixture
def plan(axis: Axis) -> Plan:
    return Plan(
        name="hold",
        steps=(Step(duration=0.1, i_d=2.0),),
        channels=("t", "id"),
        limits=Limits(current=8.0, speed=50.0, travel=1.0, time=1.0),
        gains=gentle_gains(axis, 800.0),
    )


def run(plan: Plan, axis: Axis, link: Scripted, cancel: Cancel | None = None) -> str:
    record = play(plan, axis, link, settings={}, cancel=cancel or Cancel(), progress=Quiet())
    return record.ended


def test_a_run_that_ends_well(plan: Plan, axis: Axis) -> None:
    link = Scripted("running", "done")
    assert run(plan, axis, link) == "done"
    order = [call for call in link.calls if call != "status"]
    assert order == ["read", "clear", "write", "load", "start", "stop", "upload", "clear"]
    assert link.written["Current controller.Kp d"] == plan.gains.Kp_d
    assert link.written["Limits.Current"] == 8.0
    assert link.written["Recorder.Channel 2"] == 4.0  # id


def test_a_trip_is_told_in_the_record(plan: Plan, axis: Axis) -> None:
    assert run(plan, axis, Scripted("running", "tripped")) == "tripped: over-current"


@pytest.mark.parametrize("where", ["start", "status", "upload"])
def test_a_lost_link_still_gets_a_stop(plan: Plan, axis: Axis, where: str) -> None:
    link = Scripted("running", "done")
    link.fail_on = where
    with pytest.raises(LinkLost):
        run(plan, axis, link)
    assert "stop" in link.calls


@pytest.mark.parametrize("where", ["read", "write", "load"])
def test_what_fails_before_the_start_energises_nothing(plan: Plan, axis: Axis, where: str) -> None:
    link = Scripted("done")
    link.fail_on = where
    with pytest.raises(LinkLost):
        run(plan, axis, link)
    assert "start" not in link.calls


def test_a_cancel_before_the_start_energises_nothing(plan: Plan, axis: Axis) -> None:
    cancel, link = Cancel(), Scripted("done")
    cancel.set()
    with pytest.raises(Cancelled):
        run(plan, axis, link, cancel)
    assert "start" not in link.calls


def test_stopped_at_the_drive_is_a_stop(plan: Plan, axis: Axis) -> None:
    with pytest.raises(Cancelled, match="stopped at the drive"):
        run(plan, axis, Scripted("running", "de-energised"))


def test_a_drive_that_does_not_switch_off_is_told(plan: Plan, axis: Axis) -> None:
    cancel = Cancel()
    link = Scripted("running")
    link.status = lambda: Status(state="running", trip=NONE, played=0.0, rows=0)  # type: ignore[method-assign]
    cancel.set()
    with pytest.raises(Cancelled):
        run(plan, axis, link, cancel)
    cancel = Cancel()
    times = itertools.count(0.0, 1.0)
    with pytest.raises((LinkTimeout, DriveRefused)) as caught:
        play(
            plan, axis, link, settings={}, cancel=cancel, progress=Quiet(),
            clock=lambda: next(times),
        )  # fmt: skip
    assert caught.value.remedy


def test_another_sampling_rate_is_refused(plan: Plan, axis: Axis) -> None:
    with pytest.raises(InputError, match="samples at 10000 Hz"):
        run(plan, axis, Scripted("done", frequency=10000.0))


def test_a_drive_with_a_smaller_recorder_is_asked_first(plan: Plan, axis: Axis) -> None:
    link = Scripted("running", "done")
    link.read = lambda keys: {  # type: ignore[method-assign]
        k: {"Facts.Recorder rows": 100.0, "Facts.Table rows": 512.0}.get(k, 16000.0) for k in keys
    }
    with pytest.raises(InputError, match="takes 1600 rows of the recorder and 1 steps"):
        run(plan, axis, link)
    assert "start" not in link.calls


def test_a_drive_that_tells_no_number_as_its_frequency(plan: Plan, axis: Axis) -> None:
    with pytest.raises(InputError, match="samples at nan Hz"):
        run(plan, axis, Scripted("running", "done", frequency=math.nan))
