"""The list of projects that were open before, as a model and as it is painted."""

from collections.abc import Sequence
from datetime import date, datetime
from pathlib import Path
from typing import Any

from PySide6.QtCore import QAbstractListModel, QModelIndex, QPersistentModelIndex, QRectF, QSize, Qt
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QStyle, QStyledItemDelegate, QStyleOptionViewItem

from oarlock.session.recent import Recent
from oarlock.ui.kit import theme as look
from oarlock.ui.kit.paint import draw_text, elided, line, text_width

_Index = QModelIndex | QPersistentModelIndex
_HEAD, _LINE, _MOST = 42, 19, 3  # px; axes shown


class Projects(QAbstractListModel):
    """Those projects that fit what was typed."""

    def __init__(self, entries: Sequence[Recent]) -> None:
        super().__init__()
        self._all = list(entries)
        self.shown = list(entries)

    def rowCount(self, _parent: _Index = QModelIndex()) -> int:  # noqa: B008 - Qt's own default
        return len(self.shown)

    def data(self, index: _Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        entry = self.shown[index.row()]
        if role == Qt.ItemDataRole.UserRole:
            return entry
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole):
            said = "; ".join(f"{axis.name}: {axis.said}" for axis in entry.axes)
            return f"{entry.name}, {when(entry.opened)}. {said}"
        if role == Qt.ItemDataRole.ToolTipRole:
            return str(entry.path)
        return None

    def fit(self, query: str) -> None:
        """Show those of which every word of the query is a part."""
        words = query.casefold().split()
        self.beginResetModel()
        self.shown = [e for e in self._all if all(word in _searched(e) for word in words)]
        self.endResetModel()

    def forget(self, path: Path) -> None:
        """Take one off the list."""
        self.beginResetModel()
        self._all = [e for e in self._all if e.path != path]
        self.shown = [e for e in self.shown if e.path != path]
        self.endResetModel()


def _searched(entry: Recent) -> str:
    return " ".join((entry.name, str(entry.path), *(a.name for a in entry.axes))).casefold()


def when(opened: str) -> str:
    """Return when a project was open, as one says it."""
    try:
        then = datetime.fromisoformat(opened)
    except ValueError:
        return ""
    days = (date.today() - then.date()).days
    if days == 0:
        return f"today {then:%H:%M}"
    if 0 < days < 7:
        return f"{then:%A}"
    return f"{then:%d %b %Y}".lstrip("0")


class ProjectPainter(QStyledItemDelegate):
    """A project with its axes, each with its last sentence."""

    def sizeHint(self, _option: QStyleOptionViewItem, index: _Index) -> QSize:
        entry: Recent = index.data(Qt.ItemDataRole.UserRole)
        return QSize(200, _HEAD + _LINE * min(len(entry.axes), _MOST) + 12)

    def paint(self, p: QPainter, option: QStyleOptionViewItem, index: _Index) -> None:
        entry: Recent = index.data(Qt.ItemDataRole.UserRole)
        t = look.theme()
        area = QRectF(option.rect)
        state = option.state
        p.save()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        if state & QStyle.StateFlag.State_Selected:
            p.fillRect(area, t.wash)
            p.fillRect(QRectF(area.left(), area.top(), 4, area.height()), t.accent)
        left, right, top = area.left() + 16, area.right() - 12, area.top()
        at = when(entry.opened)
        draw_text(p, right, top + 22, at, t.muted, align="right")
        name = elided(entry.name, right - left - text_width(at) - 16, bold=True)
        draw_text(p, left, top + 22, name, t.ink, size=look.NAME, bold=True)
        draw_text(p, left, top + 39, elided(str(entry.path), right - left), t.muted,
                  size=look.SMALL)  # fmt: skip
        for n, axis in enumerate(entry.axes[:_MOST]):
            y = top + _HEAD + 15 + n * _LINE
            more = len(entry.axes) - _MOST
            said = axis.said or "not looked at yet"
            if more > 0 and n == _MOST - 1:
                said += f"; and {more} more"
            x = left + draw_text(p, left, y, f"**{axis.name}**  ", t.ink)
            draw_text(p, x, y, elided(said, right - x), t.ink)
        line(p, area.left(), area.bottom(), area.right(), area.bottom(), t.rule)
        p.restore()
