"""Where a shaft stands is remembered as the work on its drive ends, however that ends."""

import queue
from collections.abc import Callable

import pytest

from oarlock.drive.link import Link
from oarlock.drive.travel import Span
from oarlock.machine import Parameter
from oarlock.practice.truth import draw
from oarlock.quantities import Estimate, Origin
from oarlock.session.bench import Bench
from oarlock.session.jobs import Jobs
from oarlock.session.session import Session
from tests.model_link import ModelLink

TURNS = Estimate(value=12.0, std=0.0, unit="1", origin=Origin.MEASURED)


@pytest.mark.parametrize(
    ("limited", "lost", "kept"),
    [(True, False, (1.0, 3.0)), (True, True, (0.0, 0.0)), (False, False, (0.0, 0.0))],
)
def test_it_is_kept_of_an_axis_with_a_limit_whose_drive_is_there(
    session: Session, limited: bool, lost: bool, kept: tuple[float, float]
) -> None:
    if limited:
        most = Parameter(printed=TURNS, adopted=TURNS)
        session.edit("limit", session.axis.with_parameter("mechanics.max_turns", most))
    calls: queue.Queue[Callable[[], None]] = queue.Queue()
    bench, ends = Bench(session, Jobs(calls.put), calls.put), list[object]()
    bench._link = ModelLink(draw("winch", 0))

    def turns(link: Link, *_: object) -> None:
        link.ledger.set(session.axis, Span(1.0, 3.0))

    assert bench.begin(turns, ends.append)
    if lost:
        bench._link = None
    while not ends:
        calls.get(timeout=10.0)()
    assert session.screen.standing == kept
    bench.close()
