"""The one file is the project: copied, moved, deleted or killed, nothing kept is missing."""

import shutil
import sqlite3
import subprocess
import sys
import threading
import time
from pathlib import Path

import pytest

from oarlock.demo.project import make_demo
from oarlock.errors import InputError
from oarlock.records import Record
from oarlock.store.cells import packed
from oarlock.store.project import Project
from tests.forks import end, python
from tests.store.test_project import FROZEN, record, run


@pytest.fixture
def project(tmp_path: Path) -> Project:
    return Project.create(tmp_path / "p.oarlock", "River survey")


def killed(project: Project, tmp_path: Path) -> Path:
    """Return the project as a process that was killed in mid-commit leaves it: with its journal."""
    project.save_axis("winch", "as it was kept", "edit")
    project.add_run(run(1), record(20_000))
    kept = project._db
    kept.execute("PRAGMA cache_size = 1")  # pages are written before the commit
    kept.execute("BEGIN")
    kept.execute("UPDATE meta SET value = 'half'")
    kept.executemany("INSERT INTO view VALUES (?, ?)", [(str(n), "x" * 4000) for n in range(500)])
    folder = tmp_path / "killed"
    folder.mkdir()
    for name in ("p.oarlock", "p.oarlock-journal"):
        shutil.copy(tmp_path / name, folder / name)
    assert (folder / "p.oarlock-journal").read_bytes()[:8] == bytes.fromhex("d9d505f920a163d7")
    kept.rollback()
    return folder / "p.oarlock"


def test_a_commit_that_was_cut_off_is_taken_back(project: Project, tmp_path: Path) -> None:
    path = killed(project, tmp_path)
    with pytest.raises(sqlite3.OperationalError, match="readonly"):  # nothing can read it as it is
        sqlite3.connect(f"{path.as_uri()}?mode=ro", uri=True).execute("PRAGMA user_version")
    with Project.look(path) as seen:
        assert (seen.name, seen.axes()) == ("River survey", {"winch": "as it was kept"})
    assert runs_in(path) == [1]


def test_a_journal_that_names_another_file_deletes_nothing(
    project: Project, tmp_path: Path
) -> None:
    path, victim = killed(project, tmp_path), tmp_path / "victim"
    victim.write_text("keep me")
    name = str(victim).encode()
    marked = name + len(name).to_bytes(4, "big") + sum(name).to_bytes(4, "big")
    with path.with_name("p.oarlock-journal").open("ab") as journal:
        journal.write(bytes(4) + marked + bytes.fromhex("d9d505f920a163d7"))
    before = path.read_bytes()
    with pytest.raises(InputError, match="is not this file's alone") as caught:
        Project.open(path)
    assert "Move the journal away" in caught.value.remedy
    assert victim.read_text() == "keep me"
    assert path.read_bytes() == before


def runs_in(path: Path) -> list[int]:
    found = Project.open(path)
    numbers = [r.id for r in found.runs("winch")]
    found.close()
    return numbers


def test_a_copy_made_while_it_is_open_holds_all(project: Project, tmp_path: Path) -> None:
    for number in range(1, 41):
        project.add_run(run(number), record())
    copy = tmp_path / "elsewhere" / "copy.oarlock"
    copy.parent.mkdir()
    shutil.copy(project.path, copy)
    assert runs_in(copy) == list(range(1, 41))
    project.close()


def test_the_file_alone_holds_all_after_a_crash(tmp_path: Path) -> None:
    path = tmp_path / "p.oarlock"
    program = (
        "import os, signal\nfrom pathlib import Path\n"
        "from oarlock.store.project import Project\n"
        "from tests.store.test_project import record, run\n"
        f"p = Project.create(Path({str(path)!r}), 'x')\n"
        "for n in range(1, 41): p.add_run(run(n), record())\n"
        "os.kill(os.getpid(), signal.SIGKILL)\n"
    )
    child = python("-c", program)
    child.wait()
    end(child)
    moved = tmp_path / "moved" / "m.oarlock"
    moved.parent.mkdir()
    path.rename(moved)
    assert runs_in(moved) == list(range(1, 41))


def test_a_file_with_a_write_ahead_log_beside_it_is_read_and_made_one(tmp_path: Path) -> None:
    path = tmp_path / "old.oarlock"
    path.write_bytes(FROZEN.read_bytes())
    db = sqlite3.connect(path)
    db.execute("PRAGMA journal_mode = WAL")
    db.execute("INSERT INTO view VALUES ('winding', '40')")
    db.commit()
    for name in ("old.oarlock", "old.oarlock-wal"):
        shutil.copy(tmp_path / name, tmp_path / name.replace("old", "left"))
    db.close()
    project = Project.open(tmp_path / "left.oarlock")
    assert project.view()["winding"] == 40
    project.close()
    assert not list(tmp_path.glob("left.oarlock-*"))


def test_a_file_deleted_while_open_is_written_anew(project: Project) -> None:
    told: list[str] = []
    project.on_notice = told.append
    project.add_run(run(1), record())
    project.path.unlink()
    project.add_run(run(2), record())
    assert told == ["p.oarlock was deleted while it was open: it was written anew"]
    project.close()
    assert runs_in(project.path) == [1, 2]


