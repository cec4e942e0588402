"""A link straight into a simulated drive: no process, no socket, as fast as it computes."""

import struct
from collections.abc import Callable, Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from oarlock.cancel import Cancel
from oarlock.drive.canopen_link import CLEAR, COMMIT, PUT_BACK, START, STOP
from oarlock.drive.contract.entries import BY_NAME, name_at
from oarlock.drive.contract.trips import STATES, TRIPS
from oarlock.drive.link import Live, Progress, Status
from oarlock.drive.travel import Ledger
from oarlock.practice.firmware import Firmware
from oarlock.simulate.drive_model import DriveModel
from oarlock.simulate.plant_parameters import PlantParameters


class Hasty(Cancel):
    """A cancel flag that does not wait."""

    def wait(self, seconds: float) -> None:
        self.check()


class Passing(Hasty):
    """A cancel flag whose waiting lets a model's time pass: a shaft without current coasts."""

    def __init__(self, link: "ModelLink") -> None:
        super().__init__()
        self._link = link

    def wait(self, seconds: float) -> None:
        super().wait(seconds)
        if not self._link.model.is_running:
            self._link.model.advance(round(seconds / self._link.model.plant.Ts))


class ModelLink:
    """Plays on a `DriveModel`; time passes when the status is asked for."""

    name = "model drive"

    def __init__(self, plant: PlantParameters, *, seed: int = 0, tick: float = 0.25) -> None:
        self._tick = tick  # s that pass from one status to the next
        self.model = DriveModel(plant, seed=seed)
        self.ledger = Ledger()
        self._firmware = Firmware(self.model)
        self._firmware.operational = True

    @staticmethod
    def _at(key: str) -> tuple[int, int, str]:
        group, entry = BY_NAME[key]
        return group.index, group.sub(entry), entry.type.form

    def close(self) -> None:
        self.stop()

    def age(self) -> float:
        return 0.0

    def read(self, keys: Sequence[str]) -> dict[str, float]:
        values = {}
        for key in keys:
            index, sub, form = self._at(key)
            data = self._firmware.read(index, sub)
            values[key] = float(struct.unpack(form, data or b"")[0])
        return values

    def write(self, values: Mapping[str, float]) -> None:
        for key, value in values.items():
            index, sub, form = self._at(key)
            number = value if form == "<f" else int(value)
            self._firmware.write(index, sub, struct.pack(form, number))

    def load(self, table: NDArray[np.float32]) -> None:
        self._firmware.write(0x2040, 0, table.astype("<f4").tobytes())

    def load_lines(self, lines: NDArray[np.float32]) -> None:
        self._firmware.write(0x2042, 0, lines.astype("<f4").tobytes())

    def sums(self, rows: int, channels: int) -> NDArray[np.float64]:
        return self.model.totals.astype(np.float32).astype(np.float64)

    def commit(self) -> None:
        self._firmware.write(0x2001, 0, bytes([COMMIT]))

    def put_back(self) -> None:
        self._firmware.write(0x2001, 0, bytes([PUT_BACK]))

    def save(self) -> None:
        self._firmware.write(0x1010, 1, b"save")

    def restore(self) -> None:
        self._firmware.write(0x1011, 1, b"load")

    def unsaved(self) -> dict[str, float]:
        data = self._firmware.read(0x2044, 0) or b""
        return {name_at(i, sub): value for i, sub, value in struct.iter_unpack("<HBxf", data)}

    def start(self) -> None:
        self._firmware.write(0x2001, 0, bytes([START]))

    def stop(self) -> None:
        self._firmware.write(0x2001, 0, bytes([STOP]))

    def clear(self) -> None:
        self._firmware.write(0x2001, 0, bytes([CLEAR]))

    def status(self) -> Status:
        if self.model.is_running:
            self.model.advance(round(self._tick / self.model.plant.Ts))
        else:
            self.model.advance(round(0.005 / self.model.plant.Ts))
        m = self.model
        return Status(
            state=STATES[m.state],
            trip=TRIPS[m.trip],
            played=m.played * m.plant.Ts,
            rows=m.recorded,
            summed=m.totals.shape[0],
        )

    def upload(
        self, rows: int, channels: int, progress: Progress, cancel: Cancel
    ) -> NDArray[np.float32]:
        assert self.model.trace.shape == (rows, channels)
        progress(1.0, "fetched")
        cancel.check()
        return self.model.trace.copy()

    def look(self, first: int, rows: int, channels: int) -> NDArray[np.float32]:
        self.write({"Recorder.First row": first, "Recorder.Rows": rows})
        data = self._firmware.read(0x2041, 0) or b""
        return np.frombuffer(data, dtype="<f4").reshape(rows, channels).copy()

    def subscribe(self, sink: Callable[[Live], None]) -> None:
        del sink
