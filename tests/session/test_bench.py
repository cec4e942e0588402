"""The drive side of a project without a window: connect, run, stop, lose, come back."""

import os
import queue
import signal
import time
from collections.abc import Callable, Iterator
from typing import Any

import pytest

from oarlock.drive.canopen_link import CanopenLink
from oarlock.drive.practice_process import PracticeProcess
from oarlock.errors import InputError
from oarlock.experiments.identify.standstill import InductanceSine
from oarlock.experiments.loops.current_step import CurrentStep
from oarlock.session.bench import Bench
from oarlock.session.jobs import Doing, Jobs
from oarlock.session.perform import Performed
from oarlock.session.session import Session
from tests.drive.on_bus import drive_on, free_bus

pytestmark = pytest.mark.realtime


class Owner:
    """Stands for the window's thread: takes posted calls and makes them here."""

    def __init__(self) -> None:
        self._calls: queue.Queue[Callable[[], None]] = queue.Queue()

    def post(self, call: Callable[[], None]) -> None:
        self._calls.put(call)

    def until(self, condition: Callable[[], bool], seconds: float = 15.0) -> None:
        end = time.monotonic() + seconds
        while not condition():
            assert time.monotonic() < end, "it did not happen"
            try:
                self._calls.get(timeout=0.02)()
            except queue.Empty:
                continue


@pytest.fixture
def owner() -> Owner:
    return Owner()


@pytest.fixture
def bench(session: Session, owner: Owner) -> Iterator[Bench]:
    made = Bench(session, Jobs(owner.post), owner.post)
    yield made
    made.close()


@pytest.fixture
def told(bench: Bench) -> list[str]:
    lines: list[str] = []
    bench.told.connect(lines.append)
    return lines


def test_a_run_goes_into_the_logbook_before_anybody_is_told(
    bench: Bench, owner: Owner, session: Session
) -> None:
    changes: list[bool] = []
    bench.changed.connect(lambda: changes.append(bench.connected))
    bench.connect_drive("practice --watchdog 0.5")
    bench.connect_drive("practice --watchdog 0.5")  # a second call while it connects does nothing
    owner.until(lambda: bench.connected)
    assert changes == [False, True]
    doings: list[Doing] = []
    bench.doing_changed.connect(doings.append)
    kept: list[tuple[int, Performed]] = []
    sine = InductanceSine(axis_name="d")
    bench.run(sine, lambda performed: kept.append((len(session.runs), performed)))
    assert bench.busy
    owner.until(lambda: not bench.busy)
    assert kept[0][0] == 1
    assert session.now.finding("inductance_d") is not None
    assert doings[0].text == "setting up"
    assert doings[-1] == Doing()
    assert max(doing.fraction for doing in doings) <= 1.0


def test_one_experiment_at_a_time(bench: Bench, owner: Owner, told: list[str]) -> None:
    bench.run(InductanceSine(axis_name="d"), lambda _p: None)
    assert "No drive is connected" in told[-1]
    bench.connect_drive("practice --watchdog 0.5")
    owner.until(lambda: bench.connected)
    bench.run(InductanceSine(axis_name="d"), lambda _p: None)
    bench.run(InductanceSine(axis_name="q"), lambda _p: None)
    assert "under way" in told[-1]
    bench.stop()
    owner.until(lambda: not bench.busy)
    assert told[-1] == "Stopped. The drive carries no current"


def test_what_the_dry_run_refuses_is_one_line(
    bench: Bench, owner: Owner, session: Session, told: list[str]
) -> None:
    bench.connect_drive("practice --watchdog 0.5")
    owner.until(lambda: bench.connected)
    session.edit("take", session.with_target(session.axis.target))
    bench.run(CurrentStep(axis_name="q", amplitude=30.0, bias=4.0), lambda _p: None)
    owner.until(lambda: not bench.busy)
    assert "limit" in told[-1] or "bears" in told[-1]
    assert bench.connected  # the link is as it was
    assert session.runs == ()


