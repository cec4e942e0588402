"""How long the drive stays energised once its client falls silent, by the drive's own clock.

`python -m benchmarks.silence [TRIES]`: each kind of silence that docs/drive-interface.md names,
with a client in a process of its own and a drive that notes when it let go.
"""

import os
import select
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

from oarlock.errors import LinkTimeout
from oarlock.practice.server import WATCHDOG, Server
from oarlock.practice.truth import draw
from oarlock.simulate.drive_model import DriveModel

# s, from the event to no current: what docs/drive-interface.md promises for each kind.
PROMISED = {"ended": 0.070, "killed": 0.070, "stopped": 0.080, "main thread over": 0.100,
            "lock held": 0.170}  # fmt: skip

_TRIES = 3  # of a client that does not come to play
_STILL = 0.005  # s for which the machine may stand still without being noted

_CLIENT = """
import ctypes, os, sys, threading, time
from benchmarks.machines import the_axis
from oarlock.cancel import Cancel
from oarlock.drive.canopen_link import CanopenLink
from oarlock.drive.runner import play
from oarlock.drive.steps import Limits, Plan, Step
from oarlock.experiments.common.gentle import gentle_gains

kind, axis = sys.argv[2], the_axis()
link = CanopenLink(sys.argv[1])
plan = Plan(name="hold", steps=(Step(duration=20.0, i_d=1.0),), channels=("t",), decimation=50,
            limits=Limits(current=8.0, speed=10.0, travel=1.0, time=21.0),
            gains=gentle_gains(axis, 800.0))
def run():
    try:
        play(plan, axis, link, settings={}, cancel=Cancel())
    except Exception:
        pass
playing = threading.Thread(target=run, daemon=kind != "main thread over")
playing.start()
while link.status().state != "running":
    if not playing.is_alive():
        os._exit(2)  # a busy machine let the heart miss a beat before it began
    time.sleep(0.005)
time.sleep(0.05)
sys.stdout.write("running\\n"); sys.stdout.flush()
sys.stdin.readline()
sys.stdout.write(f"{time.monotonic()}\\n"); sys.stdout.flush()
if kind == "ended":
    os._exit(1)
elif kind == "lock held":
    ctypes.PyDLL(None).usleep(600000)
elif kind != "main thread over":
    time.sleep(20.0)
"""


_WATCHER = """
import os, sys, time
os.sched_setaffinity(0, {int(sys.argv[1])})
try:
    os.sched_setscheduler(0, os.SCHED_FIFO, os.sched_param(1))
except OSError:
    try:
        os.nice(-15)
    except OSError:
        pass
sys.stdout.write("0 0\\n"); sys.stdout.flush()
last = time.monotonic()
while True:
    time.sleep(0.001)
    now = time.monotonic()
    if now - last > 0.004:
        sys.stdout.write(f"{last} {now}\\n"); sys.stdout.flush()
    last = now
"""


