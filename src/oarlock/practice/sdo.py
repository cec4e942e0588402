"""The drive's side of SDO: canopen's server, with block upload added (CiA 301, 7.2.4.3)."""

import binascii
import struct
from collections.abc import Callable
from typing import Any

from canopen.objectdictionary import REAL32
from canopen.sdo.exceptions import SdoAbortedError
from canopen.sdo.server import SdoServer

Read = Callable[[int, int], bytes | None]
Write = Callable[[int, int, bytes], None]
_SEGMENTS = 8  # in a block that is downloaded: a stop is not to wait behind more of them
_MOST = 1 << 16  # bytes of a block download


def crc16(data: bytes) -> int:
    """Return the CRC of CiA 301 block transfers: polynomial 0x1021, start 0."""
    return binascii.crc_hqx(data, 0)


class Values:
    """Where the server keeps and finds values; `read` and `write` come before what is stored."""

    def __init__(self, dictionary: Any, read: Read, write: Write) -> None:
        self.object_dictionary = dictionary
        self._read, self._write = read, write
        self._stored: dict[tuple[int, int], bytes] = {}

    def _find(self, index: int, sub: int) -> Any:
        if index not in self.object_dictionary:
            raise SdoAbortedError(0x06020000)
        found = self.object_dictionary[index]
        if hasattr(found, "subindices"):
            if sub not in found:
                raise SdoAbortedError(0x06090011)
            found = found[sub]
        return found

    def get_data(self, index: int, sub: int, check_readable: bool = False) -> bytes:
        """Return the bytes of one object; canopen's server calls this."""
        variable = self._find(index, sub)
        if check_readable and not variable.readable:
            raise SdoAbortedError(0x06010001)
        live = self._read(index, sub)
        if live is not None:
            return live
        stored = self._stored.get((index, sub))
        if stored is not None:
            return stored
        if variable.default is None:
            raise SdoAbortedError(0x060A0023)
        return bytes(variable.encode_raw(variable.default))

    def set_data(self, index: int, sub: int, data: bytes, check_writable: bool = False) -> None:
        """Take the bytes of one object; canopen's server calls this."""
        variable = self._find(index, sub)
        if check_writable and not variable.writable:
            raise SdoAbortedError(0x06010002)
        if variable.data_type != 0x0F and 8 * len(data) != len(variable):
            raise SdoAbortedError(0x06070010)
        if variable.data_type == REAL32 and not abs(struct.unpack("<f", data)[0]) < 3e38:
            raise SdoAbortedError(0x06090030)
        self._write(index, sub, bytes(data))
        self.keep(index, sub, data)

    def keep(self, index: int, sub: int, data: bytes) -> None:
        """Hold the bytes of an object that nothing else holds."""
        self._stored[index, sub] = bytes(data)


class BlockSdoServer(SdoServer):  # type: ignore[misc]  # canopen is untyped
    """SDO server that uploads in blocks."""

    def __init__(self, node_id: int, values: Values) -> None:
        super().__init__(0x600 + node_id, 0x580 + node_id, values)
        self._block = b""
        self._sent = self._size = 0
        self._in_flight = 0
        self._taken: bytearray | None = None  # of a block download, while its segments come
        self._due = self._number = 0
        self._index = self._subindex = 0  # an abort names them, whatever came first

    def on_request(self, can_id: int, data: bytes | bytearray, timestamp: float) -> None:
        """Serve one request; while a block is downloaded, every frame is a part of it."""
        if self._taken is None or not data[0] & 0x7F:  # no segment has the number 0: an abort
            super().on_request(can_id, data, timestamp)
        else:
            self._take(data)

    def forget(self) -> None:
        """Let go of what was under way: the client has left."""
        self._block, self._taken = b"", None

    def block_download(self, data: bytes) -> None:
        """Serve the beginning or the end of a block download (CiA 301, 7.2.4.3.9 and on)."""
        if data[0] & 1:
            self._end(data)
            return
        self._index, self._subindex = struct.unpack_from("<HB", data, 1)
        self._due = struct.unpack_from("<L", data, 4)[0] if data[0] & 2 else 0
        if not 0 < self._due <= _MOST:
            raise SdoAbortedError(0x06070010)
        self._node.get_data(self._index, self._subindex)
        self._taken, self._number = bytearray(), 0
        self.send_response(struct.pack("<BHBB3x", 0xA4, self._index, self._subindex, _SEGMENTS))

    def _take(self, data: bytes | bytearray) -> None:
        """Take a segment where it is the next; answer after the last one of a block."""
        assert self._taken is not None
        number, ends = data[0] & 0x7F, bool(data[0] & 0x80)
        if number == self._number + 1:
            self._number = number
            self._taken += data[1:8]
        if number < _SEGMENTS and not ends:
            return
        whole = ends and number == self._number
        self.send_response(struct.pack("<BBB5x", 0xA2, self._number, _SEGMENTS))
        self._number = 0
        if whole:
            self._block, self._taken = bytes(self._taken[: self._due]), None

    def _end(self, data: bytes) -> None:
        (crc,) = struct.unpack_from("<H", data, 1)
        block, self._block = self._block, b""
        if len(block) != self._due or crc != crc16(block):
            raise SdoAbortedError(0x05040004)
        self._node.set_data(self._index, self._subindex, block, check_writable=True)
        self.send_response(b"\xa1".ljust(8, b"\0"))

    def block_upload(self, data: bytes) -> None:
        """Serve one request of a block upload."""
        command = data[0] & 0x03
        if command == 0:
            self._begin(data)
        elif command == 3:
            self._send_block()
        elif command == 2:
            self._acknowledged(data[1], data[2])
        else:  # the client confirmed the end
            self._block = b""

    def _begin(self, data: bytes) -> None:
        self._index, self._subindex = struct.unpack_from("<HB", data, 1)
        self._block = self._node.get_data(self._index, self._subindex, check_readable=True)
        self._sent, self._size = 0, data[4]
        if not self._block:
            raise SdoAbortedError(0x060A0023)
        if not 1 <= self._size <= 127:
            raise SdoAbortedError(0x05040002)
        head = struct.pack("<BHBL", 0xC6, self._index, self._subindex, len(self._block))
        self.send_response(head)

    def _send_block(self) -> None:
        self._in_flight = 0
        for number in range(1, self._size + 1):
            start = self._sent + 7 * (number - 1)
            if start >= len(self._block):
                break
            last = start + 7 >= len(self._block)
            head = number | (0x80 if last else 0)
            self.send_response(bytes([head]) + self._block[start : start + 7].ljust(7, b"\0"))
            self._in_flight = number

    def _acknowledged(self, number: int, size: int) -> None:
        if number > self._in_flight:
            raise SdoAbortedError(0x05040003)
        self._sent = min(self._sent + 7 * number, len(self._block))
        self._size = size
        if self._sent < len(self._block):
            self._send_block()
            return
        unused = -len(self._block) % 7
        end = struct.pack("<BH5x", 0xC1 | (unused << 2), crc16(self._block))
        self.send_response(end)

    def request_aborted(self, data: bytes) -> None:
        """Forget the transfer that the client gave up."""
        self.forget()
        super().request_aborted(data)
