"""The client's heartbeat, sent by a small process of its own.

A drive de-energises within 50 ms of silence. An interpreter that holds its lock for longer than
that (a large garbage collection, a library that does not let go of it) would trip a healthy
run. So a helper beats on the bus's own descriptor for as long as this process feeds it through
a pipe. It falls silent at once when the process ends, when it is stopped by a signal or a
debugger, and when its main thread has ended; and after `PATIENCE` when it no longer feeds.

This file is also the helper's program; it imports nothing but the standard library.
"""

import os
import select
import subprocess
import sys
import threading
import time

PERIOD = 0.010  # s between heartbeats
FEED = 0.020  # s between feedings
PATIENCE = 0.100  # s without feeding, then the helper falls silent


class Heart:
    """Beats `frame` on the descriptor `bus` until it is closed."""

    def __init__(self, bus: int, frame: bytes) -> None:
        reading, self._feeding = os.pipe()
        command = [sys.executable, "-I", "-S", __file__, str(bus), str(reading), frame.hex()]
        try:
            self._helper = subprocess.Popen(
                command, pass_fds=(bus, reading), stdout=subprocess.PIPE
            )
        except OSError:
            os.close(self._feeding)
            raise
        finally:
            os.close(reading)
        self._await_first_beat()
        self._ending = threading.Event()
        self._thread = threading.Thread(target=self._feed, name="heart", daemon=True)
        self._thread.start()

    def _await_first_beat(self) -> None:
        """Return once the drive has been sent a heartbeat; it may be started from then on."""
        pipe = self._helper.stdout
        if pipe is not None:
            select.select([pipe], [], [], 5.0)
            pipe.close()

    def _feed(self) -> None:
        main = threading.main_thread()
        while not self._ending.wait(FEED):
            try:
                os.write(self._feeding, b"." if main.is_alive() else b"!")
            except OSError:
                return  # the helper is gone, and so is the bus

    def close(self) -> None:
        """Fall silent."""
        if self._ending.is_set():
            return
        self._ending.set()
        self._thread.join(1.0)
        os.close(self._feeding)
        try:
            self._helper.wait(1.0)
        except subprocess.TimeoutExpired:
            self._helper.kill()
            self._helper.wait()


def beat(bus: int, feeding: int, frame: bytes) -> None:
    """Send `frame` every period while somebody feeds; return when nobody can any more."""
    parent = os.open(f"/proc/{os.getppid()}/stat", os.O_RDONLY)
    fed = time.monotonic()
    os.write(bus, frame)
    os.write(sys.stdout.fileno(), b".")
    due = fed + PERIOD
    while True:
        ready, _, _ = select.select([feeding], [], [], max(due - time.monotonic(), 0.0))
        now = time.monotonic()
        if ready:
            told = os.read(feeding, 4096)
            if not told or b"!" in told:
                return
            fed = now
        if now >= due:
            due = now + PERIOD
            if now - fed < PATIENCE and not _stopped(parent):
                os.write(bus, frame)


def _stopped(stat: int) -> bool:
    """Return whether the process behind an open /proc/PID/stat is stopped, or gone."""
    try:
        state = os.pread(stat, 512, 0).rpartition(b")")[2].split()[0]
    except (OSError, IndexError):
        return True
    return state in (b"T", b"t", b"Z", b"X")


if __name__ == "__main__":
    try:
        beat(int(sys.argv[1]), int(sys.argv[2]), bytes.fromhex(sys.argv[3]))
    except (OSError, KeyboardInterrupt):
        sys.exit(0)
