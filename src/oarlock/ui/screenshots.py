"""Take a picture of each stage of a project, offscreen."""

import time
from pathlib import Path

from oarlock.errors import InputError
from oarlock.session.stages import STAGE_KEYS
from oarlock.ui import theme as look
from oarlock.ui.app import Application, application


def take_screenshots(
    project: Path, folder: Path, *, dark: tuple[str, ...] = (), settle: float = 20.0
) -> list[Path]:
    """Open a project and save a PNG of each stage at 1280x800; return their paths.

    Parameters
    ----------
    dark : stages to take in the dark palette as well
    settle : s, the longest to wait for older records to be read again

    """
    qt = application()
    look.load_fonts()
    opened = Application(project)
    saved = []
    try:
        opened.window.resize(1280, 800)
        opened.window.show()
        opened.window.read_records()
        until = time.monotonic() + settle
        while opened.session.wanted_readings() and time.monotonic() < until:
            qt.processEvents()
            time.sleep(0.01)
        for key in STAGE_KEYS:
            saved.append(_save(opened, key, folder / f"{key}.png"))
        if dark:
            opened.toggle_theme()
            saved += [_save(opened, key, folder / f"{key}-dark.png") for key in dark]
            opened.toggle_theme()
    finally:
        opened.close()
        opened.window.close()
    return saved


def _save(opened: Application, key: str, path: Path) -> Path:
    qt = application()
    opened.window.show_stage(key)
    for _ in range(5):
        qt.processEvents()
    if not opened.window.grab().save(str(path)):
        raise InputError("cannot write the picture", place=str(path), remedy="Check the folder")
    return path
