"""The practice drive's process: real time, one client, and no current when nobody is there."""

import collections
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
import numpy as np
from canopen.sdo.exceptions import SdoAbortedError

from oarlock.drive.canopen_link import CLEAR, CLIENT_ID, START, STOP, dictionary
from oarlock.drive.contract.trips import trip
from oarlock.drive.unix_bus import BUSY, FRAME, pack, unpack
from oarlock.errors import InputError
from oarlock.practice.sdo import BlockSdoServer, Values
from oarlock.practice.truth import WINDING
from oarlock.simulate import _kernels as k
from oarlock.simulate.drive_model import CAPACITY, MAX_ROWS, DriveModel

NODE = 1
WATCHDOG = 0.050  # s without the client's heartbeat, then no current
_TICK_RUNNING, _TICK_IDLE = 0.002, 0.01  # s
_STREAM, _HEARTBEAT = 0.02, 0.1  # s
_BUDGET = 0.002  # s of answering requests in a turn; the rest waits
_LONGEST_CATCH_UP = 0.5  # s; after a longer pause time is skipped, not played
_QUEUE = 4000  # frames; a client that does not read is dropped
_STATE_WRONG, _VALUE_WRONG, _TABLE_WRONG = 0x08000022, 0x06090030, 0x06040043
_PARAMETERS = {
    (0x2010, 1): k.KP_D, (0x2010, 2): k.KI_D, (0x2010, 3): k.KP_Q, (0x2010, 4): k.KI_Q,
    (0x2010, 5): k.DECOUPLE, (0x2011, 1): k.KP_W, (0x2011, 2): k.KI_W, (0x2012, 1): k.F_PAIRS,
    (0x2012, 2): k.F_LD, (0x2012, 3): k.F_LQ, (0x2012, 4): k.F_PSI, (0x2020, 1): k.MAX_CURRENT,
    (0x2020, 2): k.MAX_SPEED, (0x2020, 3): k.MAX_TRAVEL, (0x2020, 4): k.MAX_TIME,
    (0x2021, 1): k.TRIP_CURRENT, (0x2021, 2): k.TRIP_VOLTAGE, (0x2030, 1): k.DECIMATION,
    (0x2030, 2): k.AVERAGE, (0x2013, 1): k.F_KIND, (0x2013, 2): k.F_COUNTS,
    (0x2013, 3): k.F_SENSOR_PAIRS, (0x2013, 4): k.F_SIDE, (0x2013, 5): k.F_ZERO,
    (0x2013, 6): k.F_SINE, (0x2013, 7): k.F_COSINE, (0x2013, 8): k.F_RATIO, (0x2013, 9): k.F_SKEW,
    **{(0x2014, n + 1): k.F_HALL + n for n in range(8)}, (0x2015, 1): k.F_OBSERVER,
    (0x2015, 2): k.F_R, (0x2016, 1): k.F_OFFSET_A, (0x2016, 2): k.F_OFFSET_B,
    (0x2016, 3): k.F_OFFSET_C, (0x2016, 4): k.F_UNSENSED,
}  # fmt: skip
_SIGNED = {
    (0x2013, 4), (0x2013, 5), (0x2013, 6), (0x2013, 7), (0x2013, 9), (0x2016, 1), (0x2016, 2),
    (0x2016, 3), *((0x2014, n) for n in range(1, 9)),
}  # fmt: skip
_FORMATS = {0x03: "<h", 0x05: "<B", 0x06: "<H", 0x07: "<I", 0x02: "<b", 0x08: "<f"}


class Firmware:
    """The object dictionary's live side: what is read, written and commanded."""

    def __init__(self, model: DriveModel) -> None:
        self.model = model
        self.operational = False
        self.counter = 0
        self._channels = [0] * 9  # [0] is their number
        self._channels[0] = 1
        self._table = np.zeros((0, k.ROW_SIZE), dtype=np.float32)
        self._dictionary = dictionary(NODE)
        self.values = Values(self._dictionary, self.read, self.write)

    def read(self, index: int, sub: int) -> bytes | None:
        """Return a live value, or None for what was stored."""
        m = self.model
        if index == 0x2000 and sub:
            row = (
                m.state, m.trip, m.played * m.plant.Ts, m.recorded, m.bus, m.speed, m.current,
                int(WINDING), self.counter, m.angle, *scaled_lines(m),
            )  # fmt: skip
            return self._encode(index, sub, row[sub - 1])
        if index == 0x2002 and sub:
            plant = m.plant
            facts = (
                1.0 / plant.Ts, plant.full_scale, plant.adc_bits, CAPACITY, MAX_ROWS,
                int(plant.brake > 0.0),
            )  # fmt: skip
            return self._encode(index, sub, facts[sub - 1])
        if index == 0x2040:
            return bytes(self._table.astype("<f4").tobytes())
        if index == 0x2041:
            if m.is_running:
                raise SdoAbortedError(_STATE_WRONG)
            return bytes(m.trace.astype("<f4").tobytes())
        return None

    def _encode(self, index: int, sub: int, value: float) -> bytes:
        form = _FORMATS[self._dictionary[index][sub].data_type]
        return struct.pack(form, value)

    def write(self, index: int, sub: int, data: bytes) -> None:
        """Take a value, or refuse it."""
        if index == 0x2001:
            self._command(data[0])
            return
        if self.model.is_running:
            raise SdoAbortedError(_STATE_WRONG)
        if index == 0x2040:
            self._take_table(data)
            return
        variable = self._dictionary[index][sub] if sub else self._dictionary[index]
        number = struct.unpack(_FORMATS[variable.data_type], data)[0]
        if not abs(number) < 1e9 or (number < 0 and (index, sub) not in _SIGNED):
            raise SdoAbortedError(_VALUE_WRONG)
        least = {(0x2030, 1): 1.0, (0x2013, 8): 0.1, (0x2013, 3): 1.0}.get((index, sub), -1e9)
        if number < least or ((index, sub) == (0x2013, 1) and number > 3):
            raise SdoAbortedError(_VALUE_WRONG)
        if index == 0x2030 and sub >= 3:
            limit = k.N_CHANNELS - 1 if sub > 3 else 8
            if number > limit:
                raise SdoAbortedError(_VALUE_WRONG)
            self._channels[sub - 3] = int(number)
        if (index, sub) in _PARAMETERS:
            self.model.firm[_PARAMETERS[index, sub]] = number

    def _take_table(self, data: bytes) -> None:
        width = 4 * k.ROW_SIZE
        if not data or len(data) % width or len(data) // width > MAX_ROWS:
            raise SdoAbortedError(_TABLE_WRONG)
        table = np.frombuffer(data, dtype="<f4").reshape(-1, k.ROW_SIZE)
        if not np.all(np.isfinite(table)):
            raise SdoAbortedError(_TABLE_WRONG)
        self._table = table.copy()

    def _command(self, code: int) -> None:
        m = self.model
        if code == START:
            if m.is_running or m.trip or not self.operational or not len(self._table):
                raise SdoAbortedError(_STATE_WRONG)
            constant = 1.5 * m.firm[k.F_PAIRS] * m.firm[k.F_PSI]
            m.firm[k.TORQUE_TO_CURRENT] = 1.0 / constant if constant > 0.0 else 0.0
            m.load(self._table, tuple(self._channels[1 : 1 + self._channels[0]]))
            m.start()
        elif code == STOP:
            m.stop()
        elif code == CLEAR:
            m.clear()
        else:
            raise SdoAbortedError(_VALUE_WRONG)