def test_a_lost_drive_is_dropped_and_another_taken(
    bench: Bench, owner: Owner, told: list[str]
) -> None:
    bench.connect_drive("practice --watchdog 0.5")
    owner.until(lambda: bench.connected)
    practice = bench._practice
    assert practice is not None
    os.kill(practice.pid, signal.SIGKILL)

    def noticed() -> bool:
        bench.watch()
        return not bench.connected

    owner.until(noticed)
    assert "no sign of life" in told[-1]
    assert bench.live.state == "de-energised"
    bench.connect_drive("practice --seed 4")
    owner.until(lambda: bench.connected)
    assert told[-1] == ""
    bench.disconnect()
    assert not bench.connected


def test_a_channel_that_is_not_there(bench: Bench, owner: Owner, told: list[str]) -> None:
    bench.connect_drive("/no/such/socket")
    owner.until(lambda: not bench.connecting)
    assert "cannot open" in told[-1]
    assert not bench.connected


def test_a_fault_of_the_program_is_not_hushed_up(bench: Bench) -> None:
    with pytest.raises(ZeroDivisionError):
        bench._tell_error(ZeroDivisionError("x"))
    bench._tell_error(InputError("fine"))


def test_a_released_brake_is_seen_from_here(bench: Bench, owner: Owner) -> None:
    bench.connect_drive("practice --release-brake")
    owner.until(lambda: bench.connected)
    assert not bench.braked


def test_a_connection_that_is_given_up_is_closed_when_it_comes(bench: Bench, owner: Owner) -> None:
    bench.connect_drive("practice --watchdog 0.5")
    assert bench.connecting
    bench.disconnect()
    assert not bench.connecting
    bench.connect_drive("practice --watchdog 0.5")  # another attempt need not wait for the first
    owner.until(lambda: bench.connected)
    assert bench.live.state in ("de-energised", "running")
    owner.until(lambda: bench.live.bus > 1.0)
    bench.disconnect()
    assert bench.live.bus == 0.0  # what a drive said that is gone holds no longer


def test_the_practice_drive_is_the_axis_s_own(bench: Bench, owner: Owner, session: Session) -> None:
    session.switch("Thruster")
    bench.connect_drive("practice --watchdog 0.5")
    owner.until(lambda: bench.connected and bench.live.bus > 1.0)
    assert bench.live.bus == pytest.approx(48.0, abs=1.0)
    assert not bench.braked
    assert bench.live.lines[1] in range(8)  # its hall state


def watched(bench: Bench) -> bool:
    """Have the bench look, as the window does ten times a second."""
    bench.watch()
    return True


def test_a_drive_on_a_bus_that_was_lost_is_connected_again(
    bench: Bench, owner: Owner, told: list[str]
) -> None:
    bus = free_bus()
    with drive_on(bus) as drive:
        bench.connect_drive(bus)
        owner.until(lambda: bench.connected)
        os.kill(drive.pid, signal.SIGSTOP)
        owner.until(lambda: watched(bench) and not bench.connected)
        assert bench.waiting
        assert "connected again as soon as it answers" in told[-1]
        os.kill(drive.pid, signal.SIGCONT)
        owner.until(lambda: watched(bench) and bench.connected)
        assert told[-1] == "Connected again. The drive carries no current"
        assert not bench.waiting
        assert bench.live.state == "de-energised"
        bench.disconnect()
        assert not bench.waiting


