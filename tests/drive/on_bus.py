"""A practice drive as a node of a bus that needs no hardware, for those who test the way to it."""

import socket
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager

import pytest

from tests.forks import Forked, end, python

GROUP = "239.74.163"


def free_bus() -> str:
    """Return a bus of this test alone; skip where the machine has no multicast."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as one:
        one.bind(("", 0))
        port = one.getsockname()[1]
        try:
            group = socket.inet_aton(f"{GROUP}.9") + socket.inet_aton("0.0.0.0")
            one.setsockopt(socket.IPPROTO_IP, socket.IP_ADD_MEMBERSHIP, group)
            one.sendto(b"", (f"{GROUP}.9", port))
        except OSError as error:
            pytest.skip(f"no multicast on this machine: {error}")
    return f"udp_multicast:{GROUP}.9:{port}"


@contextmanager
def drive_on(bus: str, *arguments: str) -> "Iterator[subprocess.Popen[bytes] | Forked]":
    """Run a practice drive on a bus until the block ends."""
    process = python("-m", "oarlock.practice", "--tied", "--bus", bus, "--watchdog", "0.5",
                     *arguments)  # fmt: skip
    assert process.stdout is not None
    try:
        assert process.stdout.readline().startswith(b"ready")
        yield process
    finally:
        end(process)
