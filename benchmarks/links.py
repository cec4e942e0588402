"""`make bench-links`: a drive on a bus of python-can, found, lost and found again, and its speed.

The bus is multicast on this machine. What it can carry is measured by itself in the same run:
request and answer between two plain sockets of python-can, without any of this program.
"""

import math
import os
import signal
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path

import can
import numpy as np

from benchmarks.machines import the_axis
from oarlock.cancel import Cancel
from oarlock.drive.canopen_link import CanopenLink
from oarlock.drive.channel import parse_channel
from oarlock.drive.contract.entries import PARAMETERS
from oarlock.drive.finder import find
from oarlock.drive.runner import play
from oarlock.drive.steps import Limits, Plan, Step
from oarlock.errors import LinkError, LinkTimeout
from oarlock.experiments.common.gentle import gentle_gains
from oarlock.session.connecting import Again, Opened
from oarlock.session.jobs import Jobs

_BUS = "udp_multicast:239.74.163.7:43771"
_PLAIN = "udp_multicast:239.74.163.8:43772"
_ROWS = 4096


class Drive:
    """A practice drive on the bus."""

    def __enter__(self) -> "Drive":
        command = [sys.executable, "-m", "oarlock.practice", "--tied", "--bus", _BUS]
        self.process = subprocess.Popen(
            [*command, "--watchdog", "0.5"], stdin=subprocess.PIPE, stdout=subprocess.PIPE
        )
        assert self.process.stdout is not None
        self.process.stdout.readline()
        return self

    def __exit__(self, *_: object) -> None:
        self.process.kill()
        self.process.communicate()


def carried(seconds: float = 1.0) -> float:
    """Return how many requests with their answers the bus carries, 1/s."""
    one, other = (can.Bus(**parse_channel(_PLAIN).options()) for _ in range(2))
    ending = threading.Event()

    def echo() -> None:
        while not ending.is_set():
            message = other.recv(0.1)
            if message is not None and message.arbitration_id == 0x601:
                other.send(can.Message(arbitration_id=0x581, data=message.data,
                                       is_extended_id=False))  # fmt: skip

    thread = threading.Thread(target=echo, daemon=True)
    thread.start()
    many, until = 0, time.perf_counter() + seconds
    try:
        while time.perf_counter() < until:
            one.send(can.Message(arbitration_id=0x601, data=b"12345678", is_extended_id=False))
            while (got := one.recv(1.0)) is not None and got.arbitration_id != 0x581:
                continue
            many += 1
    finally:
        ending.set()
        thread.join()
        one.shutdown()
        other.shutdown()
    return many / seconds


def reads(seconds: float = 1.0) -> tuple[float, float, float, float]:
    """Return how quick a link is.

    Parameters read one by one, 1/s; all of them read, and written with what comes back, 1/s; the
    seconds of an upload of 8 channels of `_ROWS` rows.
    """
    link = CanopenLink(_BUS)
    try:
        many, until = 0, time.perf_counter() + seconds
        while time.perf_counter() < until:
            link.read(["Current controller.Kp d"])
            many += 1
        every = link.read(PARAMETERS)
        took = min(timed(lambda: link.read(PARAMETERS)) for _ in range(5))
        wrote = min(timed(lambda: rewritten(link, every)) for _ in range(5))
        axis = the_axis()
        plan = Plan(
            name="hold",
            steps=(Step(duration=_ROWS * 62.5e-6, i_d=1.0),),
            channels=("t", "ia", "ib", "ic", "id", "iq", "vd", "vq"),
            limits=Limits(current=8.0, speed=10.0, travel=1.0, time=5.0),
            gains=gentle_gains(axis, 800.0),
        )
        play(plan, axis, link, settings={}, cancel=Cancel())
        begun = time.perf_counter()
        link.upload(_ROWS, 8, lambda _f, _d: None, Cancel())
        taken = time.perf_counter() - begun
        return many / seconds, len(every) / took, len(every) / wrote, taken
    finally:
        link.close()


def timed(action: Callable[[], object]) -> float:
    """Return the seconds that something takes."""
    begun = time.perf_counter()
    action()
    return time.perf_counter() - begun


def rewritten(link: CanopenLink, values: dict[str, float]) -> None:
    """Write every parameter anew, as after a drive has begun anew."""
    link.restore()  # nothing is relied on after it
    link.write(values)


