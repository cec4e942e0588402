"""Recent projects, new ones, their axes, and the shelf of machines."""

import json
from pathlib import Path

import pytest

from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.machine.axis_file import format_axis, parse_axis
from oarlock.records import Run
from oarlock.session.new_project import checked_name, file_name, make_project, project_beside
from oarlock.session.recent import RecentAxis, forget, place, recent, remember
from oarlock.session.session import Session
from oarlock.session.shelf import fits, folder, put, shelf
from oarlock.store.project import Project


def opened(path: Path) -> Session:
    return Session(Project.open(path), lambda call: call())


def test_the_newest_comes_first_and_an_axis_keeps_its_sentence(tmp_path: Path) -> None:
    assert recent() == ()
    remember(tmp_path / "a.oarlock", "A", [RecentAxis("Winch", "849 Hz"), RecentAxis("Bow", "")])
    remember(tmp_path / "b.oarlock", "B", [])
    remember(tmp_path / "a.oarlock", "A", [RecentAxis("Winch", ""), RecentAxis("Bow", "begun")])
    first, second = recent()
    assert (first.name, second.name) == ("A", "B")
    assert first.axes == (RecentAxis("Winch", "849 Hz"), RecentAxis("Bow", "begun"))
    forget(tmp_path / "a.oarlock")
    assert [entry.name for entry in recent()] == ["B"]


@pytest.mark.parametrize(
    "text", ["", "no json", "{}", "[1, null, {}]", '[{"path": 3}]', "[" * 9000]
)
def test_a_list_without_sense_is_empty(text: str, tmp_path: Path) -> None:
    place().parent.mkdir(parents=True)
    place().write_text(text)
    assert recent() == ()
    remember(tmp_path / "a.oarlock", "A", [])
    assert len(recent()) == 1


def test_a_list_that_cannot_be_written_is_no_fault(tmp_path: Path) -> None:
    place().parent.parent.mkdir(parents=True, exist_ok=True)
    place().parent.write_text("a file where the folder should be")
    remember(tmp_path / "a.oarlock", "A", [])
    assert recent() == ()


def test_a_new_project_holds_one_axis_of_which_nothing_is_known(tmp_path: Path) -> None:
    path = make_project(tmp_path / "deep" / "own.oarlock", "My boat")
    session = opened(path)
    assert (session.name, session.axis_names) == ("My boat", ("Motor 1",))
    assert not session.axis.machine.R.is_known
    assert session.close()
    with pytest.raises(InputError, match="this file exists"):
        make_project(path, "Again")


@pytest.mark.parametrize("name", ["", "   ", "a/b", "x" * 61, "a\nb"])
def test_names_that_are_none(name: str) -> None:
    with pytest.raises(InputError, match="is no name"):
        checked_name(name)


def test_file_names_are_plain() -> None:
    assert file_name("River survey (2)") == "river-survey-2.oarlock"
    assert file_name("…") == "project.oarlock"


def test_an_axis_file_becomes_a_project_beside_it(tmp_path: Path, axis: Axis) -> None:
    file = tmp_path / "winch.axis.toml"
    file.write_text(format_axis(axis))
    path = project_beside(file)
    assert path == tmp_path / "winch.oarlock"
    assert project_beside(file) == path
    session = opened(path)
    assert session.axis.name == axis.name
    session.close()


# Axes


def test_an_axis_is_added_renamed_removed_and_brought_back(demo_path: Path, axis: Axis) -> None:
    session = opened(demo_path)
    made = session.axes.add(axis, "Bow anchor", "copy")
    assert session.axis_names == ("Sonar winch", "Thruster", "Bow anchor")
    session.switch(made)
    session.show(identify="flux")
    session.rename("Stern anchor")
    assert session.axis.name == "Stern anchor"
    assert session.screen.identify == "flux"
    assert session.axis_names == ("Sonar winch", "Thruster", "Stern anchor")
    session.switch("Thruster")
    session.axes.remove("Stern anchor")
    assert len(session.axis_names) == 2
    session.close()
    again = opened(demo_path)
    assert again.axis_names == ("Sonar winch", "Thruster")
    assert again.axes.removed == ("Stern anchor",)
    again.axes.bring_back("Stern anchor")
    again.switch("Stern anchor")
    assert again.axis.machine == axis.machine
    again.close()


