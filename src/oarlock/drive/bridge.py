"""Any bus of python-can as a local socket: a small process holds the bus and passes frames on.

The heartbeat is written by another small process on the very descriptor of the link (see
`heart`), which only a socket has. So a bus that is a serial line, a network or a vendor's
library is held here, and this process speaks the local socket's frames with both. It ends with
the socket, and so does the heartbeat on the bus.
"""

import collections
import os
import select
import socket
import subprocess
import sys
import threading
from dataclasses import dataclass
from typing import Any

from oarlock.drive.channel import SOCKET, Channel, parse_channel
from oarlock.drive.unix_bus import LOST, pack, unpack
from oarlock.errors import InputError, LinkLost

_SLOWEST_START = 10.0  # s
_READY, _WRONG = b"ready", b"wrong "


class Bridge:
    """The process that holds a bus; `socket` is this side's end."""

    def __init__(self, channel: Channel) -> None:
        self.socket, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        command = [sys.executable, "-m", "oarlock.drive.bridge", str(theirs.fileno()),
                   channel.text]  # fmt: skip
        try:
            self._process = subprocess.Popen(
                command, pass_fds=(theirs.fileno(),), stdin=subprocess.DEVNULL,
                stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
            )  # fmt: skip
        except OSError:
            self.socket.close()
            raise
        finally:
            theirs.close()
        try:
            self._await_ready(channel)
        except BaseException:
            self.close()
            raise

    def _await_ready(self, channel: Channel) -> None:
        pipe = self._process.stdout
        if pipe is None:
            raise LinkLost("it has no output", place=channel.text)
        ready, _, _ = select.select([pipe], [], [], _SLOWEST_START)
        line = pipe.readline().strip() if ready else b"it did not answer in time"
        pipe.close()
        if line != _READY:
            cause = line.removeprefix(_WRONG).decode(errors="replace") or "it ended at once"
            raise LinkLost(f"cannot open {channel.text}: {cause}", place="link",
                           remedy=mend(channel, cause).line)  # fmt: skip

    def close(self) -> None:
        """Let it end; harmless when it has."""
        self.socket.close()
        try:
            self._process.wait(1.0)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()


@dataclass(frozen=True, slots=True)
class Mending:
    """What mends a bus that cannot be used: words, and the command where there is one."""

    said: str
    command: str = ""

    @property
    def line(self) -> str:
        """Both in one line."""
        return f"{self.said}: {self.command}" if self.command else self.said


def mend(channel: Channel, cause: str) -> Mending:
    """Return what mends a bus that cannot be opened."""
    lower = cause.lower()
    if channel.interface == "socketcan":
        if "no such device" in lower:
            return Mending("Plug the adapter in, or see the name that it has", "ip link")
        if "network is down" in lower:
            return Mending("This brings it up", up_command(channel.address))
    if channel.interface != SOCKET and channel.address.startswith("/dev/"):
        if "permission" in lower:
            return PERMISSION
        if "no such file" in lower or "could not open" in lower:
            return Mending("Plug the adapter in, and see which are there", "ls /dev/serial/by-id")
        if "busy" in lower or "lock" in lower:
            return Mending("Another program has it; this says which", f"fuser {channel.address}")
    if "no module named" in lower or "not installed" in lower:
        return Mending("Install what python-can asks for, with pip into this environment")
    if "connection refused" in lower or "timed out" in lower or "no route" in lower:
        return Mending("Is the server running there, and is it the right host and port?")
    return Mending("Start the drive, or check its channel")


PERMISSION = Mending("Allow it, then log in again", "sudo usermod -aG dialout $USER")


def up_command(name: str, bitrate: int = 1_000_000) -> str:
    """Return the command that brings a SocketCAN interface up."""
    return f"sudo ip link set {name} up type can bitrate {bitrate}"


class _Own:
    """Frames on their way that will come back: shared by both directions."""

    def __init__(self) -> None:
        self._frames: collections.deque[bytes] = collections.deque(maxlen=256)
        self._lock = threading.Lock()

    def sent(self, frame: bytes) -> None:
        """Note a frame that is about to be sent."""
        with self._lock:
            self._frames.append(frame)

    def is_back(self, frame: bytes) -> bool:
        """Return whether a frame that came is one of ours, and forget it."""
        with self._lock:
            if frame not in self._frames:
                return False
            self._frames.remove(frame)
            return True


def serve(descriptor: int, text: str) -> int:
    """Hold the bus and pass frames both ways until the socket closes."""
    import can

    near = socket.socket(fileno=descriptor)
    try:
        bus = can.Bus(**parse_channel(text).options())
    except (can.CanError, OSError, ValueError, ImportError, NotImplementedError,
            RuntimeError, InputError) as error:  # fmt: skip
        cause = " ".join(str(error).split())[:300]
        sys.stdout.buffer.write(_WRONG + cause.encode() + b"\n")
        sys.stdout.flush()
        return 1
    sys.stdout.buffer.write(_READY + b"\n")
    sys.stdout.flush()
    os.close(sys.stdout.fileno())
    ended = threading.Event()
    # Multicast brings back what was sent; no other bus does.
    own = _Own() if parse_channel(text).interface == "udp_multicast" else None
    thread = threading.Thread(target=_inward, args=(bus, near, ended, own), daemon=True)
    thread.start()
    _outward(bus, near, ended, own)
    ended.set()
    thread.join(0.5)
    bus.shutdown()
    return 0


def _inward(bus: Any, near: socket.socket, ended: threading.Event, own: _Own | None) -> None:
    """Pass on what the bus brings; however it ends, the bridge ends with it."""
    try:
        while not ended.is_set() and _passed_on(bus, near, own):
            continue
    finally:
        ended.set()


def _passed_on(bus: Any, near: socket.socket, own: _Own | None) -> bool:
    """Pass on the next frame of the bus, if one comes; return whether there can be more."""
    import can

    try:
        message = bus.recv(0.1)
    except (can.CanError, OSError, ValueError) as error:
        _tell(near, str(error))
        return False
    if message is None or message.is_extended_id or message.is_remote_frame:
        return True
    if message.is_error_frame or message.is_fd or len(message.data) > 8:
        return True
    frame = pack(message.arbitration_id, bytes(message.data))
    if own is not None and own.is_back(frame):
        return True
    try:
        near.send(frame)
    except OSError:
        return False
    return True


def _outward(bus: Any, near: socket.socket, ended: threading.Event, own: _Own | None) -> None:
    """Put on the bus what the socket brings."""
    import can

    while not ended.is_set():
        ready, _, _ = select.select([near], [], [], 0.1)
        if not ready:
            continue
        try:
            frame = near.recv(64)
            if not frame:
                return
            found = unpack(frame)
            if found is not None:
                if own is not None:
                    own.sent(pack(*found))
                bus.send(can.Message(arbitration_id=found[0], data=found[1], is_extended_id=False))
        except (can.CanError, OSError, ValueError) as error:
            _tell(near, str(error))
            return


def _tell(near: socket.socket, cause: str) -> None:
    """Tell the other side why the bus is lost."""
    try:
        near.send(LOST + " ".join(cause.split()).encode()[:50])
    except OSError:
        return  # the other side is gone


if __name__ == "__main__":
    try:
        sys.exit(serve(int(sys.argv[1]), sys.argv[2]))
    except KeyboardInterrupt:
        sys.exit(0)
