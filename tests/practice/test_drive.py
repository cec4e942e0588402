"""The practice drive's own parts: its hidden truth, its dictionary, its block transfers."""

import struct
from collections.abc import Callable

import numpy as np
import pytest
from canopen.sdo.base import CrcXmodem
from canopen.sdo.exceptions import SdoAbortedError
from hypothesis import given
from hypothesis import strategies as st

from oarlock.drive.canopen_link import dictionary
from oarlock.drive.contract.numbers import COLUMNS
from oarlock.practice.firmware import Firmware
from oarlock.practice.sdo import BlockSdoServer, Values, crc16
from oarlock.practice.truth import draw
from oarlock.simulate.drive_model import DriveModel


def test_the_truth_lies_off_the_datasheet_but_within_reason() -> None:
    drawn = [draw("winch", seed) for seed in range(60)]
    for name, printed, shift in (("R", 0.82, 0.05), ("Lq", 0.017, -0.08), ("psi", 0.16, -0.03)):
        values = np.array([getattr(plant, name) for plant in drawn])
        assert values.mean() / printed - 1.0 == pytest.approx(shift, abs=0.01)
        assert 0.0 < values.std() / printed < 0.02
    assert draw("winch", 5) == draw("winch", 5)
    assert all(abs(sum(plant.gains) - 3.0) < 1e-12 for plant in drawn)
    assert np.std([plant.gains[0] for plant in drawn]) == pytest.approx(0.005, abs=0.002)


@given(st.binary(max_size=600))
def test_the_crc_is_the_one_of_the_standard(data: bytes) -> None:
    reference = CrcXmodem()
    reference.process(data)
    assert crc16(data) == reference.final()


class Wire:
    """Stands for the network: keeps what the server sends."""

    def __init__(self) -> None:
        self.sent: list[bytes] = []

    def send_message(self, _can_id: int, data: bytes) -> None:
        self.sent.append(bytes(data))

    def take(self) -> list[bytes]:
        taken, self.sent = self.sent, []
        return taken


def serve(data: bytes) -> tuple[BlockSdoServer, Wire]:
    values = Values(
        dictionary(1), lambda i, _s: data if i == 0x2041 else None, lambda _i, _s, _d: None
    )
    server, wire = BlockSdoServer(1, values), Wire()
    server.network = wire
    return server, wire


def ask(server: BlockSdoServer, *parts: int) -> None:
    server.on_request(0x601, bytearray(bytes(parts).ljust(8, b"\0")), 0.0)


@pytest.mark.parametrize("size", [1, 6, 7, 8, 49, 500, 889, 890])
def test_a_block_upload_frame_by_frame(size: int) -> None:
    data = bytes(range(256)) * 4
    server, wire = serve(data[:size])
    ask(server, 0xA4, 0x41, 0x20, 0, 50)
    head = wire.take()
    assert head == [struct.pack("<BHBL", 0xC6, 0x2041, 0, size)]
    ask(server, 0xA3)
    received = b""
    while True:
        segments = wire.take()
        assert [segment[0] & 0x7F for segment in segments] == list(range(1, len(segments) + 1))
        received += b"".join(segment[1:] for segment in segments)
        ask(server, 0xA2, len(segments), 50)
        if segments[-1][0] & 0x80:
            break
    (end,) = wire.take()
    unused = (end[0] >> 2) & 7
    assert received[: len(received) - unused if unused else None] == data[:size]
    assert struct.unpack_from("<H", end, 1)[0] == crc16(data[:size])
    ask(server, 0xA1)
    assert wire.take() == []


def test_lost_segments_are_sent_again() -> None:
    server, wire = serve(bytes(200))
    ask(server, 0xA4, 0x41, 0x20, 0, 10)
    ask(server, 0xA3)
    assert len(wire.take()) == 11
    ask(server, 0xA2, 4, 10)  # only four arrived
    again = wire.take()
    assert len(again) == 10
    assert server._sent == 28


