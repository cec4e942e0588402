"""Parameters many at a time, over canopen's own client and server, without a bus between them."""

import struct
from collections.abc import Callable
from typing import Any

import canopen
import numpy as np
import pytest
from canopen.sdo.exceptions import SdoAbortedError

from oarlock.drive.canopen_link import START, dictionary
from oarlock.drive.contract.entries import BY_NAME, PARAMETERS
from oarlock.drive.contract.trips import TRIPS
from oarlock.drive.held import LEAST, Held
from oarlock.drive.transfers import send_any, send_block
from oarlock.drive.translated import translated
from oarlock.errors import DriveRefused, LinkProtocolError, LinkTimeout
from oarlock.practice.firmware import Firmware
from oarlock.practice.sdo import BlockSdoServer
from oarlock.practice.truth import draw
from oarlock.simulate.drive_model import DriveModel

VALUES = {
    "Current controller.Kp d": 3.25, "Current controller.Kp q": 4.5, "Speed controller.Kp": 0.5,
    "Speed controller.Divider": 10.0, "Recorder.Decimation": 7.0, "Recorder.Channels": 2.0,
    "Limits.Time": 2.5, "Recorder.First row": 70000.0, "Torque filter 2.a1": -0.75,
}  # fmt: skip


class Bus:
    """Passes each frame on at once, but for those that `lose` picks."""

    def __init__(self) -> None:
        self.network = canopen.Network()
        self.network.bus = self
        self.serve: Callable[[int, bytearray, float], None] = lambda *_: None
        self.frames: list[bytes] = []  # of requests
        self.lose: Callable[[int], bool] = lambda _number: False

    def send(self, message: Any) -> None:
        self.frames.append(bytes(message.data))
        if not self.lose(len(self.frames)):
            self.serve(0x601, bytearray(message.data), 0.0)

    def send_message(self, can_id: int, data: bytes) -> None:
        """Take what the drive answers."""
        self.network.notify(can_id, bytearray(data), 0.0)


class Rig:
    """A firmware and what a client sees of it."""

    def __init__(self) -> None:
        self.bus, self.firmware = Bus(), Firmware(DriveModel(draw("winch", 0)))
        self.server = BlockSdoServer(1, self.firmware.values)
        self.server.network, self.bus.serve = self.bus, self.server.on_request
        self.node = self.bus.network.add_node(canopen.RemoteNode(1, dictionary(1)))
        self.node.sdo.RESPONSE_TIMEOUT, self.node.sdo.MAX_RETRIES = 0.05, 1
        self.asked: list[str] = []
        self.held = Held(self.find, self.ask, "rig")

    def find(self, key: str) -> Any:
        record, _, name = key.partition(".")
        return self.node.sdo[record][name] if name else self.node.sdo[record]

    def ask(self, action: Callable[[], Any], what: str) -> Any:
        self.asked.append(what)
        with translated("rig", what, lambda: None):
            return action()

    def live(self, name: str) -> float:
        group, entry = BY_NAME[name]
        data = self.firmware.values.get_data(group.index, group.sub(entry))
        return float(struct.unpack(entry.type.form, data)[0])


# CiA 301, table of SDO abort codes, and what an engineer is told of each.
ABORTED = {
    0x08000022: "another experiment may be running",  # because of the present device state
    0x06090030: "out of range",  # value range of parameter exceeded
    0x06040043: "step table",  # general parameter incompatibility
    0x06020000: "does not know this parameter",  # object does not exist
    0x06010002: "read-only",  # attempt to write a read only object
    0x060A0023: "nothing recorded",  # resource not available
}


@pytest.mark.parametrize(("code", "told"), ABORTED.items())
def test_a_refusal_is_told_in_words(code: int, told: str) -> None:
    with pytest.raises(DriveRefused) as caught, translated("rig", "Kp", lambda: None):
        raise canopen.SdoAbortedError(code)
    assert told in str(caught.value)


@pytest.fixture
def rig() -> Rig:
    return Rig()


