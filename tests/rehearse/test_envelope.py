"""How far the courses of many machines reach, who falls out, and how gently all of them follow."""

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from oarlock.cli import main
from oarlock.machine import Axis
from oarlock.machine.axis_file import format_axis
from oarlock.machine.parameter import Parameter
from oarlock.quantities import Estimate, Origin
from oarlock.rehearse.envelope import CHANNELS, Gathering, gentler, out_of, remedy
from oarlock.rehearse.figures import behind
from oarlock.rehearse.plant import believed_plant
from oarlock.rehearse.run import rehearse
from oarlock.rehearse.scenario import Control, Point, Scenario
from oarlock.rehearse.vary import plants_of, study
from oarlock.simulate.plant_parameters import PlantParameters
from oarlock.views.rehearsal import varied
from oarlock.views.rehearsal_drawn import many_courses
from tests.speed_axis import tuned_winch

UP = Scenario(name="s", control=Control.SPEED, duration=0.6,
              points=(Point(at=0.05, value=60.0, acceleration=300.0),
                      Point(at=0.35, value=20.0, acceleration=300.0)))  # fmt: skip


@pytest.fixture(scope="module")
def winch() -> Axis:
    return tuned_winch()


def heavy(axis: Axis, times: float) -> PlantParameters:
    plant = believed_plant(axis)
    return replace(plant, inertia=times * plant.inertia, load_inertia=times * plant.load_inertia)


def test_the_envelope_is_least_and_most_of_the_courses(winch: Axis) -> None:
    runs = [rehearse(UP, winch, plant=heavy(winch, f)) for f in (1.0, 0.9, 1.1, 1.05)]
    gathering = Gathering()
    for number in (2, 0, 3, 1):  # as they come
        gathering.take(number, runs[number])
    found = gathering.spread(UP, winch)
    assert not found.out
    assert not found.fallen
    for name in CHANNELS:
        every = np.stack([run.mean[name] for run in runs])
        assert found.least[name] == pytest.approx(every.min(axis=0), abs=1e-4)
        assert found.most[name] == pytest.approx(every.max(axis=0), abs=1e-4)


