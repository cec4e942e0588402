"""Practice drives without the two seconds that each takes to start: forks of one that has.

`python -m tests.forks FD` loads all that a practice drive needs and makes a process of it whenever
its socket asks. A drive so made is a process of its own, with its own memory, which is stopped,
frozen and killed like any other; only its start is not the program's.
"""

import array
import json
import os
import select
import signal
import socket
import subprocess
import sys
import threading
from typing import IO, Any

_COMMAND = ("-m", "oarlock.practice")
_MOST = 1 << 16  # bytes of a request


class Forks:
    """The process that is forked, begun with the first practice drive; starts of such drives."""

    def __init__(self) -> None:
        self._plain = subprocess.Popen
        self._one_at_a_time = threading.Lock()
        self._process: subprocess.Popen[bytes] | None = None
        self._line, self._theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        if "PYTEST_XDIST_WORKER" in os.environ:  # of many tests some need one: not in their time
            self._begin()

    def _begin(self) -> None:
        if self._process is None:
            command = [sys.executable, "-m", "tests.forks", str(self._theirs.fileno())]
            self._process = self._plain(command, pass_fds=[self._theirs.fileno()])
            self._theirs.close()

    def popen(self, command: list[str], **options: Any) -> "subprocess.Popen[bytes] | Forked":
        """Start a command, in place of `Popen`: a practice drive by a fork."""
        if tuple(command[1:3]) != _COMMAND:
            return self._plain(command, **options)
        with self._one_at_a_time:
            self._begin()
            return Forked(self._line, command[3:])

    def end(self) -> None:
        """Let it go."""
        self._line.close()
        self._theirs.close()
        if self._process is not None:
            self._process.wait()


class Forked:
    """What is used of `Popen`, for a drive that was forked."""

    def __init__(self, line: socket.socket, arguments: list[str]) -> None:
        read_in, write_in = os.pipe()
        read_out, write_out = os.pipe()
        asked = json.dumps({"arguments": arguments, "environment": dict(os.environ)}).encode()
        fds = array.array("i", [read_in, write_out])
        line.sendmsg([asked], [(socket.SOL_SOCKET, socket.SCM_RIGHTS, fds)])
        self.pid = int(line.recv(32))
        os.close(read_in)
        os.close(write_out)
        self.stdin: IO[bytes] = os.fdopen(write_in, "wb")
        self.stdout: IO[bytes] = os.fdopen(read_out, "rb")
        try:
            self._handle = os.pidfd_open(self.pid)
        except ProcessLookupError:  # it has ended already
            self._handle = -1

    def wait(self, timeout: float | None = None) -> int:
        """Wait until it has ended."""
        if self._handle >= 0:
            if not select.select([self._handle], [], [], timeout)[0]:
                raise subprocess.TimeoutExpired("practice drive", timeout or 0.0)
            os.close(self._handle)
            self._handle = -1
        return 0

    def kill(self) -> None:
        """End it at once."""
        if self._handle >= 0:
            signal.pidfd_send_signal(self._handle, signal.SIGKILL)


def main(line: socket.socket) -> None:
    """Fork a drive for each request, until nobody is left who could ask."""
    from oarlock.practice import __main__ as practice
    from oarlock.simulate.drive_model import warm_up

    warm_up()
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)  # nobody waits for them here
    while True:
        asked, passed, _, _ = line.recvmsg(_MOST, socket.CMSG_SPACE(8))
        if not asked:
            return
        fds = array.array("i")
        for _, _, data in passed:
            fds.frombytes(data)
        child = os.fork()
        if child:
            for fd in fds:
                os.close(fd)
            line.send(str(child).encode())
            continue
        line.close()
        signal.signal(signal.SIGCHLD, signal.SIG_DFL)
        os.dup2(fds[0], 0)
        os.dup2(fds[1], 1)
        os.dup2(os.open(os.devnull, os.O_WRONLY), 2)
        for fd in fds:
            os.close(fd)
        request = json.loads(asked)
        os.environ.clear()
        os.environ.update(request["environment"])
        sys.argv = ["practice", *request["arguments"]]
        code = 1
        try:
            code = practice.main()
        finally:
            os._exit(code)


if __name__ == "__main__":
    main(socket.socket(fileno=int(sys.argv[1])))