def test_another_file_in_its_place_is_not_overwritten(project: Project) -> None:
    project.add_run(run(1), record())
    project.path.unlink()
    project.path.write_text("somebody else's")
    with pytest.raises(InputError, match="another file has taken its place"):
        project.add_run(run(2), record())
    assert project.path.read_text() == "somebody else's"
    project.path.unlink()
    project.add_run(run(2), record())
    project.close()
    assert runs_in(project.path) == [1, 2]


def test_a_folder_that_vanished_is_said_and_nothing_is_lost(tmp_path: Path) -> None:
    folder = tmp_path / "stick"
    folder.mkdir()
    project = Project.create(folder / "p.oarlock", "x")
    project.add_run(run(1), record())
    shutil.rmtree(folder)
    with pytest.raises(InputError, match="cannot"):
        project.add_run(run(2), record())
    folder.mkdir()
    project.add_run(run(2), record())
    project.close()
    assert runs_in(project.path) == [1, 2]


_MAKE = (
    "import sys\nfrom pathlib import Path\nfrom oarlock.demo.project import make_demo\n"
    "print('go', flush=True)\nmake_demo(Path(sys.argv[1]))\nprint('made', flush=True)\n"
)


def test_a_project_whose_making_was_killed_does_not_block(tmp_path: Path) -> None:
    """Killed at many moments: there is no file, or a whole one; and the next start goes on."""
    for number in range(8):
        folder = tmp_path / str(number)
        child = python("-c", _MAKE, str(folder))
        assert child.stdout is not None
        child.stdout.readline()
        time.sleep(0.006 * number)
        end(child)
        project = Project.open(make_demo(folder))
        assert list(project.axes()) == ["Sonar winch", "Thruster"]
        project.close()
        assert not list(folder.glob(".*.new*"))


def test_a_failed_making_leaves_no_file(tmp_path: Path) -> None:
    path = tmp_path / "p.oarlock"

    def fill(project: Project) -> None:
        project.save_axis("winch", "a = 1", "first")
        raise InputError("the disk is full", place="x")

    with pytest.raises(InputError, match="disk is full") as caught:
        Project.make(path, "x", fill)
    assert caught.value.place == str(path)
    assert list(tmp_path.iterdir()) == []


def test_of_two_windows_that_open_at_once_one_gets_it(project: Project) -> None:
    project.close()
    for _ in range(10):
        opened: list[Project] = []
        refused: list[str] = []
        barrier = threading.Barrier(2)

        def race(opened: list[Project], refused: list[str], barrier: threading.Barrier) -> None:
            barrier.wait()
            try:
                opened.append(Project.open(project.path))
            except InputError as error:
                refused.append(str(error))

        threads = [threading.Thread(target=race, args=(opened, refused, barrier)) for _ in "ab"]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        assert len(opened) == 1
        assert "open in another window" in refused[0]
        opened[0].close()


def test_dates_in_a_records_head_are_kept_as_text(project: Project) -> None:
    import datetime

    project.add_run(run(1, settings={"when": datetime.date(2026, 11, 26)}), record())
    (found,) = project.runs("winch")
    assert found.settings == {"when": "2026-11-26"}
    project.close()


def test_compressing_holds_nobody_up(project: Project, monkeypatch: pytest.MonkeyPatch) -> None:
    """While a record is packed, the file answers others."""
    begun, go_on = threading.Event(), threading.Event()

    def slowly(made: Record) -> list[tuple[int, str, str, str, bytes]]:
        begun.set()
        assert go_on.wait(30.0)
        return packed(made)

    monkeypatch.setattr("oarlock.store.project.packed", slowly)
    packing = threading.Thread(target=project.add_run, args=(run(1), record()))
    packing.start()
    assert begun.wait(30.0)
    asking = threading.Thread(target=project.axes)
    asking.start()
    asking.join(5.0)
    is_held_up = asking.is_alive()
    go_on.set()
    for thread in (packing, asking):
        thread.join()
    assert not is_held_up
    assert project.record(1) is not None
    project.close()


def test_a_copy_is_whole_and_overwrites_nothing(tmp_path: Path) -> None:
    project = Project.create(tmp_path / "p.oarlock", "x")
    project.add_run(run(1), record())
    copy = tmp_path / "copy.oarlock"
    gone = subprocess.run([sys.executable, "-c", "import os; print(os.getpid())"],
                          capture_output=True, text=True, check=True).stdout.strip()  # fmt: skip
    left = tmp_path / f".copy.oarlock.{gone}.new"  # of one whose writing was killed
    left.write_bytes(b"half of it")
    project.copy_to(copy)
    assert runs_in(copy) == [1]
    assert not left.exists()
    project.add_run(run(2), record())
    with pytest.raises(InputError, match="exists"):
        project.copy_to(copy)
    assert runs_in(copy) == [1]
    with pytest.raises(InputError) as caught:
        project.copy_to(tmp_path / "nowhere" / "copy.oarlock")
    assert caught.value.remedy
    project.close()
    assert sorted(p.name for p in tmp_path.iterdir()) == ["copy.oarlock", "p.oarlock"]