def test_axes_are_put_in_order_and_keep_it(demo_path: Path, axis: Axis) -> None:
    session = opened(demo_path)
    session.axes.add(axis, "Bow anchor", "copy")
    session.axes.move("Bow anchor", -1)
    assert list(session.axis_names) == ["Sonar winch", "Bow anchor", "Thruster"]
    session.axes.move("Sonar winch", 7)  # no further than the end
    assert list(session.axis_names) == ["Bow anchor", "Thruster", "Sonar winch"]
    session.switch("Bow anchor")
    session.rename("Stern anchor")
    session.axes.remove("Thruster")
    session.close()
    again = opened(demo_path)
    assert list(again.axis_names) == ["Stern anchor", "Sonar winch"]
    again.axes.bring_back("Thruster")
    assert list(again.axis_names) == ["Stern anchor", "Thruster", "Sonar winch"]
    again.axes.add(axis, "New one", "copy")
    assert again.axis_names[-1] == "New one"
    again._project.set_view("axis_order", ["Sonar winch", 7, "who?"])
    again.close()
    odd = opened(demo_path)
    assert odd.axis_names[0] == "Sonar winch"
    assert len(odd.axis_names) == 4
    odd.close()


def test_the_same_name_twice_is_refused(demo_path: Path, axis: Axis) -> None:
    session = opened(demo_path)
    for name in ("Thruster", "sonar WINCH"):
        with pytest.raises(InputError, match="already"):
            session.axes.add(axis, name, "copy")
    with pytest.raises(InputError, match="already"):
        session.rename("Thruster")
    assert session.axis.name == "Sonar winch"
    session.close()


def test_runs_follow_a_renamed_axis(demo_path: Path) -> None:
    session = opened(demo_path)
    run = Run(id=9, axis="Sonar winch", kind="current step", title="t", ended="done",
              started="2026-11-27T10:00:00+00:00", settings={})  # fmt: skip
    session._project.add_run(run, None)
    session.rename("Winch aft")
    assert [one.id for one in session.runs] == [9]
    session.close()


def test_the_last_axis_stays(tmp_path: Path) -> None:
    session = opened(make_project(tmp_path / "own.oarlock", "Own"))
    with pytest.raises(InputError, match="one axis at least"):
        session.axes.remove("Motor 1")
    session.close()


def test_a_copy_is_whole_and_replaces_nothing(demo_path: Path, tmp_path: Path) -> None:
    session = opened(demo_path)
    session.enter("machine.R", "1.7 ohm l-l")
    session.save_copy(tmp_path / "copy.oarlock")
    with pytest.raises(InputError, match="this file exists"):
        session.save_copy(tmp_path / "copy.oarlock")
    with pytest.raises(InputError):
        session.save_copy(tmp_path / "no" / "such" / "folder.oarlock")
    session.close()
    again = opened(tmp_path / "copy.oarlock")
    assert again.axis.machine.R.value == pytest.approx(0.85)
    assert again.axis_names == ("Sonar winch", "Thruster")
    again.close()
    assert [p.name for p in tmp_path.glob(".*")] == []


# The shelf


def test_the_shelf_is_found_by_rating_and_name(axis: Axis) -> None:
    assert [one.name for one in shelf()] == ["Thruster", "Sonar winch"]
    assert all(not one.own for one in shelf())
    path = put(axis)
    assert path == folder() / "sonar-winch.axis.toml"
    assert put(axis) == path  # the same once more
    own = next(one for one in shelf() if one.own)
    for query in ("320 V 7 A", "winch", "320V", "10 A peak", "4000 rpm sonar", ""):
        assert fits(own, query), query
    for query in ("48 V", "320 V 12 A", "rudder", "4000 rpm thruster"):
        assert not fits(own, query), query
    taken = parse_axis(own.text, place="shelf")
    assert taken.machine.R.value == pytest.approx(0.82)
    assert not taken.sensor.is_found


def test_another_machine_of_that_name_does_not_replace_it(axis: Axis) -> None:
    put(axis)
    other = parse_axis(format_axis(axis).replace("1.64 ohm", "1.8 ohm"), place="x")
    assert put(other).name == "sonar-winch-2.axis.toml"
    assert len([one for one in shelf() if one.own]) == 2


def test_a_shelf_file_with_nonsense_says_so() -> None:
    folder().mkdir(parents=True)
    (folder() / "odd.toml").write_text('oarlock = 2\nname = "x"\n[machine]\nresistance = "blue"\n')
    (folder() / "binary.toml").write_bytes(b"\0\1\2")
    odd = [one for one in shelf() if one.own]
    assert len(odd) == 2
    assert all(one.trouble and not one.text for one in odd)
    assert "resistance" in next(one for one in odd if one.name == "odd").rating


def test_the_list_is_plain_json(tmp_path: Path) -> None:
    remember(tmp_path / "a.oarlock", "A", [RecentAxis("W", "s")])
    raw = json.loads(place().read_text())
    assert raw[0]["path"] == str(tmp_path / "a.oarlock")