def test_many_go_in_one_transfer_each_way(rig: Rig) -> None:
    rig.held.write(VALUES)
    assert rig.asked == ["Parameters", "Parameters"]  # there, and back to be compared
    assert {name: rig.live(name) for name in VALUES} == VALUES
    rig.asked.clear()
    assert rig.held.read(list(VALUES)) == VALUES
    assert rig.asked == ["Parameters"]
    rig.held.write(VALUES)  # the drive holds them: nothing is sent
    assert rig.asked == ["Parameters"]
    rig.held.forget()
    rig.held.write(VALUES)
    assert len(rig.asked) == 3


def test_a_few_go_one_by_one(rig: Rig) -> None:
    few = dict(list(VALUES.items())[: LEAST - 1])
    rig.held.write(few)
    assert "Parameters" not in rig.asked
    assert rig.held.read(list(few)) == few
    assert "Parameters" not in rig.asked


def test_all_parameters_go_there_and_back(rig: Rig) -> None:
    wanted = {}
    for n, name in enumerate(PARAMETERS):
        _, entry = BY_NAME[name]
        value = min(max(entry.low, float(n % 3)), entry.high)
        wanted[name] = float(np.float32(value))  # as the drive holds it
    rig.held.write(wanted)
    assert rig.held.read(list(wanted)) == wanted
    assert all(rig.live(name) == value for name, value in wanted.items())
    assert "Command" not in PARAMETERS
    assert len(rig.bus.frames) < 2 * len(PARAMETERS)


def test_what_it_says_of_itself_is_asked_beside(rig: Rig) -> None:
    names = [*VALUES, "Facts.Control frequency", "Drive.State"]
    rig.held.write(VALUES)
    rig.asked.clear()
    found = rig.held.read(names)
    assert found["Facts.Control frequency"] == 16000.0
    assert rig.asked == ["Parameters", "Facts.Control frequency", "Drive.State"]


def test_one_that_is_refused_is_named_and_nothing_before_it_is_taken_unseen(rig: Rig) -> None:
    wrong = VALUES | {"Speed controller.Divider": 0.0}  # outside 1 to 65535
    with pytest.raises(DriveRefused, match="out of range") as caught:
        rig.held.write(wrong)
    assert "Speed controller.Divider" in str(caught.value)
    assert rig.live("Torque filter 2.a1") == 0.0  # behind it: not sent
    rig.held.write(VALUES)
    assert {name: rig.live(name) for name in VALUES} == VALUES


def test_a_block_is_taken_as_a_whole_or_not_at_all(rig: Rig) -> None:
    at = {name: (BY_NAME[name][0].index, BY_NAME[name][0].sub(BY_NAME[name][1]))
          for name in ("Limits.Time", "Speed controller.Divider")}  # fmt: skip
    rows = struct.pack("<HBxf", *at["Limits.Time"], 9.0)
    rows += struct.pack("<HBxI", *at["Speed controller.Divider"], 0)
    for data, code in ((rows, 0x06090030), (rows[:-1], 0x06040043), (b"", 0x06040043),
                       (rows[:8] + struct.pack("<HBxI", 0x2001, 0, 1), 0x06040043),
                       (rows[:8] + struct.pack("<HBxI", 0x2999, 0, 1), 0x06040043)):  # fmt: skip
        with pytest.raises(SdoAbortedError) as caught:
            rig.firmware.write(0x2045, 0, data)
        assert caught.value.code == code
        assert rig.live("Limits.Time") == 0.0


def test_a_drive_without_the_object_is_asked_one_by_one(
    rig: Rig, monkeypatch: pytest.MonkeyPatch
) -> None:
    find = rig.firmware.values._find

    def without(index: int, sub: int) -> Any:
        if index == 0x2045:
            raise SdoAbortedError(0x06020000)
        return find(index, sub)

    monkeypatch.setattr(rig.firmware.values, "_find", without)
    rig.held.write(VALUES)
    assert {name: rig.live(name) for name in VALUES} == VALUES
    assert rig.asked.count("Parameters") == 1
    assert rig.held.read(list(VALUES)) == VALUES
    assert rig.asked.count("Parameters") == 1  # it said so once


