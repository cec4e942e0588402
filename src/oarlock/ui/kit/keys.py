"""Keys that a line to type in hands to the list below it."""

from PySide6.QtCore import QEvent, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QListView

_ARROWS: dict[int, int] = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}


def pressed(event: QEvent) -> int:
    """Return the key that an event presses; 0 for any other event."""
    is_press = isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress
    return event.key() if is_press and isinstance(event, QKeyEvent) else 0


def moved_by_arrows(rows: QListView, event: QEvent) -> bool:
    """Move a list's row if the event is an arrow up or down; return whether it was."""
    step = _ARROWS.get(pressed(event))
    if step is None:
        return False
    model = rows.model()
    row = min(max(rows.currentIndex().row() + step, 0), model.rowCount() - 1)
    rows.setCurrentIndex(model.index(row, 0))
    return True
