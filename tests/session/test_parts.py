"""History, saver and jobs: the small machines under the session."""

import threading
import time
from collections.abc import Callable

import pytest

from oarlock.cancel import Cancel
from oarlock.errors import Cancelled, InputError
from oarlock.session.history import History
from oarlock.session.jobs import Done, Failed, Jobs, Progress, Stopped
from oarlock.session.saver import Saver


def test_undo_and_redo_walk_the_same_line() -> None:
    history: History[int] = History()
    assert history.undo() is None
    assert history.redo() is None
    for n in range(3):
        history.push(f"to {n + 1}", n, n + 1)
    assert (history.undo_label, history.redo_label) == ("to 3", "")
    assert [history.undo(), history.undo()] == [2, 1]
    assert history.redo_label == "to 2"
    assert history.redo() == 2
    history.push("aside", 2, 9)
    assert history.redo() is None  # a new edit cuts off what was undone
    assert history.undo() == 2


def test_history_is_bounded() -> None:
    history: History[int] = History(depth=5)
    for n in range(20):
        history.push("", n, n + 1)
    assert [history.undo() for _ in range(6)] == [19, 18, 17, 16, 15, None]


def test_the_saver_writes_in_order_and_flushes() -> None:
    done: list[int] = []
    saver = Saver(lambda _text: None)
    for n in range(50):
        saver.submit(lambda n=n: done.append(n))  # type: ignore[misc]
    assert saver.flush()
    assert done == list(range(50))
    assert saver.close()


def test_what_cannot_be_written_waits_and_is_tried_again() -> None:
    told: list[str] = []
    done: list[str] = []
    full = threading.Event()
    full.set()

    def write() -> None:
        if full.is_set():
            raise InputError("the disk is full", place="p.oarlock", remedy="Make room")
        done.append("first")

    saver = Saver(told.append)
    saver.submit(write)
    assert not saver.flush()
    assert told[-1] == "Not saved: p.oarlock: the disk is full. Make room"
    full.clear()
    saver.submit(lambda: done.append("second"))
    assert saver.flush()
    assert done == ["first", "second"]
    deadline = time.monotonic() + 1.0
    while told[-1] and time.monotonic() < deadline:
        time.sleep(0.01)
    assert told[-1] == ""  # the trouble is over, and that is told too
    assert saver.close()


def test_closing_tells_when_something_is_left() -> None:
    def never() -> None:
        raise InputError("the disk is full")

    saver = Saver(lambda _text: None)
    saver.submit(never)
    assert not saver.close(1.0)


def collect(work: Callable[[Progress, Cancel], object]) -> tuple[list[object], Jobs, Cancel]:
    outcomes: list[object] = []
    jobs = Jobs(lambda call: call())
    cancel = jobs.start(work, on_end=outcomes.append)
    return outcomes, jobs, cancel


def settle(outcomes: list[object]) -> object:
    deadline = time.monotonic() + 2.0
    while not outcomes and time.monotonic() < deadline:
        time.sleep(0.005)
    assert len(outcomes) == 1
    return outcomes[0]


def test_a_job_ends_in_exactly_one_outcome() -> None:
    outcomes, jobs, _ = collect(lambda _report, _cancel: 42)
    assert settle(outcomes) == Done(42)
    assert not jobs.busy

    def fails(_report: Progress, _cancel: Cancel) -> None:
        raise ZeroDivisionError("x")

    outcome = settle(collect(fails)[0])
    assert isinstance(outcome, Failed)
    assert isinstance(outcome.error, ZeroDivisionError)


def test_a_job_is_cancelled_where_it_reports() -> None:
    def endless(report: Progress, _cancel: Cancel) -> None:
        while True:
            report(0.5, "still at it")
            time.sleep(0.005)

    outcomes, jobs, cancel = collect(endless)
    assert jobs.busy
    cancel.set()
    assert isinstance(settle(outcomes), Stopped)


def test_stop_all_waits_for_the_threads() -> None:
    def patient(_report: Progress, cancel: Cancel) -> None:
        cancel.wait(10.0)

    outcomes, jobs, _ = collect(patient)
    jobs.stop_all()
    assert isinstance(settle(outcomes), Stopped)


def test_cancel_can_be_looked_at_and_waited_for() -> None:
    cancel = Cancel()
    cancel.check()
    cancel.wait(0.001)
    assert not cancel.is_set
    cancel.set()
    with pytest.raises(Cancelled):
        cancel.check()
    with pytest.raises(Cancelled):
        cancel.wait(5.0)


def test_a_fault_of_the_program_does_not_end_the_saver() -> None:
    """What fails for a reason of its own is set aside and said; what follows is written."""
    told: list[str] = []
    done: list[str] = []
    broken = threading.Event()
    broken.set()

    def fails() -> None:
        if broken.is_set():
            raise TypeError("date is not JSON serializable")
        done.append("first")

    saver = Saver(told.append)
    saver.submit(fails)
    saver.submit(lambda: done.append("second"))
    assert not saver.flush(1.0) or "second" in done
    assert done == ["second"]
    assert saver.pending == 1
    assert "by a fault of the program: TypeError: date is not JSON" in told[0]
    broken.clear()
    assert saver.flush()
    assert done == ["second", "first"]
    assert saver.close()


def test_what_waits_is_tried_again_by_itself(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("oarlock.session.saver._AGAIN", 0.05)
    tries: list[int] = []

    def write() -> None:
        tries.append(1)
        if len(tries) < 3:
            raise InputError("the disk is full")

    saver = Saver(lambda _text: None)
    saver.submit(write)
    deadline = time.monotonic() + 2.0
    while saver.pending and time.monotonic() < deadline:
        time.sleep(0.01)
    assert saver.pending == 0
    assert saver.close()


def test_it_is_told_once_something_is_written() -> None:
    done: list[str] = []
    saver = Saver(lambda _text: None)
    saver.submit(lambda: done.append("write"), lambda: done.append("told"))
    assert saver.flush()
    assert done == ["write", "told"]
    assert saver.close()
