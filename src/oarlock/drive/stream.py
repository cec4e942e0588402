"""What a drive sends by itself all the time: its three process data objects, made one message."""

import struct

from oarlock.drive.contract.trips import STATES, trip
from oarlock.drive.link import Live

BASES = (0x180, 0x280, 0x380)  # identifiers less the node's number
_FIRST, _STATE, _ANGLE = BASES
_FORMS = {_FIRST: struct.Struct("<ff"), _STATE: struct.Struct("<fBBBb"),
          _ANGLE: struct.Struct("<fhh")}  # fmt: skip


class Stream:
    """Keeps the newest of each frame; the one with the state closes a message."""

    def __init__(self) -> None:
        self.emergency = 0
        self._bus = self._speed = self._angle = 0.0
        self._lines = (0, 0)

    def take(self, base: int, data: bytearray) -> Live | None:
        """Take one frame; return the whole message where this one completes it."""
        numbers = _FORMS[base].unpack(data)
        if base == _FIRST:
            self._bus, self._speed = numbers
            return None
        if base == _ANGLE:
            self._angle, self._lines = numbers[0], (numbers[1], numbers[2])
            return None
        current, state, why, counter, temperature = numbers
        return Live(
            state=STATES[state] if state < len(STATES) else f"state {state}, unknown",
            trip=trip(why),
            bus=self._bus,
            speed=self._speed,
            current=current,
            temperature=temperature,
            angle=self._angle,
            lines=self._lines,
            counter=counter,
            emergency=self.emergency,
        )
