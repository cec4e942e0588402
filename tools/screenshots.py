"""Make the pictures of the documentation from the demo's data: `make screenshots`."""

import shutil
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from oarlock.demo.job import run_job
from oarlock.demo.project import make_demo
from oarlock.ui.frame.app import Application, application
from oarlock.ui.frame.screenshots import take_screenshots
from oarlock.ui.kit import theme as look
from oarlock.ui.stages.sensing.stage import SensingStage

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
        for picture in made:
            shutil.copyfile(picture, target / picture.name)
            print(target / picture.name)
    return status


def blocked(folder: Path) -> Path:
    """Do sensing on a drive one of whose sensors reads low, as far as it goes."""
    qt = application()
    look.load_fonts()
    opened = Application(make_demo(folder / "blocked"))

    def wait(condition: Callable[[], bool], seconds: float) -> None:
        until = time.monotonic() + seconds
        while not condition() and time.monotonic() < until:
            qt.processEvents()
            time.sleep(0.005)

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
