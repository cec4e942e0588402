"""What is longer than memory holds is refused before it is simulated, in one line."""

import math
import os
from dataclasses import replace
from pathlib import Path

import pytest

from oarlock.cli import main
from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.machine.axis_file import format_axis
from oarlock.rehearse import memory
from oarlock.rehearse.beside import rehearse_beside
from oarlock.rehearse.bins import Bins, bytes_of
from oarlock.rehearse.memory import free, refuse_too_large
from oarlock.rehearse.plant import believed_plant
from oarlock.rehearse.run import rehearse
from oarlock.rehearse.scenario import Control, Point, Scenario
from oarlock.rehearse.vary import study
from tests.speed_axis import tuned_winch

LONG = Scenario(name="a day", control=Control.SPEED, duration=86400.0,
                points=(Point(at=0.5, value=60.0, acceleration=400.0),))  # fmt: skip


@pytest.fixture(scope="module")
def winch() -> Axis:
    return tuned_winch()


def test_what_is_kept_is_counted(winch: Axis) -> None:
    """A day in bins of 1 ms: 86.4 million times 13 columns, three numbers of eight bytes each."""
    assert bytes_of(86400.0, winch) == pytest.approx(86.4e6 * 13 * 3 * 8, rel=1e-6)
    short = replace(LONG, duration=0.5)
    assert bytes_of(0.5, winch) == Bins(0.5, winch)._kept.nbytes
    refuse_too_large(short, winch, 100)


def test_it_is_refused_with_what_would_fit(winch: Axis, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(memory, "free", lambda: 4e9)
    for work in (lambda: rehearse(LONG, winch), lambda: study(LONG, winch, 64)):
        with pytest.raises(InputError, match=r"3[.]2 GB are free") as told:
            work()
        assert told.value.place == "a day"
    cores = os.cpu_count() or 1  # eight on each of them at a time
    with pytest.raises(InputError, match=f"{8 * cores} machines at a time"):
        study(LONG, winch, 64 * cores)
    alone = 1.5 * bytes_of(1.0, winch)
    at_most = replace(LONG, duration=math.floor(3.2e9 / alone))
    refuse_too_large(at_most, winch)
    with pytest.raises(InputError, match="2 machines at a time"):
        refuse_too_large(at_most, winch, 2)


def test_lanes_are_counted_whole(winch: Axis, monkeypatch: pytest.MonkeyPatch) -> None:
    """Three machines side by side take the room of all lanes."""
    room = 4.0 * 1.5 * bytes_of(LONG.duration, winch) / 0.8
    monkeypatch.setattr(memory, "free", lambda: room)
    plants = [believed_plant(winch)] * 3
    with pytest.raises(InputError, match="8 machines at a time"):
        rehearse_beside(LONG, winch, plants)
    refuse_too_large(LONG, winch, 3)


def test_the_command_says_it_in_one_line(
    winch: Axis, tmp_path: Path, monkeypatch: pytest.MonkeyPatch,
    capsys: pytest.CaptureFixture[str],
) -> None:  # fmt: skip
    monkeypatch.setattr(memory, "free", lambda: 1e8)
    axis, scenario = tmp_path / "winch.toml", tmp_path / "day.toml"
    axis.write_text(format_axis(winch))
    scenario.write_text('name = "a day"\ncontrol = "speed"\nduration = "900 s"\n'
                        'points = [{ at = "0.5 s", speed = "500 rpm" }]\n')  # fmt: skip
    assert main(["simulate", str(axis), str(scenario), "--vary", "100"]) == 2
    said = capsys.readouterr().err.strip().splitlines()
    assert len(said) == 1
    assert "GB are free for it" in said[0]
    assert "Rehearse at most" in said[0]


def test_a_system_that_does_not_tell_bounds_nothing(tmp_path: Path) -> None:
    assert free() > 1e7
    told = tmp_path / "meminfo"
    told.write_text("MemTotal: 16 kB\nMemAvailable:    2048 kB\n")
    assert free(told) == 2048 * 1024
    told.write_text("MemTotal: 16 kB\n")
    assert free(told) == free(tmp_path / "none") == math.inf