def test_while_it_runs_live_ones_wait_together_and_others_are_refused(rig: Rig) -> None:
    firm = {"Limits.Current": 30.0, "Limits.Speed": 400.0, "Limits.Travel": 9.0, "Limits.Time": 9.0}
    rig.held.write(firm)
    row = [0.0] * 18
    row[0] = 1e6
    rig.firmware.write(0x2040, 0, struct.pack("<18f", *row))
    rig.firmware.operational = True
    rig.firmware.write(0x2001, 0, bytes([START]))
    rig.firmware.model.advance(10)
    assert rig.firmware.model.is_running, TRIPS[rig.firmware.model.trip]
    live = {name: 0.5 for name in PARAMETERS if BY_NAME[name][1].live
            and BY_NAME[name][1].type.form == "<f"}  # fmt: skip
    assert len(live) >= LEAST
    rig.asked.clear()
    rig.held.write(live)
    assert rig.asked == ["Parameters", "Parameters"]
    assert rig.firmware.model.pending > 0
    rows = [struct.pack("<HBxf", *at, 0.7) for at in ((0x2011, 1), (0x2020, 4))]
    with pytest.raises(SdoAbortedError) as caught:
        rig.firmware.write(0x2045, 0, b"".join(rows))  # a live one, and one that is not
    assert caught.value.code == 0x08000022
    assert rig.live("Speed controller.Kp") == 0.5
    with pytest.raises(DriveRefused, match="not in this state"):
        rig.held.write(live | {"Limits.Time": 1.0, "Speed controller.Kp": 0.7})


def test_what_failed_on_its_way_is_not_relied_on(rig: Rig) -> None:
    """Written, then cut off while it is changed: it is sent again, even as it was."""
    rig.held.write(VALUES)
    rig.bus.lose = lambda _number: True
    with pytest.raises(LinkTimeout):
        rig.held.write({name: value + 1.0 for name, value in VALUES.items()})
    rig.bus.lose = lambda _number: False
    rig.asked.clear()
    rig.held.write(VALUES)
    assert rig.asked == ["Parameters", "Parameters"]


