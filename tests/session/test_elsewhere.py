"""Axes of other projects: looked at, never touched."""

from pathlib import Path

import pytest

from oarlock.machine import Axis
from oarlock.session.axes import Axes
from oarlock.session.elsewhere import elsewhere
from oarlock.session.new_project import make_project
from oarlock.session.recent import remember
from oarlock.store.project import Project


@pytest.fixture
def other(tmp_path: Path, axis: Axis) -> Path:
    """Another project with two axes and a removed one; the newest of the recent ones."""
    path = make_project(tmp_path / "bow.oarlock", "Bow anchor")
    project = Project.open(path)
    axes = Axes(project)
    axes.add(axis, "Windlass", "Added")
    axes.add(axis, "Old one", "Added")
    axes.remove("Old one")
    project.close()
    remember(path, "Bow anchor", ())
    return path


def test_the_axes_of_other_projects_are_found(other: Path, tmp_path: Path, axis: Axis) -> None:
    before = other.read_bytes()
    found = elsewhere(tmp_path / "mine.oarlock")
    assert [(one.project, one.axis.name) for one in found] == [
        ("Bow anchor", "Motor 1"), ("Bow anchor", "Windlass"),
    ]  # fmt: skip
    assert found[1].axis.machine == axis.machine
    assert other.read_bytes() == before
    assert {path.name for path in tmp_path.glob("*oarlock*")} == {other.name}
    assert elsewhere(other) == ()  # one's own project is not another


def test_one_that_is_open_in_a_window_is_left_alone(other: Path, tmp_path: Path) -> None:
    project = Project.open(other)
    project.set_view("key", 1)  # there is a journal now
    beside = {path.name: path.read_bytes() for path in tmp_path.glob("*oarlock*")}
    assert len(beside) > 1
    assert elsewhere(tmp_path / "mine.oarlock") == ()
    assert {path.name: path.read_bytes() for path in tmp_path.glob("*oarlock*")} == beside
    project.set_view("key", 2)
    project.close()
    assert len(elsewhere(tmp_path / "mine.oarlock")) == 2


@pytest.mark.parametrize("content", [b"", b"not a project", b"SQLite format 3\x00" + bytes(200)])
def test_what_is_no_project_any_more_is_left_out(
    content: bytes, other: Path, tmp_path: Path
) -> None:
    spoilt = tmp_path / "spoilt.oarlock"
    spoilt.write_bytes(content)
    remember(spoilt, "Spoilt", ())
    remember(tmp_path / "gone.oarlock", "Gone", ())
    assert {one.project for one in elsewhere(tmp_path / "mine.oarlock")} == {"Bow anchor"}
    assert spoilt.read_bytes() == content


def test_a_text_that_is_no_axis_leaves_its_project_out(other: Path, tmp_path: Path) -> None:
    project = Project.open(other)
    project.save_axis("Windlass", "name = 3", "Spoilt")
    project.close()
    assert elsewhere(tmp_path / "mine.oarlock") == ()
