"""What a drive's emergency frames come to in the window: told once, or by the end of a run."""

from dataclasses import replace

import pytest

from oarlock.drive.link import Live
from oarlock.practice.truth import draw
from oarlock.session.bench import Bench
from oarlock.session.jobs import Jobs
from oarlock.session.session import Session
from tests.model_link import ModelLink

HOT = Live(state="de-energised", emergency=0x4210)


@pytest.mark.parametrize("busy", [False, True])
def test_it_is_told_once_and_not_beside_a_run(
    session: Session, busy: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    bench, lines = Bench(session, Jobs(lambda call: call()), lambda call: call()), list[str]()
    bench.told.connect(lines.append)
    bench._link = ModelLink(draw("winch", 0))
    monkeypatch.setattr(Bench, "busy", busy)
    for live in (HOT, HOT, replace(HOT, emergency=0), HOT):
        bench._latest = live
        bench.watch()
    said = "model drive: emergency 0x4210 (temperature of the device)"
    assert lines == ([] if busy else [said, said])
