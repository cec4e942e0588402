"""The drive's parameters: read, written and read back; many at a time where the drive takes that.

One by one, each waits for an answer twice: as it is written, and as it is read back. A drive that
has no object for all of them says so once, and is then asked one by one.
"""

import math
import struct
from collections.abc import Callable, Mapping, Sequence
from functools import partial
from typing import Any

from canopen.objectdictionary import REAL32
from canopen.sdo import SdoVariable
from canopen.sdo.exceptions import SdoAbortedError

from oarlock.cancel import Cancel
from oarlock.drive.contract.entries import BY_NAME, BY_PLACE, NAMES, PARAMETERS
from oarlock.drive.transfers import UNKNOWN, fetch, fetch_block, quietly, send_block
from oarlock.errors import DriveRefused, LinkProtocolError

LEAST = 6  # parameters, from which on all at once is quicker
_NAME = "Parameters"
_ROW = struct.Struct("<HBx4s")


class Held:
    """What the drive holds; `find` gives an object by name, `ask` does one transfer."""

    def __init__(
        self, find: Callable[[str], SdoVariable],
        ask: Callable[[Callable[[], Any], str], Any], place: str,
    ) -> None:  # fmt: skip
        self._find, self._ask, self._place = find, ask, place
        self._sure: dict[str, bytes] = {}  # parameters as the drive holds them
        self._at_once = True

    def forget(self) -> None:
        """Rely on nothing: the drive may have changed what it holds by itself."""
        self._sure.clear()

    def read(self, keys: Sequence[str]) -> dict[str, float]:
        """Return values by name.

        Raises
        ------
        LinkError : the way to the drive failed, or a value is no number

        """
        many = self._at_once and len(set(keys) & set(PARAMETERS)) >= LEAST
        every = (self._all() if many else None) or {}
        found = {}
        for key in keys:
            variable = self._find(key)
            raw = every.get(key) or self._one(variable, len(variable.od) // 8, key)
            found[key] = float(variable.od.decode_raw(raw))
        for key, value in found.items():
            if not math.isfinite(value):
                raise LinkProtocolError(f"{key} is {value}, not a number", place=self._place)
        return found

    def write(self, values: Mapping[str, float]) -> None:
        """Write values by name, read back and compared; what the drive holds already is left.

        Raises
        ------
        LinkError : as `read`, or the drive refused one, or holds something else now

        """
        raw = {key: self._encoded(key, value) for key, value in values.items()}
        left = {key: wanted for key, wanted in raw.items() if self._sure.get(key) != wanted}
        for key in left:
            self._sure.pop(key, None)
        held = self._send_all(left) if self._at_once and len(left) >= LEAST else None
        for key, wanted in left.items():
            if held is None:
                variable = self._find(key)
                self._ask(partial(variable.set_data, wanted), key)
                back = self._one(variable, len(wanted), key)
            else:
                back = held[key]
            if back != wanted:
                raise LinkProtocolError(f"{key} did not arrive as it was sent", place=self._place)
            self._sure[key] = wanted

    def _encoded(self, key: str, value: float) -> bytes:
        od = self._find(key).od
        return bytes(od.encode_raw(value if od.data_type == REAL32 else int(value)))

    def _one(self, variable: SdoVariable, size: int, key: str) -> bytes:
        found: bytes = self._ask(partial(fetch, variable, size, self._place), key)
        return found

    # All at once

    def _all(self) -> dict[str, bytes] | None:
        """Return every parameter; None where the drive has no object for that."""
        size, variable = _ROW.size * len(PARAMETERS), self._find(_NAME)
        data = self._tried(lambda: fetch_block(variable, size, self._place, quietly, Cancel()))
        if data is None:
            return None
        found = {(index, sub): raw for index, sub, raw in _ROW.iter_unpack(data)}
        if set(found) != {_at(name) for name in PARAMETERS}:
            raise LinkProtocolError("the parameters come without some, or with others",
                                    place=self._place)  # fmt: skip
        return {NAMES[at]: raw[: struct.calcsize(BY_PLACE[at].type.form)]
                for at, raw in found.items()}  # fmt: skip

    def _send_all(self, wanted: Mapping[str, bytes]) -> dict[str, bytes] | None:
        """Send values and return what the drive then holds; None where it does not take them so.

        It takes all or none. Which of them it refuses is told where each is sent by itself.
        """
        if not wanted.keys() <= set(PARAMETERS):
            return None
        data = b"".join(_ROW.pack(*_at(name), raw) for name, raw in wanted.items())
        variable = self._find(_NAME)
        try:
            sent = self._tried(lambda: send_block(variable, data))
        except DriveRefused:
            return None
        return self._all() if sent is not None else None

    def _tried(self, transfer: Callable[[], bytes]) -> bytes | None:
        """Return what a transfer gives; None, from now on, where the drive has no such object."""
        try:
            found: bytes = self._ask(transfer, _NAME)
        except DriveRefused as error:
            cause = error.__cause__
            if not (isinstance(cause, SdoAbortedError) and cause.code == UNKNOWN):
                raise
            self._at_once = False
            return None
        return found


def _at(name: str) -> tuple[int, int]:
    group, entry = BY_NAME[name]
    return group.index, group.sub(entry)
