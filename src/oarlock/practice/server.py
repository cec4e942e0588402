"""The practice drive's process: real time, one client, and no current when nobody is there."""

import collections
import itertools
import os
import select
import socket
import stat
import struct
import sys
import time
from pathlib import Path
from typing import Any

import canopen

from oarlock.drive.bridge import Bridge
from oarlock.drive.channel import Channel
from oarlock.drive.contract.trips import trip
from oarlock.drive.handshake import CLIENT_ID
from oarlock.drive.unix_bus import BUSY, FRAME, TOGETHER, pack, unpack
from oarlock.errors import InputError
from oarlock.practice.firmware import NODE, Firmware, scaled_lines
from oarlock.practice.sdo import BlockSdoServer
from oarlock.practice.truth import WINDING
from oarlock.simulate import layout as k
from oarlock.simulate.drive_model import DriveModel

WATCHDOG = 0.050  # s without the client's heartbeat, then no current
_TICK_RUNNING, _TICK_IDLE = 0.002, 0.01  # s
_STREAM, _HEARTBEAT = 0.02, 0.1  # s
_BUDGET = 0.002  # s of answering requests in a turn; the rest waits
_LONGEST_CATCH_UP = 0.5  # s; after a longer pause time is skipped, not played
_AT_ONCE = 0.02  # s that a drive faster than real time catches up
_LEFT = 0.5  # s of silence on a bus after which its client has left
_QUEUE = 4000  # frames; a client that does not read is dropped


class _Network(canopen.Network):  # type: ignore[misc]  # canopen is untyped
    """What canopen's server sends and is told; frames wait here until the client reads."""

    def __init__(self) -> None:
        super().__init__()
        self.frames: collections.deque[bytes] = collections.deque()

    def send_message(self, can_id: int, data: bytes, remote: bool = False) -> None:
        """Put a data frame in line; a drive sends no other."""
        self.frames.append(pack(can_id, data))


def _clear_the_way(path: Path) -> None:
    """Take away the socket of a drive that is gone; anything else there is left and refused.

    Raises
    ------
    InputError : something that is no socket, or another drive, is there

    """
    try:
        found = path.lstat()
    except FileNotFoundError:
        return
    if not stat.S_ISSOCK(found.st_mode):
        raise InputError("there is something that is no socket", place=str(path),
                         remedy="Name another file with --socket")  # fmt: skip
    with socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET) as other:
        other.settimeout(0.5)
        try:
            other.connect(str(path))
        except (ConnectionRefusedError, FileNotFoundError):
            path.unlink(missing_ok=True)
            return
        except OSError:
            pass  # it listens, and does not answer now
    raise InputError("another practice drive listens here", place=str(path),
                     remedy="End it, or name another file with --socket")  # fmt: skip


class _Awake:
    """Tells for how long this process was kept from running: neither waiting nor computing."""

    def __init__(self) -> None:
        self._turn, self._worked = time.monotonic(), time.process_time()

    def stood_still(self, waited: float) -> float:
        """Return that time (s) since the last call, of which `waited` was meant to be slept."""
        now, worked = time.monotonic(), time.process_time()
        lost = now - self._turn - waited - (worked - self._worked)
        self._turn, self._worked = now, worked
        return max(lost, 0.0)


