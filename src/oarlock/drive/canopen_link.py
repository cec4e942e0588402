"""The link over CANopen (CiA 301): SDO with block upload, heartbeat, emergency, a PDO stream.

The object dictionary of record is `oarlock.eds`, beside this file. Stop is the network
management command 'enter pre-operational': one frame of highest priority that overtakes any
transfer. See docs/drive-interface.md for the drive's side.
"""

import functools
import importlib.resources
import logging
import math
import queue
import struct
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from typing import Any, NoReturn

import can
import canopen
import numpy as np
from numpy.typing import NDArray

from oarlock.cancel import Cancel
from oarlock.drive.channel import SOCKET, Channel, parse_channel
from oarlock.drive.contract.entries import name_at
from oarlock.drive.contract.numbers import SUMS, SUMS_HEAD
from oarlock.drive.contract.trips import STATES
from oarlock.drive.contract.trips import trip as trip_of
from oarlock.drive.handshake import CLIENT_ID, HEARTBEAT, see_alone, see_contract
from oarlock.drive.heart import Heart
from oarlock.drive.held import Held
from oarlock.drive.link import Live, Progress, Status
from oarlock.drive.open_bus import open_bus
from oarlock.drive.stream import BASES, Stream
from oarlock.drive.transfers import fetch, fetch_block, quietly, send_any
from oarlock.drive.translated import translated
from oarlock.drive.travel import Ledger
from oarlock.drive.unix_bus import UnixBus, descriptor, pack
from oarlock.errors import (
    Cancelled,
    DriveRefused,
    InputError,
    LinkError,
    LinkLost,
    LinkProtocolError,
    LinkTimeout,
)

# Every failure is translated and told once; the library's own log would tell it again.
logging.getLogger("canopen").setLevel(logging.CRITICAL)
_SECOND_LOOK = 0.25  # s
SILENCE = 0.35  # s without a heartbeat of the drive's: it hangs
START, STOP, CLEAR, COMMIT, PUT_BACK = 1, 2, 3, 4, 5
_SAVE, _LOAD = b"save", b"load"  # signatures of CiA 301 for storing and restoring
OPERATIONAL, PRE_OPERATIONAL = 0x01, 0x80  # commands of the network management
_DIFFERS = struct.Struct("<HBxf")


@functools.cache
def dictionary(node_id: int) -> canopen.ObjectDictionary:
    """Return the object dictionary of record, read once: nobody changes it."""
    path = importlib.resources.files("oarlock.drive") / "oarlock.eds"
    with importlib.resources.as_file(path) as file:
        return canopen.import_od(str(file), node_id)


