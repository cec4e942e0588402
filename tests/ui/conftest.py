"""The real window, offscreen, on a fresh copy of the demo."""

from collections.abc import Iterator
from pathlib import Path

import pytest
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from oarlock.ui.frame.app import Application, application
from oarlock.ui.kit import theme as look
from tests.conftest import CALM, wait


@pytest.fixture(scope="session")
def qapp_cls() -> type:
    return QApplication


@pytest.fixture(scope="session", autouse=True)
def _an_application(qapp: object) -> None:
    """Fonts are measured by an application, whichever test comes first; its style is ours."""
    application().setStyle("Fusion")
    look.load_fonts()


@pytest.fixture(autouse=True)
def _patient_with_drives(monkeypatch: pytest.MonkeyPatch) -> None:
    """A machine that stands still for a second is no drive that is gone."""
    monkeypatch.setattr("oarlock.session.bench._SILENT", 2.0)


def window_on(qtbot: QtBot, path: Path) -> Iterator[Application]:
    """Open a project's window, no drive connected, and close it in the end."""
    made = Application(path)
    made.window.resize(1280, 800)
    made.start(practice=False)
    qtbot.waitExposed(made.window)
    yield made
    made.close()
    made.window.close()
    made.window.deleteLater()
    qtbot.wait(1)


@pytest.fixture
def opened(qtbot: QtBot, demo_path: Path) -> Iterator[Application]:
    """The demo's window, the winch's sensing done, no drive connected."""
    yield from window_on(qtbot, demo_path)


@pytest.fixture
def fresh(qtbot: QtBot, unsensed_path: Path) -> Iterator[Application]:
    """The demo's window, nothing known of the sensors, no drive connected."""
    yield from window_on(qtbot, unsensed_path)


@pytest.fixture
def live(qtbot: QtBot, opened: Application) -> Application:
    """The demo's window with a practice drive connected."""
    opened.bench.connect_drive(" ".join(("practice", *CALM, "--pace", "6")))
    wait(qtbot, lambda: opened.bench.connected)
    return opened