def test_something_else_than_was_sent_is_told(rig: Rig, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(rig.firmware, "_several", lambda _data: None)  # it takes, and forgets
    with pytest.raises(LinkProtocolError, match="Kp d did not arrive as it was sent"):
        rig.held.write(VALUES)


def test_another_set_of_parameters_is_told(rig: Rig, monkeypatch: pytest.MonkeyPatch) -> None:
    read = rig.firmware.read

    def other(index: int, sub: int) -> bytes | None:
        data = read(index, sub)
        return data[8:] + data[:8][:2] + b"\x63" + data[3:8] if index == 0x2045 and data else data

    monkeypatch.setattr(rig.firmware.values, "_read", other)
    with pytest.raises(LinkProtocolError, match="without some, or with others"):
        rig.held.read(list(VALUES))


# Block download, frame by frame


@pytest.mark.parametrize("size", [1, 7, 8, 8 * 7, 8 * 7 + 1, 2000])
def test_blocks_of_any_size_arrive(rig: Rig, size: int, monkeypatch: pytest.MonkeyPatch) -> None:
    taken: list[bytes] = []
    monkeypatch.setattr(rig.firmware.values, "_write", lambda _i, _s, data: taken.append(data))
    data = bytes(n * 7 % 251 for n in range(size))
    assert send_block(rig.find("Parameters"), data) == data
    assert taken == [data]


def test_frames_go_a_few_at_a_time_whatever_a_drive_takes(
    rig: Rig, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A queue of ten frames does not run over, and a stop never waits behind more than eight."""
    monkeypatch.setattr("oarlock.practice.sdo._SEGMENTS", 127)
    rested: list[int] = []
    monkeypatch.setattr(
        "oarlock.drive.transfers.time.sleep", lambda _s: rested.append(len(rig.bus.frames))
    )
    monkeypatch.setattr(rig.firmware.values, "_write", lambda _i, _s, _data: None)
    send_block(rig.find("Parameters"), bytes(700))
    bursts = np.diff([1, *rested, len(rig.bus.frames)])
    assert len(rig.bus.frames) == 102
    assert max(bursts) <= 8
    rested.clear()
    monkeypatch.setattr("oarlock.practice.sdo._SEGMENTS", 8)
    send_block(rig.find("Parameters"), bytes(700))
    assert not rested  # the drive's answers are breath enough


def test_segments_that_were_lost_are_sent_again(rig: Rig, monkeypatch: pytest.MonkeyPatch) -> None:
    taken: list[bytes] = []
    monkeypatch.setattr(rig.firmware.values, "_write", lambda _i, _s, data: taken.append(data))
    rig.bus.lose = lambda number: number in (60, 61, 150)  # the first is the request
    data = bytes(n % 251 for n in range(2000))
    send_block(rig.find("Parameters"), data)
    assert taken == [data]
    assert len(rig.bus.frames) > 2 + 2000 / 7 + 3


def test_the_last_segment_lost_ends_in_a_line_and_the_next_transfer_goes(rig: Rig) -> None:
    data = struct.pack("<HBxf", 0x2020, 4, 2.5) * 2
    rig.bus.lose = lambda number: number == 4
    with pytest.raises(LinkTimeout), translated("rig", "Parameters", lambda: None):
        send_block(rig.find("Parameters"), data)
    assert rig.bus.frames[-1][0] == 0x80  # it told the drive that it gave up
    rig.bus.lose = lambda _number: False
    send_block(rig.find("Parameters"), data)
    assert rig.live("Limits.Time") == 2.5


def test_more_taken_than_was_sent_is_told(rig: Rig, monkeypatch: pytest.MonkeyPatch) -> None:
    send = rig.server.send_response
    monkeypatch.setattr(
        rig.server, "send_response",
        lambda data: send(bytes([0xA2, 100, 127]).ljust(8, b"\0") if data[0] == 0xA2 else data),
    )  # fmt: skip
    with (
        pytest.raises(LinkProtocolError, match="Unexpected number of segments"),
        translated("rig", "Parameters", lambda: None),
    ):
        send_block(rig.find("Parameters"), bytes(40))


def test_a_drive_that_takes_no_blocks_gets_segments(
    rig: Rig, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Its step table goes the slow way; what else it refuses is told."""

    def none(data: bytes) -> None:
        raise SdoAbortedError(0x05040001)

    monkeypatch.setattr(rig.server, "block_download", none)
    table = struct.pack("<36f", *([0.0] * 36))
    assert send_any(rig.find("Step table"), table) == table
    assert rig.firmware.values.get_data(0x2040, 0) == table
    with pytest.raises(SdoAbortedError, match="0x06040043"):
        send_any(rig.find("Step table"), table[:-1])


def test_a_wrong_check_sum_is_refused(rig: Rig, monkeypatch: pytest.MonkeyPatch) -> None:
    data = struct.pack("<HBxf", 0x2020, 4, 2.5) * 2
    monkeypatch.setattr("oarlock.practice.sdo.crc16", lambda _data: 1)
    with pytest.raises(SdoAbortedError) as caught:
        send_block(rig.find("Parameters"), data)
    assert caught.value.code == 0x05040004
    assert rig.live("Limits.Time") == 0.0


@pytest.mark.parametrize(
    ("head", "code"),
    [
        (struct.pack("<BHBL", 0xC6, 0x2045, 0, 0), 0x06070010),
        (struct.pack("<BHBL", 0xC6, 0x2045, 0, 1 << 20), 0x06070010),
        (struct.pack("<BHBL", 0xC6, 0x2999, 0, 8), 0x06020000),
    ],
)
def test_a_block_that_cannot_be_is_refused_at_its_head(rig: Rig, head: bytes, code: int) -> None:
    answer = rig.node.sdo
    with pytest.raises(SdoAbortedError) as caught:
        answer.request_response(bytearray(head))
    assert caught.value.code == code


def test_what_only_tells_is_not_written_in_a_block(rig: Rig) -> None:
    with pytest.raises(SdoAbortedError) as caught:
        send_block(rig.find("Unsaved"), bytes(8))
    assert caught.value.code == 0x06010002


def test_a_client_that_leaves_in_mid_block_leaves_nothing(rig: Rig) -> None:
    client = rig.node.sdo
    client.request_response(bytearray(struct.pack("<BHBL", 0xC6, 0x2045, 0, 800)))
    client.send_request(bytearray(b"\x01") + bytearray(7))
    rig.server.forget()
    assert rig.held.read(["Limits.Time"]) == {"Limits.Time": 0.0}
