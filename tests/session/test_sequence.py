"""A run through several quantities: next, skipped, waiting."""

from oarlock.session.sequence import Sequence


def test_what_is_done_skipped_and_left() -> None:
    run = Sequence(left=("a", "b", "c"))
    run = run.finished()
    assert (run.current, run.done) == ("b", ("a",))
    run = run.pause(paused=True).skip()
    assert run.paused
    assert (run.current, run.done, run.skipped) == ("c", ("a",), ("b",))
    assert run.finished().current is None
