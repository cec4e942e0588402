"""Start and stop the practice drive, which is a process of its own."""

import os
import select
import subprocess
import sys
import time
from pathlib import Path

from oarlock.drive.unix_bus import runtime_folder
from oarlock.errors import LinkLost

_SLOWEST_START = 90.0  # s: a cold start compiles
_start = subprocess.Popen  # tests have drives that are started already


class PracticeProcess:
    """A running practice drive; it ends with this object, or with this process."""

    def __init__(self, *arguments: str, name: str = "") -> None:
        label = name or f"{os.getpid()}-{time.monotonic_ns() & 0xFFFFFF:x}"
        self.channel = str(runtime_folder() / f"practice-{label}.sock")
        command = [sys.executable, "-m", "oarlock.practice", "--tied", "--socket", self.channel]
        self._process = _start(
            [*command, *arguments],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
        )
        try:
            self._await_ready()
        except BaseException:
            self.stop()
            raise

    def _await_ready(self) -> None:
        pipe = self._process.stdout
        if pipe is None:
            raise LinkLost("the practice drive has no output", place="practice drive")
        ready, _, _ = select.select([pipe], [], [], _SLOWEST_START)
        line = pipe.readline() if ready else b""
        if not line.startswith(b"ready"):
            remedy = "Run 'oarlock practice-drive' to see why"
            raise LinkLost(
                "the practice drive did not start", place="practice drive", remedy=remedy
            )

    @property
    def pid(self) -> int:
        """Process number, for those who measure it."""
        return self._process.pid

    def stop(self) -> None:
        """Let it end; harmless when it has."""
        for pipe in (self._process.stdin, self._process.stdout):
            if pipe:
                pipe.close()
        try:
            self._process.wait(2.0)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()
        Path(self.channel).unlink(missing_ok=True)