@pytest.mark.parametrize(("patience", "least", "most"), [(5.0, 1, 1), (0.1, 2, 6)])
def test_a_lost_drive_is_waited_for_on_one_bus_for_a_while(
    bench: Bench, owner: Owner, monkeypatch: pytest.MonkeyPatch,
    patience: float, least: int, most: int,
) -> None:  # fmt: skip
    """The bus stays open while nobody answers; after a while it is opened anew."""
    opened: list[str] = []

    class Counted(CanopenLink):
        def __init__(self, channel: str, **given: Any) -> None:
            opened.append(channel)
            super().__init__(channel, **given)

    bus = free_bus()
    with drive_on(bus) as drive:
        bench.connect_drive(bus)
        owner.until(lambda: bench.connected)
        monkeypatch.setattr("oarlock.drive.canopen_link.CanopenLink", Counted)
        monkeypatch.setattr("oarlock.session.connecting._PATIENCE", patience)
        os.kill(drive.pid, signal.SIGSTOP)
        owner.until(lambda: watched(bench) and bench.waiting)
        until = time.monotonic() + 2.0
        owner.until(lambda: watched(bench) and time.monotonic() > until and len(opened) >= least)
        assert len(opened) <= most
        os.kill(drive.pid, signal.SIGCONT)
        owner.until(lambda: watched(bench) and bench.connected)
        bench.disconnect()


def test_a_lost_drive_is_no_longer_looked_for_when_it_is_not_wanted(
    bench: Bench, owner: Owner
) -> None:
    bus = free_bus()
    with drive_on(bus) as drive:
        bench.connect_drive(bus)
        owner.until(lambda: bench.connected)
        drive.kill()
        owner.until(lambda: watched(bench) and bench.waiting)
        bench.disconnect()
        assert not bench.waiting
    for _ in range(3):
        bench.watch()
    assert not bench.connected


def test_the_drive_of_another_axis_stays_connected_and_calm(
    bench: Bench, owner: Owner, session: Session, told: list[str]
) -> None:
    bench.connect_drive("practice --watchdog 0.5")
    owner.until(lambda: bench.connected)
    winch, name = bench._link, bench.name
    bench.park()
    assert not bench.connected
    assert bench.live.state == "de-energised"
    assert bench.parking.names == ("Sonar winch",)
    session.switch("Thruster")
    assert not bench.resume()  # this axis has none yet
    bench.connect_drive("practice --watchdog 0.5")
    owner.until(lambda: bench.connected)
    thruster = bench._link
    assert thruster is not winch
    facts = dict(bench.facts)
    for _ in range(4):
        bench.watch()
        time.sleep(0.1)
    assert bench.parking.names == ("Sonar winch",)
    bench.park()
    session.switch("Sonar winch")
    assert bench.resume()
    assert bench.connected
    assert bench._link is winch
    assert bench.name == name
    assert bench.facts != facts
    done: list[Performed] = []
    bench.run(InductanceSine(axis_name="d"), done.append)  # it plays as if it had never been left
    owner.until(lambda: bool(done), 30.0)
    assert done[0].run.ended == "done"
    assert bench.parking.names == ("Thruster",)
    assert thruster is not None
    practice = bench.parking._parked["Thruster"].practice
    assert practice is not None
    os.kill(practice.pid, signal.SIGKILL)
    end = time.monotonic() + 10.0
    while bench.parking.names and time.monotonic() < end:
        bench.watch()
        time.sleep(0.1)
    assert bench.parking.names == ()
    assert any(line.startswith("Thruster: its drive gives no sign of life") for line in told)
    assert bench.connected


def test_stop_reaches_parked_drives_too(bench: Bench, owner: Owner) -> None:
    bench.connect_drive("practice --watchdog 0.5")
    owner.until(lambda: bench.connected)
    link, stopped = bench._link, []
    assert link is not None
    plain = link.stop

    def stop() -> None:
        stopped.append(True)
        plain()

    link.stop = stop  # type: ignore[method-assign]
    bench.park()
    assert len(stopped) == 1
    bench.stop()
    assert len(stopped) == 2
    bench.close()
    assert bench.parking.names == ()


def test_a_drive_that_two_axes_name_goes_with_the_open_one(
    bench: Bench, owner: Owner, session: Session, practice: PracticeProcess
) -> None:
    bench.connect_drive(practice.channel)
    owner.until(lambda: bench.connected)
    bench.park()
    session.switch("Thruster")
    bench.connect_drive(practice.channel)
    assert bench.parking.names == ()
    owner.until(lambda: not bench.connecting, 30.0)
    assert bench.connected