def again(drive: Drive, times: int) -> list[float]:
    """Return the seconds from the drive's return until it is connected, each time."""
    taken: list[Opened] = []
    jobs = Jobs(lambda call: call())
    looking = Again(jobs, taken.append)
    found = []
    for _ in range(times):
        drive.process.send_signal(signal.SIGSTOP)
        looking.begin(_BUS)
        until = time.monotonic() + float(np.random.default_rng().uniform(0.3, 0.9))
        while time.monotonic() < until:
            looking.tick()
            time.sleep(0.02)
        drive.process.send_signal(signal.SIGCONT)
        begun = time.monotonic()
        while not taken and time.monotonic() - begun < 10.0:
            looking.tick()
            time.sleep(0.005)
        found.append(time.monotonic() - begun)
        if taken:
            taken.pop().link.close()
    looking.end()
    jobs.stop_all()
    return found


_START = """
import os, sys, time
begun = time.perf_counter()
os.environ["QT_QPA_PLATFORM"] = "offscreen"
from oarlock.ui.frame.app import application
from oarlock.ui.kit import theme as look
qt = application(); look.load_fonts()
from oarlock.ui.start.window import StartWindow
window = StartWindow(); window.show()
while not window.isVisible(): qt.processEvents()
qt.processEvents(); window.grab()
print(time.perf_counter() - begun)
"""


def start_page(projects: int) -> float:
    """Return the seconds until the start page is drawn with so many projects on its list."""
    with tempfile.TemporaryDirectory() as folder:
        env = {**os.environ, "XDG_STATE_HOME": folder}
        listing = Path(folder) / "oarlock" / "recent.json"
        listing.parent.mkdir()
        rows = ", ".join(
            f'{{"path": "/p/{n}.oarlock", "name": "Project {n}", "opened": "2026-11-27T10:00:00",'
            f' "axes": [{{"name": "Winch {n}", "said": "849 Hz, with 61° to spare"}}]}}'
            for n in range(projects)
        )
        listing.write_text(f"[{rows}]")
        command = [sys.executable, "-c", _START]
        ran = subprocess.run(command, capture_output=True, text=True, check=True, env=env)
    return float(ran.stdout.split()[-1])


def main(*, short: bool = False) -> None:
    times, seconds = (1, 0.3) if short else (200, 2.0)
    rows: list[tuple[str, float, float, str]] = []
    with Drive() as drive:
        begun = time.perf_counter()
        ways = find(Cancel(), [parse_channel(_BUS)])
        taken = time.perf_counter() - begun
        if not any(node.usable for way in ways for node in way.nodes):
            raise LinkTimeout("no drive was found on the bus")  # the machine stood still
        rows.append(("drives found", taken, 2.0, "s"))
        plain = carried(seconds)
        rate, read, wrote, upload = reads(seconds)
        # What is written is read back: two of them for each.
        rows.append(("all parameters read, over an exchange for each", plain / read, 1.5, "×"))
        rows.append(("all written and read back, over two for each", 0.5 * plain / wrote, 1.5, "×"))
        rows.append(("one read alone, over an exchange", plain / rate, math.inf, "×"))
        # Half of a request with its answer is one frame; segments carry seven bytes each.
        frames = 4 * 8 * _ROWS / 7.0
        rows.append(("an upload, over its frames", upload / (frames * 0.5 / plain), 1.5, "×"))
        try:
            waits = again(drive, times)
        except LinkError as error:
            sys.stdout.write(f"reconnecting failed: {error}\n")
            waits = [float("inf")]
        rows.append((f"connected again, the slowest of {times}", max(waits), 1.0, "s"))
        rows.append(("connected again, the middle one", statistics.median(waits), 1.0, "s"))
    # By turns: the machine may be quick in one minute and slow in the next.
    pairs = [(start_page(1), start_page(1000)) for _ in range(1 if short else 9)]
    none, many = (min(column) for column in zip(*pairs, strict=True))
    if not short:
        rows.append(("start page with 1000 projects, over with one", many / none, 1.1, "×"))
    rows.append(("start page drawn, from the first line of Python", none, 1.5, "s"))
    for name, value, bar, unit in rows:
        verdict = "" if value <= bar else "  MISSED"
        shown = f"{bar:g}" if math.isfinite(bar) else "–"
        sys.stdout.write(f"{name:56}{value:10.3f} {unit:3}{shown:>8}{verdict}\n")


if __name__ == "__main__":
    main(short="--short" in sys.argv)
