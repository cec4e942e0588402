"""Processes that need not load what they work with: forks of one that has.

`python -m tests.forks COMMAND ...` runs a command, and beside it a process that loads whatever
tests and practice drives need and makes a process of it whenever somebody asks. Those who run below
the command are such forks: `python -m tests.forks --python ...` takes Python's own options and
leaves the work to one, and a practice drive that a test starts is one. Each is a process of its
own, with its own memory, which is stopped, frozen and killed like any other; only its start is
not the program's.
"""

import array
import contextlib
import importlib
import json
import os
import pkgutil
import runpy
import select
import signal
import socket
import subprocess
import sys
import tempfile
import threading
from pathlib import Path
from typing import IO, Any

PLACE = "OARLOCK_FORKS"  # in the environment: where to ask
_LIBRARIES = ("PySide6.QtTest", "dask", "scipy.integrate", "scipy.optimize", "scipy.signal",
              "scipy.stats")  # fmt: skip
_MOST = 1 << 16  # bytes of a request


class Forked:
    """What is used of `Popen`, for a process that was forked; streams are passed on as they are."""

    def __init__(self, arguments: list[str], streams: tuple[int, int, int] | None = None) -> None:
        self.stdin: IO[bytes] | None = None
        self.stdout: IO[bytes] | None = None
        ours: list[int] = []
        if streams is None:
            read_in, write_in = os.pipe()
            read_out, write_out = os.pipe()
            nothing = os.open(os.devnull, os.O_WRONLY)
            ours = [read_in, write_out, nothing]
            streams = (read_in, write_out, nothing)
            self.stdin, self.stdout = os.fdopen(write_in, "wb"), os.fdopen(read_out, "rb")
        asked = {"arguments": arguments, "environment": dict(os.environ), "folder": str(Path.cwd())}
        with socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET) as line:
            line.connect(os.environ[PLACE])
            rights = (socket.SOL_SOCKET, socket.SCM_RIGHTS, array.array("i", streams))
            line.sendmsg([json.dumps(asked).encode()], [rights])
            self.pid = int(line.recv(32))
        for fd in ours:
            os.close(fd)
        try:
            self._handle = os.pidfd_open(self.pid)
        except ProcessLookupError:  # it has ended already
            self._handle = -1

    def wait(self, timeout: float | None = None) -> int:
        """Wait until it has ended."""
        if self._handle >= 0:
            if not select.select([self._handle], [], [], timeout)[0]:
                raise subprocess.TimeoutExpired("a fork", timeout or 0.0)
            os.close(self._handle)
            self._handle = -1
        return 0

    def kill(self) -> None:
        """End it at once."""
        if self._handle >= 0:
            with contextlib.suppress(ProcessLookupError):
                signal.pidfd_send_signal(self._handle, signal.SIGKILL)


class Forks:
    """Forks for as long as it is entered: the process that is forked, which loads meanwhile."""

    def __enter__(self) -> None:
        self._folder = tempfile.TemporaryDirectory()
        place = f"{self._folder.name}/forks"
        listening = socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        listening.bind(place)
        listening.listen(64)
        ends, self._held = os.pipe()
        fds = (listening.fileno(), ends)
        command = [sys.executable, "-m", "tests.forks", "--serve", *map(str, fds)]
        self._process = subprocess.Popen(command, pass_fds=fds)
        listening.close()
        os.close(ends)
        os.environ[PLACE] = place

    def __exit__(self, *_: object) -> None:
        del os.environ[PLACE]
        os.close(self._held)
        self._process.wait()
        self._folder.cleanup()


def python(*arguments: str) -> "subprocess.Popen[bytes] | Forked":
    """Start Python, both its streams given: by a fork, where there are forks."""
    if PLACE in os.environ:
        return Forked(list(arguments))
    pipe = subprocess.PIPE
    return subprocess.Popen([sys.executable, *arguments], stdin=pipe, stdout=pipe)


def end(process: "subprocess.Popen[bytes] | Forked") -> None:
    """Kill it, wait until it is gone, and close its streams."""
    process.kill()
    process.wait()
    for stream in (process.stdin, process.stdout):
        if stream is not None:
            stream.close()


class Drives:
    """Starts practice drives by forks; where there are none yet, from the first one on."""

    def __init__(self) -> None:
        self._one_at_a_time = threading.Lock()
        self._ours = contextlib.ExitStack()
        self.end = self._ours.close

    def start(self, command: list[str], **_streams: int) -> Forked:
        """Start Python by its command, in place of `Popen`, both its streams given."""
        with self._one_at_a_time:
            if PLACE not in os.environ:
                self._ours.enter_context(Forks())
        return Forked(command[1:])


def _load() -> None:
    """Load what somebody may need, as it is before a window or a drive begins."""
    import oarlock

    for found in pkgutil.walk_packages(oarlock.__path__, "oarlock."):
        if not found.name.endswith("__main__"):
            importlib.import_module(found.name)
    for name in _LIBRARIES:
        importlib.import_module(name)
    from oarlock.control.compiled import warm
    from oarlock.quantities import entry
    from oarlock.simulate.drive_model import warm_up

    warm()
    warm_up()
    entry.warm()


def _serve(listening: socket.socket, parent: int) -> None:
    """Fork for each who asks, until the parent has ended; a fork returns when it has done."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # who asks is interrupted, and then this ends
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)  # nobody waits for them here
    _load()
    waited_for: list[Any] = [listening, parent]
    while parent not in select.select(waited_for, [], [])[0]:
        line, _ = listening.accept()
        asked, passed, _, _ = line.recvmsg(_MOST, socket.CMSG_SPACE(12))
        fds = array.array("i")
        for _, _, data in passed:
            fds.frombytes(data)
        child = os.fork() if asked else -1  # nothing: who asked was killed
        if child == 0:
            for one in (listening, line):
                one.close()
            os.close(parent)
            _become(json.loads(asked), fds.tolist())
            return
        with contextlib.suppress(OSError):
            line.send(str(child).encode())
        line.close()
        for fd in fds:
            os.close(fd)


def _become(asked: dict[str, Any], fds: list[int]) -> None:
    """Be the Python that was asked for, until its program ends."""
    signal.signal(signal.SIGINT, signal.default_int_handler)
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    for n, fd in enumerate(fds):
        os.dup2(fd, n)
        os.close(fd)
    sys.stdin, sys.stdout = os.fdopen(0), os.fdopen(1, "w", buffering=1)  # told line by line
    os.environ.clear()
    os.environ.update(asked["environment"])
    os.chdir(asked["folder"])
    arguments = [one for one in asked["arguments"] if one != "-u"]
    sys.argv = [arguments[0], *arguments[2:]]
    if arguments[0] == "-m":
        runpy.run_module(arguments[1], run_name="__main__", alter_sys=True)
    else:
        exec(arguments[1], {"__name__": "__main__"})


def main(arguments: list[str]) -> int:
    """Run a command beside a process that forks; with `--python` be in place of such a fork."""
    if arguments[0] == "--python":
        fork = Forked(arguments[1:], (0, 1, 2))
        for fd in (0, 1):
            os.close(fd)
        return fork.wait()
    if arguments[0] == "--serve":
        _serve(socket.socket(fileno=int(arguments[1])), int(arguments[2]))
        return 0
    with Forks():
        return subprocess.call(arguments)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
