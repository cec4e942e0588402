"""Take a picture of each stage of a project, offscreen."""

import time
from pathlib import Path

from oarlock.errors import InputError
from oarlock.session.connecting import PRACTICE
from oarlock.ui.frame.app import Application, application
from oarlock.ui.kit import theme as look
from oarlock.ui.stages.handover.stage import HandoverStage
from oarlock.ui.stages.rehearse.stage import RehearseStage
from oarlock.views.rail import STAGES


def take_screenshots(
    project: Path,
    folder: Path,
    *,
    dark: tuple[str, ...] = (),
    practice: bool = False,
    settle: float = 20.0,
) -> list[Path]:
    """Open a project and save a PNG of each stage at 1280x800; return their paths.

    Of further axes, the Sensing stage is taken.

    Parameters
    ----------
    dark : stages to take in the dark palette as well
    practice : connect a practice drive first
    settle : s, the longest to wait for older records to be read again

    """
    application()
    look.load_fonts()
    opened = Application(project)
    saved = []
    try:
        opened.window.resize(1280, 800)
        opened.window.show()
        opened.window.read_records()
        if practice:
            opened.bench.connect_drive(PRACTICE)
        _settle(opened, settle)
        for key in [spec.key for spec in STAGES]:
            saved.append(_save(opened, key, folder / f"{key}.png"))
        for name in opened.session.axis_names[1:]:
            opened.go_to_axis(name)
            _settle(opened, settle)
            saved.append(_save(opened, "sensing", folder / f"sensing-{_slug(name)}.png"))
        opened.go_to_axis(opened.session.axis_names[0])
        _settle(opened, settle)
        if dark:
            opened.toggle_theme()
            saved += [_save(opened, key, folder / f"{key}-dark.png") for key in dark]
            opened.toggle_theme()
    finally:
        opened.close()
        opened.window.close()
    return saved


def _settle(opened: Application, seconds: float) -> None:
    """Wait until older records are read again, and a drive that was asked for answers."""
    qt, until = application(), time.monotonic() + seconds

    def waiting() -> bool:
        missing = opened.bench.connecting or (
            opened.bench.connected and opened.bench.live.bus == 0.0
        )
        return bool(opened.session.wanted_readings() or opened.jobs.busy or missing)

    while waiting() and time.monotonic() < until:
        qt.processEvents()
        time.sleep(0.01)
    until = time.monotonic() + 0.3  # the top bar looks at the drive ten times a second
    while opened.bench.connected and time.monotonic() < until:
        qt.processEvents()


def _slug(name: str) -> str:
    return name.lower().replace(" ", "-")


def _save(opened: Application, key: str, path: Path) -> Path:
    qt = application()
    opened.window.show_stage(key)
    until = time.monotonic() + 5.0
    for _ in range(5):
        qt.processEvents()
    stage = opened.window.stage(key)
    if isinstance(stage, HandoverStage | RehearseStage):
        stage.run()  # a project that was opened proves and simulates nothing yet
        until = time.monotonic() + 60.0
    while time.monotonic() < until and (
        opened.jobs.busy or (isinstance(stage, RehearseStage) and stage.closer.pending)
    ):
        qt.processEvents()
        time.sleep(0.01)
    qt.processEvents()
    if not opened.window.grab().save(str(path)):
        raise InputError("cannot write the picture", place=str(path), remedy="Check the folder")
    return path
