"""Make the pictures of the documentation from the demo's data: `make screenshots`."""

import os
import shutil
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from oarlock.demo.job import run_job
from oarlock.demo.project import make_demo
from oarlock.machine.speed_loop import SpeedGains
from oarlock.session.new_project import make_project
from oarlock.session.recent import RecentAxis, remember
from oarlock.ui.frame.app import Application, application
from oarlock.ui.frame.screenshots import take_screenshots
from oarlock.ui.kit import theme as look
from oarlock.ui.stages.rehearse.stage import RehearseStage
from oarlock.ui.stages.sensing.stage import SensingStage
from oarlock.ui.stages.speed.stage import SpeedStage
from oarlock.ui.start.window import StartWindow
from oarlock.views.left_off import left_off

_FAULT = 'practice --watchdog 0.5 --faults {"gains":[1.0,0.69,1.0]}'


def main() -> int:
    """Do the demo's job, take its pictures, put them into a folder."""
    target = Path(sys.argv[1] if len(sys.argv) > 1 else "docs/screenshots")
    target.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "demo"
        status = run_job(folder, lambda _text: None)
        made = take_screenshots(
            folder / "river-survey.oarlock", Path(name), dark=("current",), practice=True
        )
        made.append(blocked(Path(name)))
        made += commissioned(Path(name))
        made.append(replayed(Path(name), folder / "river-survey.oarlock"))
        made += begun(Path(name), folder / "river-survey.oarlock")
        for picture in made:
            shutil.copyfile(picture, target / picture.name)
            print(target / picture.name)
    return status


def wait(condition: Callable[[], bool], seconds: float) -> None:
    """Let the window work until a condition holds."""
    until = time.monotonic() + seconds
    while not condition() and time.monotonic() < until:
        application().processEvents()
        time.sleep(0.005)


def replayed(folder: Path, demo: Path) -> Path:
    """Lay the step of load that the demo's drive played over its simulation."""
    opened = Application(demo)
    path = folder / "replay.png"
    try:
        opened.window.resize(1280, 800)
        opened.window.show()
        opened.window.read_records()
        wait(lambda: not opened.session.wanted_readings(), 30.0)
        opened.window.show_stage("rehearse")
        stage = opened.window.stage("rehearse")
        runs = [run for run in opened.session.runs if run.kind == "load step"]
        if isinstance(stage, RehearseStage) and runs:
            stage.replay(runs[-1])
            wait(lambda: stage.replay_plots.shown is not None, 60.0)
            wait(lambda: False, 0.3)
        opened.window.grab().save(str(path))
    finally:
        opened.close()
        opened.window.close()
    return path


def begun(folder: Path, demo: Path) -> list[Path]:
    """Take the start page with the demo's data on it, and a motor that nobody described."""
    application()
    look.load_fonts()
    os.environ["XDG_STATE_HOME"] = str(folder / "state")
    shown = Path.home() / "bench" / "river-survey.oarlock"
    opened = Application(demo)
    opened.window.read_records()
    wait(lambda: not opened.session.wanted_readings(), 30.0)
    said = left_off(opened.session.now)
    opened.close()
    opened.window.close()
    remember(shown.with_name("bow-anchor.oarlock"), "Bow anchor",
             [RecentAxis("Motor 1", "3 of 9 known; the drive tells the rest")])  # fmt: skip
    remember(shown, "River survey", [RecentAxis("Sonar winch", said), RecentAxis("Thruster", "")])
    page = StartWindow()
    page.resize(1280, 800)
    page.show()
    wait(lambda: False, 0.3)
    paths = [folder / "start.png", folder / "machine-new.png"]
    page.grab().save(str(paths[0]))
    page.close()
    own = Application(make_project(folder / "bow-anchor.oarlock", "Bow anchor"))
    try:
        own.window.resize(1280, 800)
        own.window.show()
        for path, text in (("machine.rated_current", "7.1 A rms"),
                           ("machine.max_speed", "4000 rpm")):  # fmt: skip
            own.session.enter(path, text)
        wait(lambda: False, 0.3)
        own.window.grab().save(str(paths[1]))
    finally:
        own.close()
        own.window.close()
    return paths


def commissioned(folder: Path) -> list[Path]:
    """Commission a fresh demo; then tune its speed loop by hand, and compare what came of it."""
    application()
    look.load_fonts()
    opened = Application(make_demo(folder / "fresh"))
    window, work, hand = opened.window, opened.bench.commissioning, opened.bench.hand
    paths = [folder / f"{name}.png" for name in ("commissioning", "by-hand", "comparison")]
    try:
        window.resize(1280, 800)
        window.show()
        opened.bench.connect_drive("practice --watchdog 0.5 --pace 5")
        wait(lambda: opened.bench.connected, 90.0)
        window.panels.open_commissioning()
        work.go_on()
        wait(lambda: work.is_complete or bool(work.said) or work.asks is not None, 200.0)
        if not work.is_complete:
            raise SystemExit(f"no picture of a commissioning that ended early: {work.said}")
        wait(lambda: False, 0.5)
        window.grab().save(str(paths[0]))
        work.take()
        window.show_stage("speed")
        stage = window.stage("speed")
        if isinstance(stage, SpeedStage):
            wait(lambda: not stage.ways.working, 20.0)
            hand.start(stage.test.experiment())
            for factor in (1.0, 0.6):
                gains = stage.shown.gains if stage.shown else SpeedGains(Kp=1.0, Ki=1.0)
                stage.set_gain("Kp", f"{factor * gains.Kp:.4g}")
                wait(lambda: False, 2.5)
        wait(lambda: hand.newest("speed step") is not None, 5.0)
        window.grab().save(str(paths[1]))
        opened.bench.stop()
        wait(lambda: not opened.bench.busy, 10.0)
        for run in opened.session.runs[-2:]:
            opened.session.change_run(run.id, pinned=True)
        window.panels.open_comparison()
        wait(lambda: False, 0.5)
        window.grab().save(str(paths[2]))
    finally:
        opened.close()
        window.close()
    return paths


def blocked(folder: Path) -> Path:
    """Do sensing on a drive one of whose sensors reads low, as far as it goes."""
    application()
    look.load_fonts()
    opened = Application(make_demo(folder / "blocked"))
    try:
        opened.window.resize(1280, 800)
        opened.window.show()
        opened.window.show_stage("sensing")
        opened.bench.connect_drive(_FAULT)
        wait(lambda: opened.bench.connected, 90.0)
        stage = opened.window.stage("sensing")
        for _ in range(3):
            if isinstance(stage, SensingStage):
                stage.run()
            wait(lambda: not opened.bench.busy, 30.0)
        wait(lambda: False, 0.5)
        path = folder / "sensing-blocked.png"
        opened.window.grab().save(str(path))
    finally:
        opened.close()
        opened.window.close()
    return path


if __name__ == "__main__":
    sys.exit(main())
