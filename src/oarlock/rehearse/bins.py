"""Least, most and mean of each channel over bins, and sums over all samples, as samples come."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.machine import Axis
from oarlock.simulate import layout as k
from oarlock.simulate import tally as kernel
from oarlock.simulate.drive_model import DriveModel
from oarlock.simulate.side_by_side import LaneTally

Array = NDArray[np.float64]
Columns = Mapping[str, Array]  # by channel, (n,)
RECORDED = ("theta_m", "position_ref", "speed", "speed_ref", "id", "iq", "vd", "vq", "vdc")
UNITS = {"position": "rad", "following": "rad", "speed": "rad/s", "speed_ref": "rad/s", "id": "A",
         "iq": "A", "vd": "V", "vq": "V", "shaft": "rad/s", "power": "W", "amperes": "A",
         "volts": "V", "bus": "V"}  # fmt: skip
# The shaft's own speed, which a faulty sensor does not tell; what the bus gives: the shaft's power
# and the copper's loss, without what the windings store and give back; size of the current vector,
# and of the voltage vector; what the bus has.
COLUMNS = tuple(UNITS)
_BIN = 1e-3  # s
_LEAST_BINS = 400
_NO_REACH = np.zeros((0, k.REACH_SIZE), dtype=np.float32)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Tally:
    """What was gathered up to a sample, the bin that is begun there with it."""

    counts: NDArray[np.int64]
    sums: Array
    begun: Array  # (3, columns)


def _sized(duration: float, axis: Axis) -> tuple[int, int]:
    """Return the samples of a bin and how many bins there are at most."""
    Ts = axis.inverter.Ts
    width = max(round(min(_BIN, duration / _LEAST_BINS) / Ts), 1)
    return width, round(duration / Ts) // width + 1


def bytes_of(duration: float, axis: Axis) -> int:
    """Return how much memory (bytes) is taken by what is kept of a run of so many seconds."""
    return 3 * kernel.COLUMNS * _sized(duration, axis)[1] * np.dtype(np.float64).itemsize


class Bins:
    """Gathers what is kept of a run."""

    def __init__(self, duration: float, axis: Axis) -> None:
        self.width, self.most = _sized(duration, axis)  # of a bin: samples; bins
        self.seconds = self.width * axis.inverter.Ts  # of a bin
        self._kept = np.empty((3, kernel.COLUMNS, self.most))
        self._counts = np.zeros(kernel.COUNTS, dtype=np.int64)
        self._sums, self._begun = np.zeros(kernel.SUMS), np.zeros((3, kernel.COLUMNS))

    @property
    def samples(self) -> int:
        """How many there were."""
        return int(self._counts[kernel.SAMPLES])

    @property
    def squares(self) -> dict[str, float]:
        """Mean squares over all samples."""
        current, following, ripple, _ = (self._sums / max(self.samples, 1)).tolist()
        return {"current": current, "following": following, "ripple": ripple}

    @property
    def saturated(self) -> float:
        """Share of the samples with the voltage at its limit."""
        return float(self._sums[kernel.OVER]) / max(self.samples, 1)

    def tally(self) -> Tally:
        """Return what was gathered, to go on from there later."""
        return Tally(counts=self._counts.copy(), sums=self._sums.copy(), begun=self._begun.copy())

    def resume(self, tally: Tally, mean: Columns, least: Columns, most: Columns) -> None:
        """Go on from another run's tally, with its bins up to there."""
        self._counts[:], self._sums[:], self._begun[:] = tally.counts, tally.sums, tally.begun
        many = int(tally.counts[kernel.BINS])
        for kept, columns in zip(self._kept, (mean, least, most), strict=True):
            for n, name in enumerate(COLUMNS):
                kept[n, :many] = columns[name][:many]

    def take_lane(self, beside: LaneTally, lane: int) -> None:
        """Take over what was gathered of one of several runs side by side."""
        self._kept, self._counts[:] = beside.kept[lane], beside.counts
        self._sums[:], self._begun[:] = beside.sums[:, lane], beside.begun[..., lane]

    def take(self, rows: NDArray[np.float32], model: DriveModel) -> None:
        """Take the newest samples, (n, 11), in the order of `RECORDED` and of `k.INSIDE`."""
        many, reach = rows.shape[0], _NO_REACH
        if model.plant.switches and many:  # least and most until the next sample
            reach = model.reach(model.recorded - many, many)
        kernel.gather(rows, 0, many, reach, model.began_at, model.resistance, self.width,
                      self._counts, self._sums, self._begun, self._kept)  # fmt: skip

    def columns(self) -> tuple[Columns, Columns, Columns]:
        """Return mean, least and most by channel; the last bin may be shorter than the others."""
        whole, left = int(self._counts[kernel.BINS]), int(self._counts[kernel.FILLED])
        if left:
            self._kept[..., whole] = self._begun
            self._kept[kernel.MEAN, :, whole] /= left
        found = self._kept[..., : whole + (left > 0)]
        mean, least, most = (dict(zip(COLUMNS, table, strict=True)) for table in found)
        return mean, least, most
