"""The practice drive's object dictionary: what is read, written and commanded, by the contract."""

import json
import struct
from collections.abc import Iterator
from pathlib import Path

import numpy as np
from canopen.sdo.exceptions import SdoAbortedError

from oarlock.drive.canopen_link import CLEAR, COMMIT, PUT_BACK, START, STOP, dictionary
from oarlock.drive.contract.entries import (
    BY_NAME,
    BY_PLACE,
    NAMES,
    PARAMETERS,
    Entry,
    Type,
    problem,
)
from oarlock.drive.contract.numbers import CHANNELS
from oarlock.errors import InputError
from oarlock.files import write_atomic
from oarlock.practice.sdo import Values
from oarlock.practice.truth import WINDING
from oarlock.simulate import layout as k
from oarlock.simulate.drive_model import CAPACITY, MAX_ROWS, DriveModel
from oarlock.simulate.plant_parameters import SENSORS

NODE = 1
_STATE_WRONG, _VALUE_WRONG, _TABLE_WRONG = 0x08000022, 0x06090030, 0x06040043
_NOT_STORED = 0x08000020
_STORE, _RESTORE, _COMMAND = 0x1010, 0x1011, 0x2001
_DRIVE, _FACTS, _CHANGES = 0x2000, 0x2002, 0x2003
_TABLE, _TRACE, _LINES, _SUMS, _UNSAVED = 0x2040, 0x2041, 0x2042, 0x2043, 0x2044
_PARAMETERS, _EACH = 0x2045, struct.Struct("<HBx4s")
_PLACES = {
    (group.index, group.sub(entry)): k.PLACES[name]
    for name, (group, entry) in BY_NAME.items()
    if name in k.PLACES
}
_PARAMETERS_AT = {(g.index, g.sub(e)): None for g, e in (BY_NAME[name] for name in PARAMETERS)}
_RECORDER = {
    (g.index, g.sub(e)): int(e.name.removeprefix("Channel ")) if e.name != "Channels" else 0
    for g, e in BY_NAME.values()
    if g.name == "Recorder" and e.name.startswith("Channel")
}
_WINDOW = [(g.index, g.sub(e)) for g, e in BY_NAME.values() if e.at_once]


