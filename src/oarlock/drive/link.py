"""The small interface behind which every way to a drive stands."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from oarlock.cancel import Cancel
from oarlock.drive.contract.trips import NONE, Trip
from oarlock.drive.travel import Ledger

Progress = Callable[[float, str], None]  # (0 to 1, what is being done)


@dataclass(frozen=True, slots=True, kw_only=True)
class Live:
    """What a drive says of itself all the time; SI."""

    state: str  # of `STATES`
    trip: Trip = NONE
    bus: float = 0.0  # V
    speed: float = 0.0  # rad/s, mechanical
    current: float = 0.0  # A, peak
    temperature: int = 0  # °C
    angle: float = 0.0  # rad, mechanical, as the firmware makes it of its sensor
    lines: tuple[int, int] = (0, 0)  # sine and cosine of 32768, or counts and hall state
    counter: int = 0  # of the stream, to tell what was lost
    emergency: int = 0  # code of the newest emergency frame, CiA 301; 0: none stands


@dataclass(frozen=True, slots=True, kw_only=True)
class Status:
    """How far the experiment is."""

    state: str
    trip: Trip
    played: float  # s
    rows: int
    summed: int = 0  # rows of sums


# Classes of emergency codes (CiA 301, table 26), by the code's first digits.
_EMERGENCIES = (
    (0x20, "current"), (0x21, "input current"), (0x22, "current inside the device"),
    (0x23, "output current"), (0x30, "voltage"), (0x31, "mains voltage"),
    (0x32, "voltage of the bus"), (0x33, "output voltage"), (0x40, "temperature"),
    (0x41, "ambient temperature"), (0x42, "temperature of the device"), (0x50, "hardware"),
    (0x60, "software"), (0x61, "internal software"), (0x62, "user software"), (0x63, "data set"),
    (0x70, "additional module"), (0x80, "monitoring"), (0x81, "communication"),
    (0x82, "protocol"), (0x86, "position or speed"), (0x90, "external fault"),
    (0xF0, "additional functions"),
)  # fmt: skip


def emergency_name(code: int) -> str:
    """Return an emergency code with the class that CiA 301 puts it into."""
    name = next((name for high, name in _EMERGENCIES if code >> 8 == high), "")
    return f"emergency 0x{code:04X}" + (f" ({name})" if name else "")


class Link(Protocol):
    """A drive, wherever it is. Calls block; `stop` may be called from any thread at any time.

    All raise `LinkError` or one of its kinds.
    """

    name: str
    ledger: Ledger  # where the shafts stand that this link has turned

    def close(self) -> None:
        """De-energise and leave."""

    def age(self) -> float:
        """Return seconds since the last sign of life."""

    def read(self, keys: Sequence[str]) -> dict[str, float]:
        """Return parameters by name, such as `Current controller.Kp d`."""

    def write(self, values: Mapping[str, float]) -> None:
        """Write parameters, each read back and compared."""

    def load(self, table: NDArray[np.float32]) -> None:
        """Send the step table, read back and compared."""

    def load_lines(self, lines: NDArray[np.float32]) -> None:
        """Send the lines of a multisine, (lines, 3): Hz, amplitude, rad; read back."""

    def sums(self, rows: int, channels: int) -> NDArray[np.float64]:
        """Return the sums over whole steps, (rows, 3 + 7 channels); `rows` as `status` told."""

    def commit(self) -> None:
        """Take over, at one sample, all that was written while the drive runs."""

    def put_back(self) -> None:
        """Take the last good set of parameters again, at one sample."""

    def save(self) -> None:
        """Have the drive keep its parameters in its own memory."""

    def restore(self) -> None:
        """Take the parameters that the drive's memory holds."""

    def unsaved(self) -> dict[str, float]:
        """Return what differs from the drive's memory, by name, with the value there."""

    def start(self) -> None:
        """Energise and play the loaded table."""

    def stop(self) -> None:
        """De-energise at once, overtaking whatever is under way."""

    def clear(self) -> None:
        """Acknowledge a trip or an end."""

    def status(self) -> Status:
        """Return how far the experiment is."""

    def upload(
        self, rows: int, channels: int, progress: Progress, cancel: Cancel
    ) -> NDArray[np.float32]:
        """Return the trace, (rows, channels); `rows` as `status` told them."""

    def look(self, first: int, rows: int, channels: int) -> NDArray[np.float32]:
        """Return rows that are recorded already, while the drive runs, (rows, channels).

        Parameters
        ----------
        first : number of the first one since the start

        """

    def subscribe(self, sink: Callable[[Live], None]) -> None:
        """Have `sink` called, on the link's thread, for each live message."""
