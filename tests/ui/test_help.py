"""F1: a page for each stage, searched by word, local."""

import pytest
from PySide6.QtCore import Qt
from pytestqt.qtbot import QtBot

from oarlock.ui.frame.app import Application
from oarlock.ui.kit.help import found, pages, title_of
from oarlock.ui.start.window import StartWindow
from oarlock.views.rail import STAGES


def test_every_stage_has_a_page_with_the_demo_in_it() -> None:
    assert [key for key in pages() if key != "start"] == [spec.key for spec in STAGES]
    for key, page in pages().items():
        assert title_of(page)
        assert 60 < len(page.split()) < 320, key
        assert "demo" in page.lower()
        assert all(len(line) <= 110 for line in page.splitlines())


def test_words_are_found_in_all_pages() -> None:
    assert [key for key, _ in found("notch")] == ["speed"]
    assert "current" in [key for key, _ in found("crossover")]
    assert found("") == []
    assert found("no such word at all") == []


@pytest.mark.parametrize("key", ["machine", "identify", "handover"])
def test_f1_shows_the_page_of_the_stage_and_closes_it(opened: Application, key: str) -> None:
    window = opened.window
    window.show_stage(key)
    window.panels.toggle_help()
    panel = window.panels.help
    assert panel is not None
    assert panel.isVisible()
    assert title_of(pages()[key]) in panel.text.toPlainText()
    assert panel.geometry().right() <= window.width()
    window.panels.toggle_help()
    assert not panel.isVisible()


def test_a_page_is_reached_by_a_word(qtbot: QtBot, opened: Application) -> None:
    opened.window.panels.toggle_help()
    panel = opened.window.panels.help
    assert panel is not None
    qtbot.keyClicks(panel.search, "backlash notch")
    assert panel.hits.count() == 0
    panel.search.setText("notch")
    assert panel.hits.isVisible()
    panel.hits.itemClicked.emit(panel.hits.item(0))
    assert panel.key == "speed"
    opened.window.escape()
    assert not panel.isVisible()


def test_the_start_page_has_its_own(qtbot: QtBot) -> None:
    page = StartWindow()
    qtbot.addWidget(page)
    page.show()
    qtbot.waitExposed(page)
    page._toggle_help()
    assert page._help is not None
    assert "machine shelf" in page._help.text.toPlainText()
    qtbot.keyClick(page, Qt.Key.Key_F1)
    page._toggle_help()
    page.close()
