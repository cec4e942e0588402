"""A Python that a test starts is one of its own, whether it was forked or not."""

import os

import pytest

from tests.forks import end, python

PROGRAM = """
import atexit, os, sys
atexit.register(print, "at its end")
print(sys.argv[1], os.environ["SAID"], os.getpid(), flush=True)
print(sys.stdin.readline().strip(), flush=True)
raise SystemExit(3)
"""


def test_it_has_its_streams_and_ends_as_a_python_does(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("SAID", "so")
    child = python("-c", PROGRAM, "given")
    assert child.stdin is not None
    assert child.stdout is not None
    assert child.stdout.readline().split() == [b"given", b"so", str(child.pid).encode()]
    assert child.pid != os.getpid()
    child.stdin.write(b"asked\n")
    child.stdin.flush()
    assert child.stdout.read().splitlines() == [b"asked", b"at its end"]
    child.wait(10.0)
    end(child)  # that it is gone already does no harm


def test_it_is_killed_where_it_hangs() -> None:
    child = python("-c", "import time; print('on', flush=True); time.sleep(60.0)")
    assert child.stdout is not None
    assert child.stdout.readline() == b"on\n"
    end(child)
    with pytest.raises(ProcessLookupError):
        os.kill(child.pid, 0)
