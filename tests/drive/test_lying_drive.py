"""Answers that lie or break off: one clear error each, nothing taken as done, no endless wait."""

import math
import struct
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pytest

from oarlock.cancel import Cancel
from oarlock.drive.canopen_link import CanopenLink
from oarlock.drive.contract.trips import trip
from oarlock.drive.link import Live, emergency_name
from oarlock.drive.runner import play
from oarlock.errors import Cancelled, LinkError, LinkProtocolError, LinkTimeout
from oarlock.machine import Axis
from tests.drive.lying_drive import Bend, LyingDrive, Read
from tests.drive.test_link import holding, until

pytestmark = pytest.mark.realtime
Make = Callable[..., CanopenLink]
DRIVE, SDO, HEART, EMERGENCY = 0x2000, 0x581, 0x701, 0x81


@pytest.fixture
def lying(tmp_path: Path) -> Iterator[Make]:
    made: list[LyingDrive | CanopenLink] = []

    def make(*, bend: Bend | None = None, read: Read | None = None) -> CanopenLink:
        drive = LyingDrive(tmp_path / "drive.sock", bend=bend, read=read)
        made.append(drive)
        link = CanopenLink(drive.channel, timeout=0.4)
        made.append(link)
        return link

    yield make
    for item in reversed(made):
        item.close() if isinstance(item, CanopenLink) else item.end()


def test_a_fact_that_is_no_number(lying: Make) -> None:
    def read(index: int, sub: int, data: bytes | None) -> bytes | None:
        return struct.pack("<f", math.nan) if (index, sub) == (0x2002, 1) else data

    with pytest.raises(LinkProtocolError, match="Control frequency is nan, not a number"):
        lying(read=read)


def bad_trace(index: int, sub: int, data: bytes | None) -> bytes | None:
    if index == 0x2041 and data:
        table = np.frombuffer(data, dtype="<f4").copy()
        table[3 * 700 + 1] = np.nan
        return table.tobytes()
    return data


def few_rows(index: int, sub: int, data: bytes | None) -> bytes | None:
    return data[: 100 * 12] if index == 0x2041 and data else data


def many_rows(index: int, sub: int, data: bytes | None) -> bytes | None:
    return data + data if index == 0x2041 and data else data


@pytest.mark.parametrize(
    ("read", "words"),
    [
        (bad_trace, "row 701 of the trace holds what is not a number"),
        (few_rows, "1200 bytes, the drive told of 38400"),
        (many_rows, "or more, the drive told of 38400"),
    ],
)
def test_a_trace_that_is_not_what_was_told(lying: Make, axis: Axis, read: Read, words: str) -> None:
    link = lying(read=read)
    with pytest.raises(LinkProtocolError, match=words):
        play(holding(axis), axis, link, settings={}, cancel=Cancel())
    assert link.status().state != "running"


def test_a_trace_that_came_wrong_once_is_fetched_again(lying: Make, axis: Axis) -> None:
    """The drive still has it: nothing needs to be played again."""
    fetched: list[int] = []

    def read(index: int, sub: int, data: bytes | None) -> bytes | None:
        if index != 0x2041 or not data:
            return data
        fetched.append(len(data))
        return data[:1200] if len(fetched) < 3 else data

    record = play(holding(axis), axis, lying(read=read), settings={}, cancel=Cancel())
    assert record.ended == "done"
    assert record.rows == 3200
    assert len(fetched) == 3


def test_a_trace_without_a_check_sum(lying: Make, axis: Axis) -> None:
    def bend(can_id: int, data: bytes) -> bytes:
        return bytes([0xC2]) + data[1:] if can_id == SDO and data[0] == 0xC6 else data

    with pytest.raises(LinkProtocolError, match="without a check sum"):
        play(holding(axis), axis, lying(bend=bend), settings={}, cancel=Cancel())


def test_a_block_transfer_without_its_end(lying: Make, axis: Axis) -> None:
    def bend(can_id: int, data: bytes) -> bytes | None:
        ends = can_id == SDO and data[0] & 0xE3 == 0xC1 and data[3:] == bytes(5)
        return None if ends else data

    begun = time.monotonic()
    with pytest.raises(LinkError):
        play(holding(axis), axis, lying(bend=bend), settings={}, cancel=Cancel())
    assert time.monotonic() - begun < 5.0


def test_an_unknown_trip_is_told_with_its_number(lying: Make, axis: Axis) -> None:
    def read(index: int, sub: int, data: bytes | None) -> bytes | None:
        tripped = index == DRIVE and data is not None
        if tripped and sub == 2:
            return bytes([200])
        return bytes([3]) if tripped and sub == 1 and data == b"\2" else data

    record = play(holding(axis), axis, lying(read=read), settings={}, cancel=Cancel())
    assert record.ended == "tripped: trip 200, unknown to this program"