class Firmware:
    """The object dictionary's live side; `memory`: a file that keeps parameters, if any."""

    def __init__(self, model: DriveModel, memory: Path | None = None) -> None:
        self.model = model
        self.operational = False
        self.counter = 0
        self._channels = [0] * 9  # [0] is their number
        self._channels[0] = 1
        self._window = dict.fromkeys(_WINDOW, 0)
        self._table = np.zeros((0, k.ROW_SIZE), dtype=np.float32)
        self._lines = np.zeros((0, k.LINE_SIZE), dtype=np.float32)
        self._file = memory
        self._kept = {place: float(model.firm[at]) for place, at in _PLACES.items()}
        if memory is not None and memory.exists():
            self._wake(memory)
        self.values = Values(dictionary(NODE), self.read, self.write)

    def _wake(self, memory: Path) -> None:
        """Begin with what the memory holds.

        Raises
        ------
        InputError : the file is none that a practice drive wrote

        """
        try:
            kept = json.loads(memory.read_text())
            found = {_place(name): float(value) for name, value in kept.items()}
        except (OSError, ValueError, AttributeError, TypeError, KeyError) as error:
            raise InputError("this is no memory of a practice drive", place=str(memory),
                             remedy="Name another file with --memory") from error  # fmt: skip
        for place, value in found.items():
            self._kept[place] = value
            self.model.propose(_PLACES[place], value)

    def read(self, index: int, sub: int) -> bytes | None:
        """Return a live value, or None for what was stored."""
        m = self.model
        if (index, sub) in _PLACES:
            return _encoded(BY_PLACE[index, sub], float(m.shadow[_PLACES[index, sub]]))
        rows = {_DRIVE: self._told, _FACTS: self._facts, _CHANGES: self._changes}
        if index in rows and sub:
            return _encoded(BY_PLACE[index, sub], rows[index]()[sub - 1])
        if index == _TABLE:
            return bytes(self._table.astype("<f4").tobytes())
        if index == _LINES:
            return bytes(self._lines.astype("<f4").tobytes())
        if index == _UNSAVED:
            return b"".join(struct.pack("<HBxf", *place, value) for place, value in self._differ())
        if index == _PARAMETERS:
            return b"".join(_EACH.pack(*at, self.values.get_data(*at)) for at in _PARAMETERS_AT)
        if index == _TRACE:
            return self._trace()
        if index == _SUMS:
            if m.is_running:
                raise SdoAbortedError(_STATE_WRONG)
            return bytes(m.totals.astype("<f4").tobytes())
        return None

    def _trace(self) -> bytes:
        """Return the window that is asked for, or everything once the drive has ended."""
        first, rows = self._window.values()
        if not rows and self.model.is_running:
            raise SdoAbortedError(_STATE_WRONG)
        try:
            found = self.model.window(first, rows) if rows else self.model.trace
        except ValueError as error:
            raise SdoAbortedError(_STATE_WRONG) from error
        return bytes(found.astype("<f4").tobytes())

    def _told(self) -> tuple[float, ...]:
        m = self.model
        return (
            m.state, m.trip, m.played * m.plant.Ts, m.recorded, m.bus, m.speed, m.current,
            int(WINDING), self.counter, m.angle, *scaled_lines(m), m.totals.shape[0],
        )  # fmt: skip

    def _facts(self) -> tuple[float, ...]:
        plant = self.model.plant
        return (
            1.0 / plant.Ts, plant.full_scale, plant.adc_bits, CAPACITY, MAX_ROWS,
            int(plant.brake > 0.0), 1.0 / plant.Ts, 0.0, SENSORS.index(plant.sensor),
            plant.encoder_counts if plant.sensor == "encoder" else 0, 0,
            int(plant.bus_compensation),
        )  # fmt: skip

    def _changes(self) -> tuple[float, ...]:
        m = self.model
        return m.pending, m.commits % 65536, m.reverts % 65536, sum(1 for _ in self._differ())

    def _differ(self) -> Iterator[tuple[tuple[int, int], float]]:
        """Yield the places whose value is not what the memory holds, with what it holds."""
        for place, kept in self._kept.items():
            if float(self.model.shadow[_PLACES[place]]) != kept:
                yield place, kept

    def write(self, index: int, sub: int, data: bytes) -> None:
        """Take a value, or refuse it."""
        if index == _COMMAND:
            self._command(data[0])
            return
        if index == _PARAMETERS:
            self._several(data)
            return
        place = (index, sub)
        entry = BY_PLACE.get(place)
        if self.model.is_running and not (entry and (entry.live or entry.at_once)):
            raise SdoAbortedError(_STATE_WRONG)
        if index in (_STORE, _RESTORE):
            self._memorise(index, data)
        elif index == _TABLE:
            self._table = _block(data, k.ROW_SIZE, MAX_ROWS)
        elif index == _LINES:
            self._lines = _block(data, k.LINE_SIZE, k.MAX_LINES)
            self.model.load_lines(self._lines.astype(np.float64))
        elif entry is not None:
            self._set(place, entry, data)

    def _several(self, data: bytes) -> None:
        """Take several parameters, all or none of them."""
        if not data or len(data) % _EACH.size:
            raise SdoAbortedError(_TABLE_WRONG)
        rows = [((index, sub), raw) for index, sub, raw in _EACH.iter_unpack(data)]
        for place, raw in rows:
            entry = BY_PLACE[place] if place in _PARAMETERS_AT else None
            if entry is None:
                raise SdoAbortedError(_TABLE_WRONG)
            if self.model.is_running and not (entry.live or entry.at_once):
                raise SdoAbortedError(_STATE_WRONG)
            if problem(NAMES[place], _decoded(entry, raw)):
                raise SdoAbortedError(_VALUE_WRONG)
        for place, raw in rows:
            entry = BY_PLACE[place]
            own = raw[: struct.calcsize(entry.type.form)]
            self._set(place, entry, own)
            self.values.keep(*place, own)

    def _set(self, place: tuple[int, int], entry: Entry, data: bytes) -> None:
        number = _decoded(entry, data)
        if problem(NAMES[place], number):
            raise SdoAbortedError(_VALUE_WRONG)
        if place in _RECORDER:
            if _RECORDER[place] and number >= len(CHANNELS):
                raise SdoAbortedError(_VALUE_WRONG)
            self._channels[_RECORDER[place]] = int(number)
        if place in self._window:
            self._window[place] = int(number)
        if place in _PLACES:
            self.model.propose(_PLACES[place], number)

    def _memorise(self, index: int, data: bytes) -> None:
        """Keep all parameters, or take what was kept, where the signature is right."""
        if data != (b"save" if index == _STORE else b"load"):
            raise SdoAbortedError(_NOT_STORED)
        if index == _STORE:
            self._kept = {place: float(self.model.shadow[at]) for place, at in _PLACES.items()}
            if self._file is not None:
                kept = {NAMES[place]: value for place, value in self._kept.items()}
                write_atomic(self._file, json.dumps(kept, indent=1).encode())
            return
        for place, value in self._kept.items():
            self.model.propose(_PLACES[place], value)

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
        elif code in (COMMIT, PUT_BACK):
            if not m.is_running:
                raise SdoAbortedError(_STATE_WRONG)
            m.commit() if code == COMMIT else m.put_back()
        else:
            raise SdoAbortedError(_VALUE_WRONG)


def _place(name: str) -> tuple[int, int]:
    group, entry = BY_NAME[name]
    place = (group.index, group.sub(entry))
    if place not in _PLACES:
        raise KeyError(name)
    return place


def _decoded(entry: Entry, data: bytes) -> float:
    return float(struct.unpack_from(entry.type.form, data)[0])


def _encoded(entry: Entry, value: float) -> bytes:
    return struct.pack(entry.type.form, value if entry.type is Type.REAL32 else int(value))


def _block(
    data: bytes, width: int, most: int
) -> "np.ndarray[tuple[int, int], np.dtype[np.float32]]":
    """Return rows of numbers, or refuse them."""
    if not data or len(data) % (4 * width) or len(data) // (4 * width) > most:
        raise SdoAbortedError(_TABLE_WRONG)
    rows = np.frombuffer(data, dtype="<f4").reshape(-1, width).astype(np.float32)
    if not np.all(np.isfinite(rows)):
        raise SdoAbortedError(_TABLE_WRONG)
    return rows


def scaled_lines(model: DriveModel) -> tuple[int, int]:
    """Return the sensor's lines as two 16-bit numbers: sine and cosine, or counts and state."""
    scale = 32768.0 if model.plant.sensor == "resolver" else 1.0
    first, second = (int(scale * line) for line in model.lines)
    return (first + 32768) % 65536 - 32768, (second + 32768) % 65536 - 32768
