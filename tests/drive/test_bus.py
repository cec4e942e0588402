"""Frames on the local bus, and the object dictionary of record."""

import socket
import struct
from pathlib import Path

import can
import pytest
from hypothesis import given
from hypothesis import strategies as st

from oarlock.drive.canopen_link import CanopenLink, dictionary
from oarlock.drive.steps import CHANNELS
from oarlock.drive.unix_bus import BUSY, FRAME, TOGETHER, UnixBus, pack, runtime_folder, unpack
from oarlock.errors import InputError, LinkLost
from oarlock.simulate.drive_model import CHANNELS as MODEL_CHANNELS


@given(st.integers(0, 0x7FF), st.binary(max_size=8))
def test_frames_survive_the_way(can_id: int, data: bytes) -> None:
    frame = pack(can_id, data)
    assert len(frame) == 16  # struct can_frame
    assert unpack(frame) == (can_id, data)


@pytest.mark.parametrize("frame", [b"", b"x" * 15, b"x" * 17, struct.pack("<IB3x8s", 1, 9, b"")])
def test_malformed_frames_are_refused(frame: bytes) -> None:
    with pytest.raises(ValueError, match="frame"):
        unpack(frame)


@pytest.fixture
def server(tmp_path: Path) -> socket.socket:
    made = socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    made.bind(str(tmp_path / "bus"))
    made.listen(1)
    return made


@pytest.mark.parametrize(
    ("sent", "words"), [(BUSY, "another client"), (b"short", "malformed"), (b"", "closed")]
)
def test_why_the_line_broke_is_told_once(
    tmp_path: Path, server: socket.socket, sent: bytes, words: str
) -> None:
    told: list[str] = []
    bus = UnixBus(str(tmp_path / "bus"), told.append)
    other, _ = server.accept()
    if sent:
        other.send(sent)
    other.close()
    for _ in range(3):
        assert bus.recv(0.1) is None
    assert len(told) == 1
    assert words in told[0]
    bus.shutdown()
    server.close()


def test_sending_into_a_broken_line_raises(tmp_path: Path, server: socket.socket) -> None:
    bus = UnixBus(str(tmp_path / "bus"))
    other, _ = server.accept()
    other.close()
    server.close()
    with pytest.raises(can.CanOperationError):
        for _ in range(3):
            bus.send(can.Message(arbitration_id=1, data=b"x", is_extended_id=False))
    bus.shutdown()


def test_frames_arrive_as_messages(tmp_path: Path, server: socket.socket) -> None:
    bus = UnixBus(str(tmp_path / "bus"))
    other, _ = server.accept()
    other.send(pack(0x581, b"hello"))
    message = bus.recv(1.0)
    assert message is not None
    assert (message.arbitration_id, bytes(message.data)) == (0x581, b"hello")
    bus.send(message)
    assert unpack(other.recv(FRAME.size)) == (0x581, b"hello")
    bus.shutdown()
    other.close()
    server.close()


def test_frames_that_came_together_are_told_one_by_one(
    tmp_path: Path, server: socket.socket
) -> None:
    told: list[str] = []
    bus = UnixBus(str(tmp_path / "bus"), told.append)
    other, _ = server.accept()
    sent = [(0x581, bytes([n])) for n in range(TOGETHER)]
    other.send(b"".join(pack(*one) for one in sent))
    other.send(pack(0x181, b"next") + b"and a piece")
    heard = [bus.recv(0.02) for _ in range(TOGETHER + 1)]
    assert [(m.arbitration_id, bytes(m.data)) for m in heard if m] == [*sent, (0x181, b"next")]
    assert told == []
    assert bus.recv(1.0) is None
    assert told == ["malformed frame: frame of 11 bytes"]
    bus.shutdown()
    other.close()
    server.close()


@pytest.mark.parametrize(
    ("wrong", "why"),
    [(FRAME.pack(0x581, 9, b"too long"), "frame with 9 bytes of data"),
     (pack(0x581, b"cut off")[:12], "frame of 12 bytes")],
)  # fmt: skip
def test_what_goes_straight_makes_no_message_and_is_checked_too(
    tmp_path: Path, server: socket.socket, wrong: bytes, why: str
) -> None:
    lost: list[str] = []
    given: list[bytes] = []
    bus = UnixBus(str(tmp_path / "bus"), lost.append)
    bus.straight[0x581] = given.append
    other, _ = server.accept()
    other.send(pack(0x581, b"first") + pack(0x181, b"beside") + pack(0x581, b"last"))
    message = bus.recv(1.0)
    assert message is not None
    assert bytes(message.data) == b"beside"
    assert given == [b"first", b"last"]
    other.send(pack(0x581 | 0x8000_0000, b"other") + wrong)
    assert [bus.recv(0.05), bus.recv(0.05)] == [None, None]
    assert lost == [f"malformed frame: {why}"]
    assert len(given) == 2
    bus.shutdown()
    other.close()
    server.close()


def test_no_drive_there_is_one_clear_line(tmp_path: Path) -> None:
    with pytest.raises(LinkLost, match="cannot open") as caught:
        CanopenLink(str(tmp_path / "nobody"))
    assert "Start the drive" in caught.value.remedy
    with pytest.raises(LinkLost, match="can7"):
        CanopenLink("can7")


def test_the_runtime_folder_is_this_users_alone(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(tmp_path))
    folder = runtime_folder()
    assert folder.parent == tmp_path
    assert folder.stat().st_mode & 0o777 == 0o700
    monkeypatch.setattr("os.getuid", lambda: 4242)
    with pytest.raises(InputError, match="somebody else"):
        runtime_folder()


def test_the_dictionary_of_record_is_complete() -> None:
    od = dictionary(1)
    for record, names in {
        "Drive": ("State", "Trip", "Played", "Recorded rows"),
        "Current controller": ("Kp d", "Ki d", "Kp q", "Ki q", "Decoupling"),
        "Limits": ("Current", "Speed", "Travel", "Time"),
        "Facts": ("Control frequency", "Recorder rows", "Table rows", "Shaft held"),
    }.items():
        assert all(name in od[record].names for name in names)
    assert od["Step table"].data_type == od["Trace"].data_type == 0x0F
    assert CHANNELS == MODEL_CHANNELS