class CanopenLink:
    """A drive on a CAN bus.

    Parameters
    ----------
    timeout : s, for each answer
    asks_again : called where nobody answers; whether to ask once more, on the bus as it stands

    """

    def __init__(
        self, channel: str, *, timeout: float = 1.0, asks_again: Callable[[], bool] = lambda: False
    ) -> None:
        where = parse_channel(channel)
        self.name = self._place = where.name
        self.ledger = Ledger()
        self._lost_reason = ""
        self._seen = time.monotonic()
        self._sinks: list[Callable[[Live], None]] = []
        self._stream = Stream()
        node_id = self._node_id = where.node
        self._sdo = threading.Lock()
        self._held = Held(self._variable, lambda do, what: self._ask(do, what), self._place)
        self._network = canopen.Network()
        self._network.bus = open_bus(where, self._lose)
        self._node = self._network.add_node(canopen.RemoteNode(node_id, dictionary(node_id)))
        self._node.sdo.RESPONSE_TIMEOUT = timeout
        self._node.sdo.MAX_RETRIES = 1
        self._node.sdo.responses = queue.SimpleQueue()  # written in C: an answer wakes at once
        if isinstance(self._network.bus, UnixBus):
            sdo = self._node.sdo
            self._network.bus.straight[sdo.tx_cobid] = lambda d: sdo.responses.put(d)
        self._network.subscribe(HEARTBEAT + node_id, self._beat)
        self._network.subscribe(0x80 + node_id, self._take_emergency)
        for base in BASES:
            self._network.subscribe(base + node_id, self._take_stream)
        self._closed = False
        self._heart: Heart | None = None
        try:
            self._network.connect()
            self._see(where, asks_again)
            beat = pack(HEARTBEAT + CLIENT_ID, b"\x05")  # only where there is a drive to command
            self._heart = Heart(descriptor(self._network.bus), beat)
            self._manage(OPERATIONAL)
            self.read(["Facts.Control frequency", "Facts.Recorder rows"])
        except Cancelled:
            self._leave()
            raise
        except (can.CanError, LinkError) as error:
            self._fail(error)

    def _fail(self, error: Exception) -> NoReturn:
        """Leave a drive that could not be reached, and say why."""
        if isinstance(error, LinkTimeout):
            self._leave()
            remedy = "Is it powered, and are node and bitrate right?"
            raise LinkTimeout(f"nobody answers as node {self._node_id}", place=self._place,
                              remedy=remedy) from error  # fmt: skip
        if not isinstance(error, LinkProtocolError | DriveRefused):
            self._await_reason(error.cause if isinstance(error, LinkError) else str(error))
        self._leave()
        self._alive()
        raise error

    def _see(self, where: Channel, asks_again: Callable[[], bool]) -> None:
        """Refuse a bus that is commanded already, or a drive of another contract."""
        shared = where.interface != SOCKET  # a local socket tells by itself
        if shared:
            see_alone(self._network, self._lose, self._place)
        if see_contract(self.read, asks_again, self._place) and shared:
            see_alone(self._network, self._lose, self._place)  # somebody else may have come

    # What arrives, on the receiving thread

    def _lose(self, reason: str) -> None:
        self._lost_reason = self._lost_reason or reason

    def _await_reason(self, otherwise: str) -> None:
        """Give the receiving thread a moment to tell why the line broke."""
        until = time.monotonic() + 0.2
        while not self._lost_reason and time.monotonic() < until:
            time.sleep(0.005)
        self._lose(otherwise)

    def _beat(self, _id: int, data: bytearray, _time: float) -> None:
        self._seen = time.monotonic()
        if bytes(data[:1]) == b"\x00":  # it has just begun: what was written is gone
            self._held.forget()

    def _take_emergency(self, _id: int, data: bytearray, _time: float) -> None:
        if len(data) >= 2:
            self._stream.emergency = int.from_bytes(data[:2], "little")

    def _take_stream(self, can_id: int, data: bytearray, _time: float) -> None:
        self._seen = time.monotonic()
        live = self._stream.take(can_id - self._node_id, data)
        if live is not None:
            for sink in tuple(self._sinks):
                sink(live)

    # What is asked

    def age(self) -> float:
        """Return seconds since the last sign of life; infinite once the line broke."""
        return math.inf if self._lost_reason else time.monotonic() - self._seen

    def _alive(self) -> None:
        if self._lost_reason:
            remedy = "Connect again; the drive de-energises by itself"
            raise LinkLost(self._lost_reason, place=self._place, remedy=remedy)

    def _ask(self, action: Callable[[], Any], what: str) -> Any:
        """Do one transfer at a time, its errors translated."""
        with self._sdo:
            self._alive()
            try:
                with translated(self._place, what, self._alive):
                    return action()
            except (can.CanError, RuntimeError) as error:
                self._await_reason(str(error))
                self._alive()
                raise

    def _variable(self, key: str) -> Any:
        record, _, name = key.partition(".")
        try:
            found = self._node.sdo[record]
            return found[name] if name else found
        except KeyError as error:
            raise InputError(f"no parameter {key}", place="link") from error

    def read(self, keys: Sequence[str]) -> dict[str, float]:
        """Return parameters by name, such as `Current controller.Kp d`."""
        return self._held.read(keys)

    def write(self, values: Mapping[str, float]) -> None:
        """Write parameters, each read back and compared; what the drive holds already is left.

        Nobody else commands this drive. What it may have changed by itself is not relied on: after
        a start-up, a trip, or parameters put back or restored, everything is written again.
        """
        self._held.write(values)

    def load(self, table: NDArray[np.float32]) -> None:
        """Send the step table, read back and compared."""
        self._send_block("Step table", table.astype("<f4").tobytes())

    def load_lines(self, lines: NDArray[np.float32]) -> None:
        """Send the lines of a multisine, (lines, 3): Hz, amplitude, rad; read back."""
        self._send_block("Multisine", lines.astype("<f4").tobytes())

    def _send_block(self, name: str, data: bytes) -> None:
        variable = self._variable(name)
        self._ask(lambda: send_any(variable, data), name)
        back = self._ask(
            lambda: fetch_block(variable, len(data), self._place, quietly, Cancel()), name
        )
        if back != data:
            cause = f"the {name.lower()} did not arrive as sent"
            raise LinkProtocolError(cause, place=self._place)

    def sums(self, rows: int, channels: int) -> NDArray[np.float64]:
        """Return the sums over whole steps, (rows, 3 + 7 channels); `rows` as `status` told."""
        width = len(SUMS_HEAD) + len(SUMS) * channels
        variable = self._variable("Sums")
        data = self._ask(lambda: fetch(variable, 4 * rows * width, self._place), "Sums")
        found = np.frombuffer(data, dtype="<f4").reshape(rows, width).astype(np.float64)
        if not np.all(np.isfinite(found)):
            raise LinkProtocolError("the sums hold what is not a number", place=self._place)
        return found

    def commit(self) -> None:
        """Take over, at one sample, all that was written while the drive runs."""
        self._command(COMMIT)

    def put_back(self) -> None:
        """Take the last good set of parameters again, at one sample."""
        self._held.forget()
        self._command(PUT_BACK)

    def save(self) -> None:
        """Have the drive keep its parameters in its own memory."""
        self._memory("Store parameters", _SAVE)

    def restore(self) -> None:
        """Take the parameters that the drive's memory holds."""
        self._held.forget()
        self._memory("Restore parameters", _LOAD)

    def _memory(self, name: str, signature: bytes) -> None:
        variable = self._variable(f"{name}.All")
        self._ask(lambda: variable.set_data(signature), name)

    def unsaved(self) -> dict[str, float]:
        """Return what differs from the drive's memory, by name, with the value there."""
        many = int(self.read(["Changes.Unsaved"])["Changes.Unsaved"])
        if not many:
            return {}
        variable = self._variable("Unsaved")
        data = self._ask(lambda: fetch(variable, _DIFFERS.size * many, self._place), "Unsaved")
        found = {}
        for index, sub, value in _DIFFERS.iter_unpack(data):
            try:
                found[name_at(index, sub)] = float(value)
            except KeyError as error:
                cause = f"the drive names 0x{index:04X}:{sub}, which the contract does not have"
                raise LinkProtocolError(cause, place=self._place) from error
        return found

    def _command(self, code: int) -> None:
        variable = self._variable("Command")
        self._ask(lambda: variable.set_data(bytes([code])), "Command")

    def start(self) -> None:
        """Energise and play the loaded table."""
        self._manage(OPERATIONAL)
        self._command(START)

    def _manage(self, command: int) -> None:
        """Send one frame of network management, past the library and its locks."""
        frame = can.Message(
            arbitration_id=0, data=bytes([command, self._node_id]), is_extended_id=False
        )
        self._network.bus.send(frame)

    def stop(self) -> None:
        """De-energise at once: one frame that overtakes whatever is under way."""
        try:
            self._manage(PRE_OPERATIONAL)
        except (can.CanError, OSError, ValueError, AttributeError) as error:
            # The line is gone: nothing can be sent, and the drive's own watchdog acts.
            self._await_reason(str(error))

    def clear(self) -> None:
        """Acknowledge a trip or an end."""
        self._manage(OPERATIONAL)
        self._command(CLEAR)

    def _sign_of_life(self) -> bool:
        """Return whether the drive lives; if this process stood still, its frames still wait."""
        until = time.monotonic() + _SECOND_LOOK
        while self.age() > SILENCE:
            if time.monotonic() > until or self._lost_reason:
                return False
            time.sleep(0.02)
        return True

    def status(self) -> Status:
        """Return how far the experiment is."""
        if not self._sign_of_life():
            self._alive()
            raise LinkLost(
                f"no sign of life for {self.age():.2f} s",
                place=self._place,
                remedy="The drive hangs or is gone; it is built to de-energise by itself",
            )
        names = ("State", "Trip", "Played", "Recorded rows", "Summed rows")
        found = self.read([f"Drive.{name}" for name in names])
        state, trip, played, rows, summed = (found[f"Drive.{name}"] for name in names)
        if not 0 <= state < len(STATES):
            raise LinkProtocolError(f"the drive is in a state {state:g} that has no meaning",
                                    place=self._place)  # fmt: skip
        if STATES[int(state)] == "tripped":
            self._held.forget()
        return Status(
            state=STATES[int(state)],
            trip=trip_of(int(trip)),
            played=played,
            rows=int(rows),
            summed=int(summed),
        )

    def upload(
        self, rows: int, channels: int, progress: Progress, cancel: Cancel
    ) -> NDArray[np.float32]:
        """Return the trace, (rows, channels), checked by its CRC, its size and its numbers.

        What came otherwise than the drive told is fetched again: the drive still has it.
        """
        size, trace = 4 * rows * channels, self._variable("Trace")
        for tries_left in (2, 1, 0):
            try:
                data: bytes = self._ask(
                    lambda: fetch_block(trace, size, self._place, progress, cancel), "Trace"
                )
                break
            except LinkProtocolError:
                if not tries_left:
                    raise
        table = np.frombuffer(data, dtype="<f4").reshape(rows, channels)
        if not np.all(np.isfinite(table)):
            at = int(np.flatnonzero(~np.isfinite(table).all(axis=1))[0])
            cause = f"row {at + 1} of the trace holds what is not a number"
            raise LinkProtocolError(cause, place=self._place, remedy="Run it again")
        return table

    def look(self, first: int, rows: int, channels: int) -> NDArray[np.float32]:
        """Return rows that are recorded already, while the drive runs, (rows, channels)."""
        self.write({"Recorder.First row": first, "Recorder.Rows": rows})
        return self.upload(rows, channels, lambda _fraction, _doing: None, Cancel())

    def subscribe(self, sink: Callable[[Live], None]) -> None:
        """Have `sink` called, on the link's thread, for each live message."""
        self._sinks.append(sink)

    def close(self) -> None:
        """De-energise and leave."""
        if not self._closed:
            self.stop()
            self._leave()

    def _leave(self) -> None:
        self._closed = True
        if self._heart is not None:
            self._heart.close()
        try:
            self._network.disconnect()
        except (can.CanError, OSError) as error:
            raise LinkError(str(error), place=self._place) from error
