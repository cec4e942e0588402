"""Keys that a line to type in hands to the list below it."""

from PySide6.QtCore import QEvent, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QListWidget
from pytestqt.qtbot import QtBot

from oarlock.ui.kit.keys import moved_by_arrows, pressed

Key = Qt.Key


def press(key: Qt.Key) -> QKeyEvent:
    return QKeyEvent(QEvent.Type.KeyPress, key, Qt.KeyboardModifier.NoModifier)


def test_which_key_is_pressed() -> None:
    assert pressed(press(Key.Key_Return)) == Key.Key_Return
    released = QKeyEvent(QEvent.Type.KeyRelease, Key.Key_Return, Qt.KeyboardModifier.NoModifier)
    assert pressed(released) == 0
    assert pressed(QEvent(QEvent.Type.FocusIn)) == 0


def test_arrows_move_the_row_and_stop_at_the_ends(qtbot: QtBot) -> None:
    rows = QListWidget()
    qtbot.addWidget(rows)
    rows.addItems(["a", "b", "c"])
    seen = []
    for key in (Key.Key_Down, Key.Key_Down, Key.Key_Down, Key.Key_Down, Key.Key_Up):
        assert moved_by_arrows(rows, press(key))
        seen.append(rows.currentRow())
    assert seen == [0, 1, 2, 2, 1]
    assert not moved_by_arrows(rows, press(Key.Key_Left))
    assert rows.currentRow() == 1


def test_an_empty_list_has_no_row_to_move(qtbot: QtBot) -> None:
    rows = QListWidget()
    qtbot.addWidget(rows)
    assert moved_by_arrows(rows, press(Key.Key_Down))
    assert rows.currentRow() == -1