@pytest.mark.parametrize(
    ("frames", "code"),
    [
        ([(0xA4, 0x41, 0x20, 0, 0)], 0x05040002),
        ([(0xA4, 0x41, 0x20, 0, 10), (0xA3,), (0xA2, 90, 10)], 0x05040003),
        ([(0xA4, 0x99, 0x29, 0, 10)], 0x06020000),
        ([(0x40, 0x10, 0x20, 99)], 0x06090011),
    ],
)
def test_what_breaks_the_protocol_is_aborted(frames: list[tuple[int, ...]], code: int) -> None:
    server, wire = serve(bytes(100))
    for frame in frames:
        ask(server, *frame)
    last = wire.take()[-1]
    assert last[0] == 0x80
    assert struct.unpack_from("<L", last, 4)[0] == code


@pytest.fixture
def firmware() -> Firmware:
    return Firmware(DriveModel(draw("winch", 0)))


def test_live_values_and_defaults(firmware: Firmware) -> None:
    get: Callable[[int, int], bytes] = firmware.values.get_data
    assert struct.unpack("<f", get(0x2002, 1))[0] == 16000.0
    assert struct.unpack("<f", get(0x2000, 5))[0] == pytest.approx(320.0)
    assert get(0x2000, 1) == b"\0"
    assert get(0x1017, 0) == struct.pack("<H", 100)
    with pytest.raises(SdoAbortedError):
        get(0x2011, 12)


@pytest.mark.parametrize(
    ("index", "sub", "data"),
    [
        (0x2000, 1, b"\1"),  # read-only
        (0x2010, 1, b"\0\0"),  # wrong length
        (0x2010, 1, struct.pack("<f", float("inf"))),
        (0x2010, 1, struct.pack("<f", -2.0)),
        (0x2030, 1, struct.pack("<H", 0)),
        (0x2030, 3, b"\x09"),
        (0x2040, 0, b"123"),
        (0x2040, 0, b""),
        (0x2040, 0, np.full(len(COLUMNS), np.nan, dtype="<f4").tobytes()),
        (0x2001, 0, b"\x01"),  # start: not operational, no table
    ],
)
def test_writes_without_sense_are_refused(
    firmware: Firmware, index: int, sub: int, data: bytes
) -> None:
    with pytest.raises(SdoAbortedError):
        firmware.values.set_data(index, sub, data, check_writable=True)
    assert not firmware.model.is_running


def test_nothing_changes_while_it_runs(firmware: Firmware) -> None:
    firmware.operational = True
    table = np.zeros(len(COLUMNS), dtype="<f4")
    table[0] = 1000
    firmware.values.set_data(0x2040, 0, table.tobytes())
    firmware.values.set_data(0x2020, 1, struct.pack("<f", 5.0))
    firmware.values.set_data(0x2001, 0, b"\x01")
    assert firmware.model.is_running
    for index, sub, data in ((0x2012, 2, struct.pack("<f", 9.0)), (0x2040, 0, table.tobytes())):
        with pytest.raises(SdoAbortedError):
            firmware.values.set_data(index, sub, data)
    with pytest.raises(SdoAbortedError):
        firmware.values.get_data(0x2041, 0)
    firmware.values.set_data(0x2001, 0, b"\x02")
    assert not firmware.model.is_running


def test_everything_that_the_dictionary_names_can_be_read(firmware: Firmware) -> None:
    """Sub-indices of an EDS are hexadecimal: one that is not would be answered by nothing."""
    od = dictionary(1)
    for index in [i for i in od if i >= 0x2000]:
        for sub in getattr(od[index], "subindices", {0: None}):
            if index not in (0x2001, 0x2041, 0x2043):
                firmware.values.get_data(index, sub)
    mapped = [
        od[0x1A00 + n][sub].default
        for n in range(3)
        for sub in range(1, od[0x1A00 + n][0].default + 1)
    ]
    for entry in mapped:
        variable = od[entry >> 16][(entry >> 8) & 0xFF]
        assert len(variable) == entry & 0xFF
