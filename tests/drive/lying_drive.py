"""A practice drive in a thread of the test, whose answers can be bent on their way."""

import threading
from collections.abc import Callable
from pathlib import Path

from oarlock.drive.unix_bus import pack, unpack
from oarlock.practice.server import Server
from oarlock.practice.truth import draw
from oarlock.simulate.drive_model import DriveModel

Bend = Callable[[int, bytes], bytes | None]  # (identifier, data) to data; None: it is lost
Read = Callable[[int, int, bytes | None], bytes | None]


class LyingDrive(Server):
    """Serves as the practice drive does, with frames and values bent by the test."""

    def __init__(self, path: Path, *, bend: Bend | None = None, read: Read | None = None) -> None:
        model = DriveModel(draw("winch", 0))
        model.advance(1)
        super().__init__(path, model, tied=False, watchdog=0.5)
        self.channel = str(path)
        self._bend = bend or (lambda _id, data: data)
        self._over = threading.Event()
        values = self._firmware.values
        plain = values._read
        if read is not None:
            values._read = lambda index, sub: read(index, sub, plain(index, sub))
        self._thread = threading.Thread(target=self.run, name="lying drive")
        self._thread.start()

    def _exchange(self, timeout: float) -> bool:
        return not self._over.is_set() and super()._exchange(min(timeout, 0.02))

    def _flush(self) -> None:
        frames = self._network.frames
        for _ in range(len(frames)):
            frame = frames.popleft()
            found = unpack(frame)
            assert found is not None
            data = self._bend(*found)
            if data is not None:
                frames.append(frame if data == found[1] else pack(found[0], data))
        super()._flush()

    def end(self) -> None:
        """Stop serving."""
        self._over.set()
        self._thread.join(5.0)
