"""Least, most and mean of each channel over bins, and sums over all samples, as samples come."""

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.machine import Axis
from oarlock.simulate import layout as k
from oarlock.simulate.drive_model import DriveModel

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


@dataclass(frozen=True, slots=True, kw_only=True)
class Tally:
    """What was gathered up to a sample at which no bin is begun."""

    bins: int
    samples: int
    over: int  # samples with the voltage at its limit
    sums: Mapping[str, float]


class Bins:
    """Gathers what is kept of a run."""

    def __init__(self, duration: float, axis: Axis) -> None:
        Ts = axis.inverter.Ts
        self._width = max(round(min(_BIN, duration / _LEAST_BINS) / Ts), 1)
        self.seconds = self._width * Ts  # of a bin
        self._left: Array | None = None
        self._made: dict[str, list[Array]] = {"mean": [], "least": [], "most": []}
        nothing = {"current": 0.0, "following": 0.0, "ripple": 0.0}
        self._tally = Tally(bins=0, samples=0, over=0, sums=nothing)

    @property
    def samples(self) -> int:
        """How many there were."""
        return self._tally.samples

    @property
    def squares(self) -> dict[str, float]:
        """Mean squares over all samples."""
        return {name: total / max(self.samples, 1) for name, total in self._tally.sums.items()}

    @property
    def saturated(self) -> float:
        """Share of the samples with the voltage at its limit."""
        return self._tally.over / max(self.samples, 1)

    def tally(self) -> Tally | None:
        """Return what was gathered; None where a bin is begun."""
        return None if self._left is not None and self._left.shape[1] else self._tally

    def resume(self, tally: Tally, mean: Columns, least: Columns, most: Columns) -> None:
        """Go on from another run's tally, with its bins up to there."""
        self._tally = tally
        for name, columns in (("mean", mean), ("least", least), ("most", most)):
            self._made[name] = [np.column_stack([columns[c][: tally.bins] for c in COLUMNS])]

    def take(self, rows: NDArray[np.float32], model: DriveModel) -> None:
        """Take the newest samples, (n, 11), in the order of `RECORDED` and of `k.INSIDE`."""
        table = rows.astype(np.float64)
        if not table.shape[0]:
            return
        position = table[:, 0] - model.began_at
        following = table[:, 1] - position
        amperes, volts = np.hypot(*table[:, 4:6].T), np.hypot(*table[:, 6:8].T)
        bus, shaft, torque = table[:, 8:].T
        limit = bus / math.sqrt(3.0)
        power = torque * shaft + 1.5 * model.resistance * amperes**2
        table = np.column_stack(
            [position, following, table[:, 2:8], shaft, power, amperes, volts, bus]
        )
        layers, ripple = table[np.newaxis], 0.0
        if model.plant.switches:  # at the sample, least and most until the next one
            layers = np.stack([table, table, table])
            reach = model.reach(model.recorded - table.shape[0], table.shape[0]).astype(np.float64)
            ripple = float(np.sum(reach[:, k.RIPPLE]))
            _widen(layers, reach)
        if self._left is not None and self._left.shape[1]:
            layers = np.concatenate([self._left, layers], axis=1)
        whole = layers.shape[1] // self._width
        cut = layers[:, : whole * self._width]
        self._keep(cut.reshape(cut.shape[0], whole, self._width, cut.shape[2]))
        self._left = layers[:, whole * self._width :]
        sums = self._tally.sums
        self._tally = Tally(
            bins=self._tally.bins + whole,
            samples=self._tally.samples + table.shape[0],
            over=self._tally.over + int(np.count_nonzero(volts >= 0.999 * limit)),
            sums={"current": sums["current"] + float(np.sum(amperes**2)),
                  "following": sums["following"] + float(np.sum(following**2)),
                  "ripple": sums["ripple"] + ripple},
        )  # fmt: skip

    def _keep(self, cut: Array) -> None:
        """Keep bins, (layers, n, samples of a bin, channels)."""
        self._made["mean"].append(cut[0].mean(axis=1))
        self._made["least"].append(cut[len(cut) // 2].min(axis=1, initial=math.inf))
        self._made["most"].append(cut[-1].max(axis=1, initial=-math.inf))

    def columns(self) -> tuple[Columns, Columns, Columns]:
        """Return mean, least and most by channel; the last bin may be shorter than the others."""
        if self._left is not None and self._left.shape[1]:
            self._keep(self._left[:, np.newaxis])
            self._left = None
        made = [np.concatenate(parts) if parts else np.zeros((0, len(COLUMNS)))
                for parts in self._made.values()]  # fmt: skip
        mean, least, most = (dict(zip(COLUMNS, table.T, strict=True)) for table in made)
        return mean, least, most


def _widen(layers: Array, reach: NDArray[np.float64]) -> None:
    """Have least and most reach as far as a switching bridge drives the currents."""
    _, least, most = layers
    for name, low, high in (("id", k.D_LEAST, k.D_MOST), ("iq", k.Q_LEAST, k.Q_MOST)):
        at = COLUMNS.index(name)
        least[:, at] = np.minimum(least[:, at], reach[:, low])
        most[:, at] = np.maximum(most[:, at], reach[:, high])
    at = COLUMNS.index("amperes")
    most[:, at] = np.maximum(most[:, at], reach[:, k.SIZE_MOST])
