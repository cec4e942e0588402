"""A CAN bus over a local socket: frames laid out as SocketCAN does, in SEQPACKET messages.

A client sends one frame in a message. What it receives may hold several, so that of a long answer
not each frame wakes it.

It joins the application and the practice drive where no CAN hardware is, and the application with
the process that holds a bus of another kind.
"""

import os
import select
import socket
import stat
import struct
import tempfile
import threading
import time
from collections import deque
from collections.abc import Callable
from pathlib import Path

import can

from oarlock.errors import InputError

FRAME = struct.Struct("<IB3x8s")  # can_frame: id with flags, length, padding, data
TOGETHER = 64  # frames in a message at most
BUSY = b"busy"  # what a second client is told before it is shut out
LOST = b"lost "  # before the reason why the bus behind a bridge is gone
_MASK = 0x7FF
_NOT_DATA = 0xE000_0000  # flags of extended, remote and error frames


def runtime_folder() -> Path:
    """Return the folder for sockets, readable by this user alone; made where it is missing."""
    session = os.environ.get("XDG_RUNTIME_DIR", "")
    if session and os.access(session, os.W_OK):
        folder = Path(session) / "oarlock"
    else:  # no session folder on this machine: one of our own, refused if somebody else's
        folder = Path(tempfile.gettempdir()) / f"oarlock-{os.getuid()}"
    remedy = "Set XDG_RUNTIME_DIR to a folder of your own"
    try:
        folder.mkdir(mode=0o700, exist_ok=True)
    except FileExistsError as error:
        raise InputError("this is not a folder", place=str(folder), remedy=remedy) from error
    found = folder.lstat()
    if stat.S_ISLNK(found.st_mode):
        raise InputError("this folder is a link", place=str(folder), remedy=remedy)
    if found.st_uid != os.getuid():
        raise InputError("this folder belongs to somebody else", place=str(folder), remedy=remedy)
    folder.chmod(0o700)
    return folder


def pack(can_id: int, data: bytes) -> bytes:
    """Return one frame as it goes over the socket."""
    return FRAME.pack(can_id, len(data), bytes(data).ljust(8, b"\0"))


def unpack(frame: bytes) -> tuple[int, bytes] | None:
    """Return (identifier, data) of one data frame with a standard identifier.

    None for an extended, a remote or an error frame: none of them is for this protocol.
    ValueError where it is malformed.
    """
    if len(frame) != FRAME.size:
        raise ValueError(f"frame of {len(frame)} bytes")
    can_id, length, data = FRAME.unpack(frame)
    if length > 8:
        raise ValueError(f"frame with {length} bytes of data")
    if can_id & _NOT_DATA:
        return None
    return can_id & _MASK, data[:length]


class UnixBus(can.BusABC):  # type: ignore[misc]  # python-can is seen untyped
    """The client's end; `on_lost` is told once, from the receiving thread, why it broke.

    Of a record thousands of answers come: data of an identifier in `straight` are given to who
    awaits them, no message is made of each.
    """

    def __init__(
        self, channel: str, on_lost: Callable[[str], None] | None = None, *,
        joined: socket.socket | None = None, on_shutdown: Callable[[], None] | None = None,
    ) -> None:  # fmt: skip
        self._socket = joined or socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        self._on_shutdown = on_shutdown
        try:
            if joined is None:
                self._socket.connect(channel)
        except OSError:
            self._socket.close()
            raise
        self._frames: deque[bytes] = deque()  # that came in one message, still to be told
        self.straight: dict[int, Callable[[bytes], None]] = {}
        self._lost = threading.Event()
        self._on_lost = on_lost or (lambda _reason: None)
        self.channel_info = f"local socket {channel}"
        self._is_shutdown = False
        super().__init__(channel=channel)

    def _recv_internal(self, timeout: float | None) -> tuple[can.Message | None, bool]:
        if self._lost.is_set():
            time.sleep(min(timeout or 0.05, 0.05))
            return None, False
        if not self._frames and not self._fetched(timeout):
            return None, False
        try:
            found = unpack(self._frames.popleft())
        except ValueError as error:
            return self._lose(f"malformed frame: {error}")
        if found is None:
            return None, False
        can_id, data = found
        message = can.Message(
            arbitration_id=can_id, data=data, is_extended_id=False, timestamp=time.time()
        )
        return message, False

    def _fetched(self, timeout: float | None) -> bool:
        """Fetch the frames of the next message; return whether there are any."""
        try:
            message = self._waiting() or self._awaited(timeout)
        except (OSError, ValueError) as error:
            self._lose(str(error))
            return False
        if message is None:
            return False
        if message == BUSY:
            self._lose("another client commands the drive")
        elif not message:
            self._lose("the drive closed the line")
        elif message.startswith(LOST):
            reason = message.removeprefix(LOST).decode(errors="replace")
            self._lose(f"the bus is gone: {reason}")
        else:
            self._part(message)
        return bool(self._frames)

    def _part(self, message: bytes) -> None:
        """Give what goes straight to who awaits it, and keep the other frames of a message."""
        for at in range(0, len(message), FRAME.size):
            frame = message[at : at + FRAME.size]
            give = self.straight.get(int.from_bytes(frame[:4], "little"))
            if give is None or len(frame) != FRAME.size or frame[4] > 8:
                self._frames.append(frame)
            else:
                give(frame[8 : 8 + frame[4]])

    def _waiting(self) -> bytes | None:
        """Return the message that has arrived; None where none has."""
        try:
            return self._socket.recv(TOGETHER * FRAME.size, socket.MSG_DONTWAIT)
        except BlockingIOError:
            return None

    def _awaited(self, timeout: float | None) -> bytes | None:
        """Return the next message within `timeout` s; None where none comes."""
        ready, _, _ = select.select([self._socket], [], [], timeout)
        return self._socket.recv(TOGETHER * FRAME.size) if ready else None

    def _lose(self, reason: str) -> tuple[None, bool]:
        if not self._lost.is_set():
            self._lost.set()
            if not self._is_shutdown:
                self._on_lost(reason)
        return None, False

    def send(self, msg: can.Message, timeout: float | None = None) -> None:
        """Send one frame; `can.CanOperationError` where the line is broken."""
        try:
            self._socket.send(pack(msg.arbitration_id, bytes(msg.data)))
        except OSError as error:
            # Why it broke stands in what can still be received: the receiving thread tells it.
            raise can.CanOperationError(str(error)) from error

    def fileno(self) -> int:
        """Return -1: frames are fetched by the thread, not by an event loop."""
        return -1

    @property
    def descriptor(self) -> int:
        """The socket's own descriptor."""
        return self._socket.fileno()

    def shutdown(self) -> None:
        """Close the socket."""
        if not self._is_shutdown:
            self._is_shutdown = True
            self._lost.set()
            super().shutdown()
            self._socket.close()
            if self._on_shutdown is not None:
                self._on_shutdown()


def descriptor(bus: can.BusABC) -> int:
    """Return the descriptor on which whole frames can be written; SocketCAN has the same layout."""
    return int(bus.descriptor if isinstance(bus, UnixBus) else bus.socket.fileno())
