"""The whole job without a window, against the practice drive's hidden truth."""

from pathlib import Path

import pytest

from oarlock.demo.job import connected_again, run_job
from oarlock.demo.project import make_demo
from oarlock.drive.link import Link
from oarlock.errors import LinkError, LinkLost, LinkTimeout
from oarlock.machine.axis_file import parse_axis
from oarlock.practice.truth import draw
from oarlock.records.csv_file import read_record
from oarlock.records.quantity import KEYS
from oarlock.store.project import Project
from oarlock.ui.frame.screenshots import take_screenshots
from tests.model_link import ModelLink


@pytest.mark.timeout(300)
def test_from_datasheet_to_proven_header(tmp_path: Path) -> None:
    """The thruster's job; the window's tests and the demo itself do the winch's."""
    said: list[str] = []
    assert run_job(tmp_path / "out", said.append, seed=2, only=("thruster",)) == 0
    text = "\n".join(said)
    for words in ("datasheet", "gains", "predicted", "measured", "bit-exact", "all checks hold"):
        assert words in text
    project = Project.open(tmp_path / "out" / "river-survey.oarlock")
    axis = parse_axis(project.axes()["Thruster"], place="")
    real = draw("thruster", 2)
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
    assert project.runs("Sonar winch") == []
    project.close()
    header = (tmp_path / "out" / "thruster_gains.h").read_text(encoding="utf-8")
    assert "HALL_START_5  0.5235988f" not in header
    records = sorted((tmp_path / "out").glob("*.csv"))
    assert len(records) == 16
    assert read_record(records[0]).experiment == "currents at rest"
    assert (tmp_path / "out" / "thruster_gains_new.h").exists()
    assert (tmp_path / "out" / "thruster_gains.h.bak1").exists()
    pictures = take_screenshots(tmp_path / "out" / "river-survey.oarlock", tmp_path)
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
    assert waited == [0.3, 0.3]
    answers = [LinkLost("held")] * 5
    with pytest.raises(LinkLost):
        connected_again(connect)
    assert len(answers) == 1
