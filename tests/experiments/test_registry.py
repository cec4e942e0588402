"""What kinds of runs there are, and what each of them is for."""

from oarlock.experiments.registry import gives_nothing, loops_of, tells_early
from oarlock.experiments.sensing.push import FourPushes
from oarlock.experiments.sensing.spin import ForcedSpin


def test_a_proof_gives_nothing_a_measurement_gives_something() -> None:
    assert gives_nothing(ForcedSpin.name)
    assert gives_nothing(FourPushes.name)
    assert not gives_nothing("resistance")
    assert not gives_nothing("a kind that nobody knows")


def test_what_nobody_knows_runs_with_no_loop_and_tells_nothing_early() -> None:
    assert loops_of("a kind that nobody knows") == ()
    assert not tells_early("a kind that nobody knows")
    assert "speed" in loops_of("speed step")
