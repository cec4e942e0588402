"""What a block upload brings waits until its reader looks."""

import queue
import threading
import time

import pytest

from oarlock.drive.transfers import _Gathered


def test_answers_come_in_order_and_are_waited_for_as_long_as_was_said() -> None:
    answers = _Gathered()
    for one in (b"first", b"second"):
        answers.put(one)
    assert not answers.empty()
    assert [answers.get(), answers.get()] == [b"first", b"second"]
    assert answers.empty()
    threading.Timer(0.05, answers.put, [b"late"]).start()
    assert answers.get(timeout=5.0) == b"late"
    begun = time.monotonic()
    with pytest.raises(queue.Empty):
        answers.get(timeout=0.02)
    assert time.monotonic() - begun >= 0.02
    with pytest.raises(queue.Empty):
        answers.get(block=False, timeout=60.0)