class Server:
    """Listens on a local socket, or on a CAN bus, and lets time pass."""

    def __init__(
        self, path: Path | Channel, model: DriveModel, *, tied: bool, watchdog: float = WATCHDOG,
        pace: float = 1.0, memory: Path | None = None,
    ) -> None:  # fmt: skip
        self._path, self._tied, self._watchdog, self._pace = path, tied, watchdog, pace
        self._firmware = Firmware(model, memory)
        self._model = model
        self._network = _Network()
        self._sdo = BlockSdoServer(NODE, self._firmware.values)
        self._sdo.network = self._network
        self._network.subscribe(self._sdo.rx_cobid, self._sdo.on_request)
        self._client: socket.socket | None = None
        self._beat = 0.0
        self._reported_trip = 0
        self._told = model.state
        self._requests: collections.deque[tuple[int, bytes]] = collections.deque()
        self._listener: socket.socket | None = None
        self._bridge: Bridge | None = None
        self._inode = 0
        if isinstance(path, Channel):
            self._bridge = Bridge(path)
            self._client = self._bridge.socket
            self._client.setblocking(False)
        else:
            self._listen(path)

    def _listen(self, path: Path) -> None:
        _clear_the_way(path)
        self._listener = socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        self._listener.bind(str(path))
        self._inode = path.stat().st_ino
        path.chmod(0o600)
        self._listener.listen(4)

    def run(self) -> None:
        """Serve until the parent is gone (its end of standard input closed) or interrupted."""
        now = time.monotonic()
        played, stream, heartbeat = now, now, now
        awake = _Awake()
        try:
            while True:
                tick = _TICK_RUNNING if self._model.is_running else _TICK_IDLE
                wait = 0.0 if self._requests else max(played + tick - time.monotonic(), 0.0)
                if not self._exchange(wait):
                    return
                now = time.monotonic()
                # While this process itself stood still, nobody's silence could be heard.
                self._beat = min(self._beat + awake.stood_still(wait), now)
                self._watch(now)
                if now - played >= tick:
                    played = self._play(played, now)
                self._tell_state()
                if now >= stream:
                    self._send_stream()
                    stream = now + _STREAM
                if now >= heartbeat:
                    self._send(0x700 + NODE, b"\x05" if self._firmware.operational else b"\x7f")
                    heartbeat = now + _HEARTBEAT
                self._flush()
        finally:
            self.close()

    def close(self) -> None:
        """Let go of client and socket; the socket's file goes if it is still this drive's."""
        self._drop()
        if self._bridge is not None:
            self._bridge.close()
        if self._listener is not None:
            self._listener.close()
        if (
            isinstance(self._path, Path)
            and self._path.exists()
            and self._path.stat().st_ino == self._inode
        ):
            self._path.unlink(missing_ok=True)

    def _play(self, played: float, now: float) -> float:
        """Advance the model to `now`; return how far it got.

        A drive in real time that was kept from running for long has lost its hold of the
        machine, as a real one would have. A faster one goes as fast as this computer can.
        """
        if self._pace > 1.0:
            played = max(played, now - _AT_ONCE)
        elif now - played > _LONGEST_CATCH_UP:
            self._model.stop(k.TRIP_HEARTBEAT)
            return now
        Ts = self._model.plant.Ts / self._pace
        samples = int((now - played) / Ts)
        self._model.advance(samples)
        return played + samples * Ts

    def _watch(self, now: float) -> None:
        model = self._model
        if model.is_running and now - self._beat > self._watchdog:
            model.stop(k.TRIP_HEARTBEAT)
        left = now - self._beat > max(_LEFT, self._watchdog)
        if self._bridge is not None and self._firmware.operational and left:
            self._forget()  # nobody tells a node on a bus that its client has left
        if model.trip != self._reported_trip:
            self._reported_trip = model.trip
            code = trip(model.trip).emergency
            self._send(0x80 + NODE, struct.pack("<HBB4x", code, int(bool(code)), model.trip))

    def _exchange(self, timeout: float) -> bool:
        """Take what arrives within `timeout`; return False when the parent is gone."""
        # A client that has left is seen to be gone before the next one is looked at.
        sources: list[Any] = [self._client] if self._client else []
        sources += [self._listener] if self._listener else []
        sources += [sys.stdin.fileno()] if self._tied else []
        writable = [self._client] if self._client and self._network.frames else []
        ready, _, _ = select.select(sources, writable, [], timeout)
        for source in ready:
            if source is self._listener:
                self._accept()
            elif source is self._client:
                self._receive()
            elif not os.read(sys.stdin.fileno(), 64):
                return False
        self._answer()
        return self._listener is not None or self._client is not None

    def _accept(self) -> None:
        if self._listener is None:
            return
        client, _ = self._listener.accept()
        if self._client is not None:
            client.setblocking(False)
            try:
                client.send(BUSY)
            except OSError:
                pass  # it left by itself: there is nobody to tell
            finally:
                client.close()
            return
        client.setblocking(False)
        self._client = client
        self._network.frames.clear()
        self._requests.clear()
        self._beat = 0.0

    def _receive(self) -> None:
        """Take all that has arrived: heartbeat and stop act at once, requests wait in line."""
        for _ in range(_QUEUE):
            if self._client is None:
                return
            try:
                frame = self._client.recv(FRAME.size + 1)
            except BlockingIOError:
                return
            except OSError:
                frame = b""
            if not frame:
                self._drop()
                return
            try:
                found = unpack(frame)
            except ValueError:
                self._drop()
                return
            if found is not None:
                self._handle(*found)

    def _handle(self, can_id: int, data: bytes) -> None:
        if can_id == 0x700 + CLIENT_ID and len(data) == 1:
            self._beat = time.monotonic()
        elif can_id == 0 and len(data) >= 2 and data[1] in (0, NODE):
            if data[0] == 1:  # in its turn, so that a stop before it still stops
                self._requests.append((can_id, data))
            else:
                self._firmware.operational = False
                self._model.stop()
                # A start that was asked for before the stop must not come after it.
                self._requests = collections.deque(r for r in self._requests if r[0] != 0)
        elif can_id == self._sdo.rx_cobid and len(data) == 8 and len(self._requests) < _QUEUE:
            self._requests.append((can_id, data))

    def _answer(self) -> None:
        """Answer what waits, for as long as a turn may take."""
        until = time.monotonic() + _BUDGET
        while self._requests and self._client is not None:
            can_id, data = self._requests.popleft()
            if can_id == 0:
                self._firmware.operational = True
            else:
                self._network.notify(can_id, bytearray(data), time.time())
            self._tell_state()
            self._flush()
            if time.monotonic() > until:
                return

    def _forget(self) -> None:
        """Take what a client asked for back: no current, from this moment on."""
        self._model.stop()
        self._model.clear()
        self._firmware.operational = False
        self._requests.clear()
        self._sdo.forget()

    def _drop(self) -> None:
        """Be without a client."""
        self._forget()
        if self._client:
            self._client.close()
        self._client = None
        self._network.frames.clear()

    def _tell_state(self) -> None:
        """Tell a state that has not been told yet."""
        if self._model.state != self._told:
            self._send_stream()

    def _send_stream(self) -> None:
        m = self._model
        self._told = m.state
        self._firmware.counter = (self._firmware.counter + 1) & 0xFF
        self._send(0x180 + NODE, struct.pack("<ff", m.bus, m.speed))
        self._send(0x380 + NODE, struct.pack("<fhh", m.angle, *scaled_lines(m)))
        row = (m.current, m.state, m.trip, self._firmware.counter, int(WINDING))
        self._send(0x280 + NODE, struct.pack("<fBBBb", *row))

    def _send(self, can_id: int, data: bytes) -> None:
        if self._client:
            self._network.send_message(can_id, data)

    def _flush(self) -> None:
        """Send what waits; on a bus each frame goes by itself."""
        frames, many = self._network.frames, TOGETHER if self._bridge is None else 1
        while frames and self._client:
            together = list(itertools.islice(frames, many))
            try:
                self._client.send(b"".join(together))
            except BlockingIOError:
                if len(frames) > _QUEUE:
                    self._drop()
                return
            except OSError:
                self._drop()
                return
            for _ in together:
                frames.popleft()
