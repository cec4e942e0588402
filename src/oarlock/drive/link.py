"""The small interface behind which every way to a drive stands."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from oarlock.cancel import Cancel

Progress = Callable[[float, str], None]  # (0 to 1, what is being done)
STATES = ("de-energised", "running", "done", "tripped")
TRIPS = (
    "", "over-current", "under-voltage", "heartbeat lost",
    "current above the experiment's limit", "speed above the experiment's limit",
    "travel above the experiment's limit", "time above the experiment's limit", "recorder full",
)  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class Live:
    """What a drive says of itself all the time; SI."""

    state: str  # of `STATES`
    trip: str = ""
    bus: float = 0.0  # V
    speed: float = 0.0  # rad/s, mechanical
    current: float = 0.0  # A, peak
    temperature: int = 0  # °C
    angle: float = 0.0  # rad, mechanical, as the firmware makes it of its sensor
    lines: tuple[int, int] = (0, 0)  # sine and cosine of 32768, or counts and hall state
    counter: int = 0  # of the stream, to tell what was lost


@dataclass(frozen=True, slots=True, kw_only=True)
class Status:
    """How far the experiment is."""

    state: str
    trip: str
    played: float  # s
    rows: int


class Link(Protocol):
    """A drive, wherever it is. Calls block; `stop` may be called from any thread at any time.

    All raise `LinkError` or one of its kinds.
    """

    name: str

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

    def start(self) -> None:
        """Energise and play the loaded table."""

    def stop(self) -> None:
        """De-energise at once, overtaking whatever is under way."""

    def clear(self) -> None:
        """Acknowledge a trip or an end."""

    def status(self) -> Status:
        """Return how far the experiment is."""

    def upload(self, channels: int, progress: Progress, cancel: Cancel) -> NDArray[np.float32]:
        """Return the trace, (rows, channels)."""

    def subscribe(self, sink: Callable[[Live], None]) -> None:
        """Have `sink` called, on the link's thread, for each live message."""