def test_a_state_that_has_no_meaning(lying: Make, axis: Axis) -> None:
    def read(index: int, sub: int, data: bytes | None) -> bytes | None:
        return bytes([77]) if (index, sub) == (DRIVE, 1) else data

    with pytest.raises(LinkProtocolError, match="state 77 that has no meaning"):
        play(holding(axis), axis, lying(read=read), settings={}, cancel=Cancel())


@pytest.mark.parametrize("size", [0, 1, 3, 6])
def test_answers_that_are_too_short(lying: Make, size: int) -> None:
    after = threading.Event()
    link = lying(bend=lambda i, data: data[:size] if i == SDO and after.is_set() else data)
    after.set()
    with pytest.raises(LinkError) as caught:
        link.read(["Limits.Time"])
    assert "\n" not in str(caught.value)
    after.clear()
    link.write({"Limits.Time": 3.0})  # the next transfer is sound again
    assert link.read(["Limits.Time"]) == {"Limits.Time": 3.0}


def test_an_answer_of_another_size(lying: Make) -> None:
    after = threading.Event()

    def bend(can_id: int, data: bytes) -> bytes:
        whole = can_id == SDO and data[:1] == b"\x43" and after.is_set()
        return b"\x4b" + data[1:] if whole else data

    link = lying(bend=bend)
    after.set()
    with pytest.raises(LinkProtocolError, match="2 bytes, it has 4"):
        link.read(["Drive.Bus voltage"])


def test_segments_without_end(lying: Make) -> None:
    def read(index: int, sub: int, data: bytes | None) -> bytes | None:
        return bytes(1_000_000) if (index, sub) == (0x2020, 1) else data

    link = lying(read=read)
    begun = time.monotonic()
    with pytest.raises(LinkProtocolError, match="bytes or more, it has 4"):
        link.read(["Limits.Current"])
    assert time.monotonic() - begun < 1.0
    assert link.read(["Facts.Converter bits"]) == {"Facts.Converter bits": 12.0}


def test_a_trace_that_drips_can_be_cancelled(lying: Make, axis: Axis) -> None:
    slow = threading.Event()

    def bend(can_id: int, data: bytes) -> bytes:
        if can_id == SDO and slow.is_set():
            time.sleep(0.001)  # 127 of them come within the time for an answer
        return data

    link = lying(bend=bend)
    record = play(holding(axis), axis, link, settings={}, cancel=Cancel())
    slow.set()
    cancel = Cancel()
    threading.Timer(0.3, cancel.set).start()
    begun = time.monotonic()
    with pytest.raises(Cancelled):
        link.upload(record.rows, 3, lambda _f, _d: None, cancel)
    assert time.monotonic() - begun < 3.5  # a block of 127 that was asked for comes first
    slow.clear()


def test_a_silent_server_is_a_time_out(lying: Make) -> None:
    silent = threading.Event()
    link = lying(bend=lambda i, data: None if i == SDO and silent.is_set() else data)
    silent.set()
    with pytest.raises(LinkTimeout, match="no answer to Limits"):
        link.read(["Limits.Time"])


@pytest.mark.parametrize("state", [1, 3, 42, 122])
def test_stop_is_sent_whatever_the_heartbeat_says(lying: Make, axis: Axis, state: int) -> None:
    """The frame goes out although the library has no name for the state of the last heartbeat."""
    link = lying(bend=lambda i, data: bytes([state]) if i == HEART else data)
    lives: list[Live] = []
    link.subscribe(lives.append)
    until(lambda: link._node.nmt._state == state)
    ended: list[str] = []

    def run() -> None:
        try:
            ended.append(play(holding(axis, 5.0), axis, link, settings={}, cancel=Cancel()).ended)
        except Cancelled as error:
            ended.append(str(error))

    running = threading.Thread(target=run)
    running.start()
    try:
        until(lambda: bool(lives) and lives[-1].state == "running")
        link.stop()
        until(lambda: lives[-1].state == "de-energised", 0.5)
    finally:
        running.join(8.0)  # none is left where it fails
    assert ended == ["hold: stopped at the drive"]


def test_emergencies_are_kept_with_their_code(lying: Make, axis: Axis) -> None:
    link = lying()
    lives: list[Live] = []
    link.subscribe(lives.append)
    plan = holding(axis, 0.3, current=4.02)
    assert play(plan, axis, link, settings={}, cancel=Cancel()).ended.startswith("tripped")
    until(lambda: any(live.emergency == 0xFF00 for live in lives))
    assert emergency_name(0xFF00) == "emergency 0xFF00"
    assert trip(99).words == "trip 99, unknown to this program"
    assert trip(2).words == "under-voltage"