def scaled_lines(model: DriveModel) -> tuple[int, int]:
    """Return the sensor's lines as two 16-bit numbers: sine and cosine, or counts and state."""
    scale = 32768.0 if model.plant.sensor == "resolver" else 1.0
    first, second = (int(scale * line) for line in model.lines)
    return (first + 32768) % 65536 - 32768, (second + 32768) % 65536 - 32768


class _Outbox:
    """Stands where canopen expects a bus; frames wait here until the client reads."""

    def __init__(self) -> None:
        self.frames: collections.deque[bytes] = collections.deque()

    def send(self, message: "canopen.network.can.Message") -> None:
        self.frames.append(pack(message.arbitration_id, bytes(message.data)))


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
    """Listens on a local socket and lets time pass."""

    def __init__(
        self, path: Path, model: DriveModel, *, tied: bool, watchdog: float = WATCHDOG,
        pace: float = 1.0,
    ) -> None:  # fmt: skip
        self._path, self._tied, self._watchdog, self._pace = path, tied, watchdog, pace
        self._firmware = Firmware(model)
        self._model = model
        self._outbox = _Outbox()
        self._network = canopen.Network()
        self._network.bus = self._outbox
        self._sdo = BlockSdoServer(NODE, self._firmware.values)
        self._sdo.network = self._network
        self._network.subscribe(self._sdo.rx_cobid, self._sdo.on_request)
        self._client: socket.socket | None = None
        self._beat = 0.0
        self._reported_trip = 0
        self._told = model.state
        self._requests: collections.deque[tuple[int, bytes]] = collections.deque()
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
                if now >= stream or self._model.state != self._told:
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
        self._listener.close()
        if self._path.exists() and self._path.stat().st_ino == self._inode:
            self._path.unlink(missing_ok=True)

    def _play(self, played: float, now: float) -> float:
        """Advance the model to `now`; return how far it got."""
        if now - played > _LONGEST_CATCH_UP:
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
        if model.trip != self._reported_trip:
            self._reported_trip = model.trip
            code = trip(model.trip).emergency
            self._send(0x80 + NODE, struct.pack("<HBB4x", code, int(bool(code)), model.trip))

    def _exchange(self, timeout: float) -> bool:
        """Take what arrives within `timeout`; return False when the parent is gone."""
        sources: list[Any] = [self._listener]
        sources += [self._client] if self._client else []
        sources += [sys.stdin.fileno()] if self._tied else []
        writable = [self._client] if self._client and self._outbox.frames else []
        ready, _, _ = select.select(sources, writable, [], timeout)
        for source in ready:
            if source is self._listener:
                self._accept()
            elif source is self._client:
                self._receive()
            elif not os.read(sys.stdin.fileno(), 64):
                return False
        self._answer()
        return True

    def _accept(self) -> None:
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
        self._outbox.frames.clear()
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
        elif len(data) == 8 and len(self._requests) < _QUEUE:
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
            self._flush()
            if time.monotonic() > until:
                return

    def _drop(self) -> None:
        """Be without a client: no current, from this moment on."""
        self._model.stop()
        self._model.clear()
        self._firmware.operational = False
        if self._client:
            self._client.close()
        self._client = None
        self._outbox.frames.clear()
        self._requests.clear()

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
            self._outbox.frames.append(pack(can_id, data))

    def _flush(self) -> None:
        frames = self._outbox.frames
        while frames and self._client:
            try:
                self._client.send(frames[0])
            except BlockingIOError:
                if len(frames) > _QUEUE:
                    self._drop()
                return
            except OSError:
                self._drop()
                return
            frames.popleft()