def test_a_long_course_is_kept_coarser(winch: Axis, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("oarlock.rehearse.envelope._MOST_BINS", 250)
    run = rehearse(UP, winch)
    gathering = Gathering()
    gathering.take(0, run)
    found = gathering.spread(UP, winch)
    assert run.t.size == 600
    assert found.t.size == 200
    every = run.mean["speed"].reshape(200, 3).mean(axis=1)
    assert found.most["speed"] == pytest.approx(every, rel=1e-12)
    assert found.t == pytest.approx(run.t[1::3], abs=1e-9)


def test_a_machine_that_trips_or_falls_behind_falls_out(winch: Axis) -> None:
    believed, slow = rehearse(UP, winch), rehearse(UP, winch, plant=heavy(winch, 16.0))
    assert slow.ended == "done"
    assert behind(slow) > 3.0 * behind(believed)
    jammed = rehearse(UP, winch, plant=replace(believed_plant(winch), load=60.0))
    gathering = Gathering()
    for number, run in enumerate((believed, slow, jammed, believed)):
        gathering.take(number, run)
    found = gathering.spread(UP, winch)
    assert found.out == (1, 2)
    assert [one.t.size for one in found.fallen] == [slow.t.size, jammed.t.size]
    assert found.fallen[0].course["speed"] == pytest.approx(slow.mean["speed"], abs=1e-3)
    assert found.most["speed"] == pytest.approx(believed.mean["speed"], abs=1e-3)
    courses = many_courses(found, Control.SPEED)
    assert set(courses) == {"asked", "behind", "current", "volts"}
    low, high = courses["behind"][0][0]
    assert np.all(low <= high)
    off = (believed.mean["speed_ref"] - believed.mean["speed"]) * 60.0 / (2.0 * np.pi)
    assert low == pytest.approx(off, abs=0.01)
    assert len(courses["asked"][1]) == 2
    faster = {**found.most, "speed": found.most["speed"] + 0.1}  # of those that follow, another
    low, high = many_courses(replace(found, most=faster), Control.SPEED)["behind"][0][0]
    assert high - low == pytest.approx(0.1 * 60.0 / (2.0 * np.pi) * np.ones_like(low))


def test_the_remedy_is_the_largest_share_with_which_all_follow(winch: Axis) -> None:
    steep = replace(UP, points=tuple(replace(p, acceleration=2000.0) for p in UP.points))
    plants = [replace(believed_plant(winch), load=12.0)]  # it has not the torque for more
    share = remedy(steep, winch, plants)
    assert share is not None
    softer = gentler(steep, share)
    assert [p.acceleration for p in softer.points] == pytest.approx([2000.0 * share] * 2)

    def out(scenario: Scenario) -> tuple[int, ...]:
        gathering = Gathering()
        gathering.take(0, rehearse(scenario, winch))
        gathering.take(1, rehearse(scenario, winch, plant=plants[0]))
        return gathering.spread(scenario, winch).out

    assert out(softer) == ()
    tried = [s for s in (1.0, 0.8, 0.6, 0.45, 0.3) if s > share]
    assert all(out(gentler(steep, s)) == (1,) for s in tried)


def test_what_cannot_be_gentler_has_no_remedy(winch: Axis) -> None:
    plants = [heavy(winch, 30.0)]
    assert remedy(replace(UP, is_tabled=True), winch, plants) is None
    at_once = replace(UP, points=(Point(at=0.05, value=60.0),))
    assert remedy(at_once, winch, plants) is None
    assert remedy(UP, winch, [replace(believed_plant(winch), load=60.0)]) is None


def test_each_run_of_a_study_is_seen_once_with_its_number(winch: Axis) -> None:
    seen = {}
    made = study(UP, winch, 6, seed=1, seen=lambda number, run: seen.update({number: run}))
    assert sorted(seen) == list(range(6))
    for number, plant in enumerate(plants_of(winch, made.factors)):
        assert seen[number].plant.inertia == pytest.approx(plant.inertia)


def test_the_answer_names_who_falls_out_and_what_helps(winch: Axis) -> None:
    J = winch.machine.inertia
    assert J is not None
    vague = Parameter(printed=J.printed, adopted=Estimate(value=J.value, std=0.3 * J.value,
                      unit=J.best.unit, origin=Origin.MEASURED))  # fmt: skip
    steep = replace(UP, points=tuple(replace(p, acceleration=3000.0) for p in UP.points))
    unsure = winch.with_parameter("machine.inertia", vague)
    told = varied(steep, unsure, 16)
    assert out_of(study(steep, unsure, 16), steep, unsure) == told.spread.out
    assert told.spread.out
    assert 0 not in told.spread.out
    many = len(told.spread.out)  # their shaft swings
    assert told.sentence == f"{many} of 16 machines fall behind"
    if told.gentler is not None:
        assert told.helps == f"With {told.gentler:g} of the acceleration all of them follow."
    else:  # it is no matter of torque
        assert told.holding is not None
        assert told.holding.gains is not None
        assert told.helps == "Smaller gains of the speed loop would hold: see Uncertainty."
    calm = varied(UP, winch, 4)
    assert calm.sentence == "All 4 machines come to the end"
    assert calm.gentler is None
    assert calm.helps == ""
    assert calm.picture.figures.ended == "done"


def test_the_command_says_who_falls_out_and_what_helps(
    winch: Axis, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    """A load near the torque that it has: machines of less flux or more inertia do not follow."""
    psi = winch.machine.psi
    vague = Parameter(printed=psi.printed, adopted=Estimate(value=psi.value, std=0.12 * psi.value,
                      unit="Wb", origin=Origin.MEASURED))  # fmt: skip
    axis, scenario = tmp_path / "w.axis.toml", tmp_path / "s.scenario.toml"
    axis.write_text(format_axis(winch.with_parameter("machine.psi", vague)))
    scenario.write_text(
        'name = "lift"\ncontrol = "speed"\nduration = 0.8\n'
        '[[points]]\nat = 0.2\nspeed = "600 rpm"\nacceleration = "1500 rad/s2"\n'
        "[[loads]]\nat = 0.02\ntorque = 6.0\n"
    )
    command = ["simulate", str(axis), str(scenario), "--vary", "24"]
    assert main([*command, "--json"]) in (0, 1)
    told = json.loads(capsys.readouterr().out)["variants"]
    out = told["fall_out"]
    assert len(out) == 1
    assert out[0]["factors"]["flux"] < 0.8
    assert main(command) in (0, 1)
    said = capsys.readouterr().out
    assert "1 falls out: it ends early, or falls far behind" in said
    flux = 100.0 * (out[0]["factors"]["flux"] - 1.0)
    assert f"flux {flux:+.2g} %".replace("-", "−") in said
    share = told["acceleration_that_helps"]
    assert share is not None
    assert f"with {share:g} of the acceleration all of them follow" in said
