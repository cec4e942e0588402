"""SDO uploads of a known size: bounded in bytes and in time, and never taken as done too early.

The library reads until the drive says that it is at its end. A drive that never does, or that
sends more or less than it told, is refused here.
"""

import contextlib
import queue
import struct
import time
from collections import deque
from typing import Any

from canopen.sdo import SdoVariable
from canopen.sdo.exceptions import SdoAbortedError, SdoCommunicationError

from oarlock.cancel import Cancel
from oarlock.drive.link import Progress
from oarlock.errors import LinkProtocolError, LinkTimeout

_SLOWEST = 2000.0  # bytes/s, below which a transfer is given up
_MOST_WAIT = 3.0  # s, besides
# Frames that are put on the bus at once, and s until the next ones: stop and heartbeat wait behind
# them, and an adapter's queue may hold ten.
_BURST, _BREATH = 8, 0.002
_LOOK = 0.05  # s, between looks at the cancel flag
_GATHER = 0.0002  # s, between looks at what a block has brought
# Abort codes of CiA 301: no such object, no such command.
UNKNOWN, NO_BLOCKS = 0x06020000, 0x05040001


class _Gathered:
    """A queue that is looked at now and then: of thousands of answers none wakes its reader."""

    def __init__(self) -> None:
        self._waiting: deque[bytes] = deque()
        self.put = self._waiting.append

    def get(self, block: bool = True, timeout: float = 0.0) -> bytes:
        """Return the next answer; `queue.Empty` where none comes within `timeout` s."""
        if not self._waiting:
            until = time.monotonic() + (timeout if block else 0.0)
            while not self._waiting:
                if time.monotonic() >= until:
                    raise queue.Empty
                time.sleep(_GATHER)
        return self._waiting.popleft()

    def empty(self) -> bool:
        """Return whether no answer waits."""
        return not self._waiting


def quietly(_fraction: float, _doing: str) -> None:
    """Tell nobody how far a transfer is."""


def fetch(variable: SdoVariable, size: int, place: str) -> bytes:
    """Return `size` bytes of an object.

    Raises
    ------
    LinkProtocolError : more, fewer, or an answer without end

    """
    data, until = bytearray(), time.monotonic() + _MOST_WAIT + size / _SLOWEST
    with variable.open("rb", buffering=0) as stream:
        while chunk := stream.read(7):
            data += chunk
            if len(data) > size or time.monotonic() > until:
                stream._done = True  # noqa: SLF001 - it is not read to its end
                break
    if stream.exp_data is not None and stream.size is None:
        del data[size:]  # four bytes, of which the drive does not say how many count
    if len(data) != size:
        more = " or more" if len(data) > size else ""
        cause = f"{variable.od.name} came as {len(data)} bytes{more}, it has {size}"
        raise LinkProtocolError(cause, place=place)
    return bytes(data)


def fetch_block(
    variable: SdoVariable, size: int, place: str, progress: Progress, cancel: Cancel
) -> bytes:
    """Return `size` bytes of an object by block upload, checked by its CRC.

    Raises
    ------
    LinkProtocolError : no check sum, or another size
    LinkTimeout : it comes too slowly
    Cancelled : the user stopped it

    """
    client = variable.sdo_node
    client.responses = _Gathered()
    try:
        return _fetched(variable, size, place, progress, cancel)
    finally:
        client.responses = queue.SimpleQueue()


def _fetched(
    variable: SdoVariable, size: int, place: str, progress: Progress, cancel: Cancel
) -> bytes:
    stream = variable.open("rb", block_transfer=True, buffering=0)
    try:
        return _blocks(stream, variable.od.name, size, place, progress, cancel)
    except BaseException:
        stream._error = True  # noqa: SLF001 - keeps close() from confirming what was cut off
        stream.sdo_client.abort(0x08000020)
        _drain(stream.sdo_client.responses)
        raise
    finally:
        stream.close()


def send_block(variable: SdoVariable, data: bytes) -> bytes:
    """Write an object by block download with a check sum (CiA 301); return what was sent.

    Raises
    ------
    LinkProtocolError : an answer out of order

    """
    client = variable.sdo_node
    client.responses = queue.SimpleQueue()
    try:
        _send(client, variable.od, data)
    except SdoCommunicationError:
        client.abort(0x08000020)
        _drain(client.responses)
        raise
    return data


def send_any(variable: SdoVariable, data: bytes) -> bytes:
    """Write an object by block download, or in segments where a drive takes none."""
    try:
        return send_block(variable, data)
    except SdoAbortedError as error:
        if error.code != NO_BLOCKS:
            raise
    variable.sdo_node.download(variable.od.index, variable.od.subindex, data)
    return data


def _send(client: Any, od: Any, data: bytes) -> None:
    head = struct.pack("<BHBL", 0xC6, od.index, od.subindex, len(data))
    size, sent = _answered(client.request_response(head), 0xA0)[4], 0
    while sent < len(data):
        pieces = [data[at : at + 7] for at in range(sent, min(len(data), sent + 7 * size), 7)]
        last = sent + 7 * len(pieces) >= len(data)
        for number, piece in enumerate(pieces, 1):
            if number % _BURST == 0 and number < len(pieces):
                time.sleep(_BREATH)
            ends = 0x80 if last and number == len(pieces) else 0
            client.send_request(bytes([number | ends]) + piece.ljust(7, b"\0"))
        answer = _answered(client.read_response(), 0xA2)
        if not 0 < answer[1] <= len(pieces):
            raise SdoCommunicationError("Unexpected number of segments taken")
        sent, size = sent + 7 * answer[1], answer[2]
    crc = client.crc_cls()
    crc.process(data)
    end = struct.pack("<BH5x", 0xC1 | (-len(data) % 7) << 2, crc.final())
    _answered(client.request_response(end), 0xA1)


def _answered(answer: bytes, command: int) -> bytes:
    if answer[0] & 0xE3 != command:
        raise SdoCommunicationError(f"Unexpected response 0x{answer[0]:02X}")
    return answer


def _blocks(
    stream: Any, name: str, size: int, place: str, progress: Progress, cancel: Cancel
) -> bytes:  # fmt: skip
    if not stream.crc_supported:
        raise LinkProtocolError(f"{name} came without a check sum", place=place)
    data = bytearray()
    begun = looked = time.monotonic()
    while len(data) <= size and (chunk := stream.read(7)):
        data += chunk
        now = time.monotonic()
        if now - looked < _LOOK:
            continue
        looked = now
        progress(min(len(data) / size, 1.0), f"fetching {len(data) // 1024} of {size // 1024} kB")
        cancel.check()
        if now - begun > _MOST_WAIT + len(data) / _SLOWEST:
            cause = f"{name} came too slowly: {len(data)} of {size} bytes"
            raise LinkTimeout(cause, place=place, remedy="Look at the bus load and the bit rate")
    if len(data) != size:
        more = " or more" if len(data) > size else ""
        cause = f"{name} came as {len(data)} bytes{more}, the drive told of {size}"
        raise LinkProtocolError(cause, place=place)
    return bytes(data)


def _drain(responses: "_Gathered | queue.SimpleQueue[bytes]") -> None:
    """Let go by what was still on its way of a transfer that was cut off."""
    with contextlib.suppress(queue.Empty):
        while True:
            responses.get(timeout=0.05)
