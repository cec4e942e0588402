"""What many tests share: the winch's axis, drives of known truth, projects, the window."""

import gc
import math
import os

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import threading
import time
from collections.abc import Callable, Generator, Iterator
from dataclasses import replace
from pathlib import Path

import pytest
from benchmarks.machines import printed_axis, sensed, the_axis
from hypothesis import settings
from pytestqt.qtbot import QtBot

from oarlock.control.compiled import warm
from oarlock.drive.canopen_link import CanopenLink
from oarlock.drive.practice_process import PracticeProcess
from oarlock.drive.runner import play
from oarlock.errors import LinkLost
from oarlock.experiments.common.experiment import Experiment
from oarlock.machine import Axis
from oarlock.practice.truth import draw
from oarlock.records import Finding, Record, Run
from oarlock.session.session import Session
from oarlock.simulate.plant_parameters import PlantParameters
from oarlock.store.project import Project
from tests.demos import demo_with
from tests.forks import Drives
from tests.model_link import Hasty, ModelLink

# Tests that are not about the heartbeat bear a machine that stands still for a while.
LOST = "tripped: heartbeat lost"
CALM = ("--watchdog", "0.5")
PATIENCE = 3.0  # a machine with other work is so much slower, now and then

# A person's run may find something new; continuous integration repeats what it did.
settings.register_profile("person", deadline=None)
settings.register_profile("ci", deadline=None, derandomize=True, database=None)
settings.load_profile("ci" if os.environ.get("CI") else "person")


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Begin with what takes long: of several workers none is left alone with it in the end."""
    items.sort(key=lambda item: "long" not in item.keywords)


@pytest.hookimpl(wrapper=True)
def pytest_collection() -> Generator[None]:
    """Do not look for garbage among what loads and stays, as the program does not."""
    gc.disable()
    try:
        return (yield)
    finally:
        gc.freeze()
        gc.enable()


@pytest.hookimpl(wrapper=True)
def pytest_runtest_call(item: pytest.Item) -> Generator[None]:
    """Say of a test that failed whether its drive had missed a heart-beat: that is tried again."""
    _under_way.append(item)
    try:
        yield
    except AssertionError as error:
        if _has_lost(item):
            raise LinkLost(f"heartbeat lost in a run of this test, then: {error}") from error
        raise
    finally:
        _under_way.remove(item)


def _has_lost(item: pytest.Item) -> bool:
    return any(run.ended == LOST for run in _played(item))


def _played(item: pytest.Item) -> list[Run]:
    """Return the runs of every session that a test was given, by itself or in a window."""
    given = getattr(item, "funcargs", {}).values()
    sessions = {id(s): s for s in (getattr(one, "session", one) for one in given)}
    return [run for s in sessions.values() if isinstance(s, Session) for run in s.runs]


@pytest.fixture(scope="session", autouse=True)
def _warm_kernels() -> None:
    warm()


@pytest.fixture(scope="session", autouse=True)
def _forked_drives() -> Iterator[None]:
    """Practice drives start at once; how the program starts one is tested where it is written."""
    drives = Drives()
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr("oarlock.drive.practice_process._start", drives.start)
        yield
    drives.end()


@pytest.fixture(autouse=True)
def _own_folders(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """No test reads or writes the user's own files; compiled kernels are shared."""
    for name in ("XDG_DATA_HOME", "XDG_STATE_HOME", "XDG_CONFIG_HOME"):
        monkeypatch.setenv(name, str(tmp_path / name.lower()))


@pytest.fixture(autouse=True)
def _no_threads_left() -> Iterator[None]:
    """A thread that outlives its test fails it."""
    before = set(threading.enumerate())
    yield
    until = time.monotonic() + PATIENCE * 3.0
    while time.monotonic() < until:
        left = [t for t in threading.enumerate() if t not in before and t.is_alive()]
        if not left:
            return
        time.sleep(0.02)
    pytest.fail(f"threads left: {[t.name for t in left]}")


@pytest.fixture
def truth() -> PlantParameters:
    """One practice drive's hidden parameters."""
    return draw("winch", 0)


def adopted(axis: Axis, finding: Finding) -> Axis:
    """Return the axis with what a finding estimates."""
    for path, estimate in finding.estimates.items():
        axis = axis.with_parameter(path, replace(axis.parameter(path), adopted=estimate))
    return axis


def play_on_model(
    experiment: Experiment, axis: Axis, plant: PlantParameters, *, seed: int = 0
) -> Record:
    """Play an experiment on a simulated drive whose sensors are known, without a process."""
    link = ModelLink(plant, seed=seed)
    known = sensed(axis, plant)
    settings = experiment.settings(known)
    staged = getattr(experiment, "perform", None)
    if staged:
        done: Record = staged(known, link, Hasty())
        return done
    return play(experiment.plan(known), known, link, settings=settings, cancel=Hasty())


@pytest.fixture
def axis(truth: PlantParameters) -> Axis:
    """The sonar winch as its datasheet prints it, its sensors as they truly are."""
    return sensed(printed_axis("winch"), truth)


@pytest.fixture
def practice() -> Iterator[PracticeProcess]:
    """A practice drive of its own for one test."""
    drive = PracticeProcess(*CALM)
    yield drive
    drive.stop()


@pytest.fixture
def link(practice: PracticeProcess) -> Iterator[CanopenLink]:
    """A link to a practice drive."""
    made = CanopenLink(practice.channel)
    yield made
    made.close()


@pytest.fixture
def demo_path(tmp_path: Path) -> Path:
    """A fresh copy of the demo project, the winch's sensing done."""
    return demo_with(the_axis("winch"), tmp_path / "demo")


@pytest.fixture
def unsensed_path(tmp_path: Path) -> Path:
    """A fresh copy of the demo project in which nothing is known of the sensors."""
    return demo_with(None, tmp_path / "demo")


@pytest.fixture
def session(demo_path: Path) -> Iterator[Session]:
    """An open session on the demo project, its owner being the test's thread."""
    made = Session(Project.open(demo_path), lambda call: call())
    yield made
    made.close()


LONGEST = 150.0  # s; a test that takes longer is ended, and not tried again
HOPELESS = 5.0  # s after a lost heart-beat, by which what it led to has shown
_under_way: list[pytest.Item] = []


def wait(qtbot: QtBot, condition: Callable[[], bool], seconds: float = 20.0) -> None:
    """Wait until a condition holds, letting the window work; `seconds` on a quiet machine.

    Where a run has ended with a lost heart-beat it is not waited for what will never come.
    """
    lost_since = math.inf

    def holds() -> bool:
        nonlocal lost_since
        if condition():
            return True
        if any(map(_has_lost, _under_way)):
            lost_since = min(lost_since, time.monotonic())
            if time.monotonic() > lost_since + HOPELESS:
                raise LinkLost("heartbeat lost in a run of this test, then waited in vain")
        return False

    qtbot.waitUntil(holds, timeout=int(1000 * min(PATIENCE * seconds, LONGEST)))
