"""The whole job without a window, against the practice drive's hidden truth."""

import os
import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest

from oarlock.demo.job import _Job, connected_again
from oarlock.demo.project import demo_text, make_demo
from oarlock.drive.link import Link
from oarlock.errors import LinkError, LinkLost, LinkTimeout
from oarlock.machine.axis_file import parse_axis
from oarlock.practice.truth import draw
from oarlock.records import Finding, Run
from oarlock.records.csv_file import read_record
from oarlock.records.quantity import KEYS
from oarlock.session.session import Session
from oarlock.simulate.layout import TRIP_HEARTBEAT
from oarlock.store.project import Project
from oarlock.ui.frame.screenshots import take_screenshots
from oarlock.views.sensing import experiment_of
from oarlock.views.sensing_experiments import REST
from tests.model_link import ModelLink

DEMO = "OARLOCK_DEMO_OUT"  # a folder in which `oarlock demo --headless` has been, with what it said


@pytest.fixture
def out(tmp_path: Path) -> Path:
    """A copy of the folder of a demo that was done."""
    done = Path(os.environ.get(DEMO, ""))
    if not (done / "said.txt").exists():
        pytest.skip(f"{DEMO} names no folder of `oarlock demo --headless`; .ci/run does it")
    return Path(shutil.copytree(done, tmp_path / "out"))


def test_from_datasheet_to_proven_header(out: Path, tmp_path: Path) -> None:
    """The thruster's job; the window's tests do the winch's."""
    text = (out / "said.txt").read_text()
    for words in ("datasheet", "gains", "predicted", "measured", "bit-exact", "all checks hold"):
        assert words in text
    project = Project.open(out / "river-survey.oarlock")
    axis = parse_axis(project.axes()["Thruster"], place="")
    real = draw("thruster", 0)
    assert axis.machine.R.value == pytest.approx(real.R, rel=0.015)
    assert axis.machine.Lq.value == pytest.approx(real.Lq, rel=0.01)
    assert axis.machine.psi.value == pytest.approx(real.psi, rel=0.01)
    assert axis.machine.inertia is not None
    assert axis.machine.inertia.value == pytest.approx(real.inertia, rel=0.02)
    assert axis.mechanics.load_square.value == pytest.approx(real.load_square, rel=0.05)
    assert axis.mechanics.resonance.value == 0.0  # its shaft is rigid
    assert axis.sensor.is_found
    runs = [run.kind for run in project.runs("Thruster") if run.ended == "done"]
    assert "bounded search" not in runs  # halls are too coarse for it
    assert runs[-9:] == [*KEYS, "current step", "speed step", "load step"]
    assert project.runs("Sonar winch")
    project.close()
    header = (out / "thruster_gains.h").read_text(encoding="utf-8")
    assert "HALL_START_5  0.5235988f" not in header
    records = sorted(out.glob("*-thruster-*.csv"))
    assert len(records) == 16
    assert read_record(records[0]).experiment == "currents at rest"
    assert (out / "thruster_gains_new.h").exists()
    assert (out / "thruster_gains.h.bak1").exists()
    pictures = take_screenshots(out / "river-survey.oarlock", tmp_path)
    assert [p.name for p in pictures] == [
        "machine.png", "sensing.png", "identify.png", "current.png", "speed.png", "position.png",
        "rehearse.png", "handover.png", "sensing-thruster.png",
    ]  # fmt: skip
    assert all(p.stat().st_size > 20_000 for p in pictures)


def test_the_demo_is_made_once_and_kept(tmp_path: Path) -> None:
    path = make_demo(tmp_path / "demo")
    project = Project.open(path)
    project.save_axis("Sonar winch", project.axes()["Sonar winch"] + "\n# mine\n", "edit")
    project.close()
    assert make_demo(tmp_path / "demo") == path
    project = Project.open(path)
    assert "# mine" in project.axes()["Sonar winch"]
    project.close()


class Faltering(ModelLink):
    """Its drive stops hearing a heartbeat, `times` times."""

    times = 0

    def start(self) -> None:
        super().start()
        if self.times:
            self.times -= 1
            self.model.stop(TRIP_HEARTBEAT)


@pytest.fixture
def session(tmp_path: Path) -> Iterator[Session]:
    made = Session(Project.open(make_demo(tmp_path)), lambda call: call())
    yield made
    made.close()


def a_job(session: Session, times: int, said: list[str]) -> _Job:
    link = Faltering(draw("winch", 0))
    link.times = times
    return _Job(session, lambda: link, session.path.parent, said.append, "winch")


def test_what_ended_by_a_lost_heartbeat_is_played_again(
    session: Session, monkeypatch: pytest.MonkeyPatch
) -> None:
    waited: list[float] = []
    monkeypatch.setattr("oarlock.demo.job.time.sleep", waited.append)
    said: list[str] = []
    run, reading = a_job(session, 2, said)._play(experiment_of(REST, session.now), "rest")
    assert run.ended == "done"
    assert isinstance(reading, Finding)
    assert reading.holds
    assert len(said) == len(session.runs) - 1 == 2
    assert waited.count(1.0) == 2
    said.clear()
    run, _ = a_job(session, 9, said)._play(experiment_of(REST, session.now), "rest")
    assert run.ended == "tripped: heartbeat lost"
    assert len(said) == 4


def test_no_loop_is_tuned_where_a_measurement_failed(
    session: Session, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A resonance that nobody measured would be excited by gains for a rigid shaft."""
    said: list[str] = []
    job = a_job(session, 0, said)
    lost = Run(id=1, axis="Sonar winch", kind="", title="", started="", settings={},
               ended="tripped: heartbeat lost")  # fmt: skip
    monkeypatch.setattr(job, "_sense", lambda: None)
    monkeypatch.setattr(job, "_play", lambda _experiment, _name: (lost, None))
    failures = job.run()
    assert "resonance: tripped: heartbeat lost" in failures
    assert said[-1] == "identification does not hold: no loop is tuned"
    assert session.axis.gains == parse_axis(demo_text("winch.axis.toml"), place="").gains


def test_a_drive_that_is_still_held_is_asked_again(monkeypatch: pytest.MonkeyPatch) -> None:
    waited: list[float] = []
    monkeypatch.setattr("oarlock.demo.job.time.sleep", waited.append)
    link = ModelLink(draw("winch", 0))
    answers: list[Link | LinkError] = [LinkLost("held"), LinkTimeout("busy"), link]

    def connect() -> Link:
        answer = answers.pop(0)
        if isinstance(answer, LinkError):
            raise answer
        return answer

    assert connected_again(connect) is link
    assert waited == [1.0, 1.0]
    answers = [LinkLost("held")] * 5
    with pytest.raises(LinkLost):
        connected_again(connect)
    assert len(answers) == 1