class Stalls:
    """When this machine stood still: a process on each core that comes before all others."""

    def __init__(self) -> None:
        self._seen: list[tuple[float, float]] = []
        self._watchers = [
            subprocess.Popen([sys.executable, "-S", "-c", _WATCHER, str(core)], bufsize=0,
                             stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
            for core in sorted(os.sched_getaffinity(0))
        ]  # fmt: skip
        self._rests = [b"" for _ in self._watchers]
        for watcher in self._watchers:
            assert watcher.stdout is not None
            watcher.stdout.readline()  # it watches from here on

    def within(self, begin: float, end: float) -> float:
        """Return for how long (s) it stood still between two moments, at most at once."""
        for k, watcher in enumerate(self._watchers):
            assert watcher.stdout is not None
            while select.select([watcher.stdout], [], [], 0.0)[0]:
                told = watcher.stdout.read(4096)
                if not told:
                    break  # it has ended
                *lines, self._rests[k] = (self._rests[k] + told).split(b"\n")
                self._seen += [(float(a), float(b)) for a, b in map(bytes.split, lines)]
        return max([0.0] + [min(b, end) - max(a, begin) for a, b in self._seen])

    def end(self) -> None:
        """Let the watchers go."""
        for watcher in self._watchers:
            watcher.kill()
            watcher.communicate()


class WatchedDrive(Server):
    """A practice drive in a thread of this process, which notes when it let go."""

    def __init__(self, path: Path) -> None:
        model = DriveModel(draw("winch", 0))
        model.advance(1)
        super().__init__(path, model, tied=False, watchdog=WATCHDOG)
        self.let_go = 0.0
        self._over = threading.Event()
        self._was_running = False
        self._thread = threading.Thread(target=self.run, name="watched drive")
        self._thread.start()

    def _exchange(self, timeout: float) -> bool:
        running = self._model.is_running
        if self._was_running and not running:
            self.let_go = time.monotonic()
        self._was_running = running
        return not self._over.is_set() and super()._exchange(min(timeout, 0.02))

    def end(self) -> None:
        """Stop serving."""
        self._over.set()
        self._thread.join(5.0)


def begun_in_the_end(kind: str, folder: Path, stalls: Stalls) -> tuple[float, float]:
    """Return what `once` does; a client that a busy machine kept from beginning is tried again."""
    for _ in range(_TRIES - 1):
        try:
            return once(kind, folder, stalls)
        except LinkTimeout:
            continue
    return once(kind, folder, stalls)


def once(kind: str, folder: Path, stalls: Stalls) -> tuple[float, float]:
    """Return how long (s) the drive stayed energised after one silence of a kind.

    And for how long the machine itself stood still in that time.

    Raises
    ------
    LinkTimeout : the client did not begin, or the drive let go beforehand

    """
    drive = WatchedDrive(folder / "drive.sock")
    client = subprocess.Popen(
        [sys.executable, "-c", _CLIENT, str(folder / "drive.sock"), kind],
        stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True,
    )  # fmt: skip
    assert client.stdin is not None
    assert client.stdout is not None
    try:
        _line(client)
        client.stdin.write("now\n")
        client.stdin.flush()
        begun = float(_line(client))
        if kind in ("killed", "stopped"):
            time.sleep(0.02)
            begun = time.monotonic()
            os.kill(client.pid, signal.SIGKILL if kind == "killed" else signal.SIGSTOP)
        until = time.monotonic() + 3.0
        while not drive.let_go and time.monotonic() < until:
            time.sleep(0.005)
        if not drive.let_go:
            return float("inf"), 0.0
        if drive.let_go < begun:
            raise LinkTimeout("it let go before the client fell silent", place="drive",
                              remedy="Try again")  # fmt: skip
        time.sleep(0.03)  # a watcher that stood still tells it now
        return drive.let_go - begun, stalls.within(begun, drive.let_go)
    finally:
        client.kill()
        client.wait()
        client.stdin.close()
        client.stdout.close()
        drive.end()


def _line(client: subprocess.Popen[str]) -> str:
    assert client.stdout is not None
    ready, _, _ = select.select([client.stdout], [], [], 20.0)
    told = client.stdout.readline().strip() if ready else ""
    if not told:
        raise LinkTimeout("it does not answer", place="client", remedy="Try again")
    return told


def main(tries: int = 200, tell: Callable[[str], None] = print) -> None:
    """Measure each kind and print its table."""
    tell("| silence of the client | tries | median ms | most ms | promised ms | the machine stood "
         "still | most ms otherwise |")  # fmt: skip
    tell("| --- | --- | --- | --- | --- | --- | --- |")
    watching = Stalls()
    try:
        for kind, promised in PROMISED.items():
            with tempfile.TemporaryDirectory() as folder:
                found, stood = np.array([begun_in_the_end(kind, Path(folder), watching)
                                         for _ in range(tries)]).T  # fmt: skip
            still = stood > _STILL
            rest = f"{1e3 * found[~still].max():.0f}" if np.any(~still) else "–"
            tell(
                f"| {kind} | {tries} | {1e3 * np.median(found):.0f} | {1e3 * found.max():.0f} | "
                f"{1e3 * promised:.0f} | {np.count_nonzero(still)} times | {rest} |"
            )
    finally:
        watching.end()


if __name__ == "__main__":
    sys.stdout.reconfigure(line_buffering=True)  # type: ignore[union-attr]
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 200)
