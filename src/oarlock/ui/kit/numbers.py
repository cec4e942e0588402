"""The numbers at the right: blocks of rows, each value with unit, ± and origin."""

from PySide6.QtCore import QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QGuiApplication,
    QKeyEvent,
    QKeySequence,
    QPainter,
    QPaintEvent,
    QPen,
    QResizeEvent,
)
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QLineEdit, QVBoxLayout, QWidget

from oarlock.quantities import Origin
from oarlock.ui.kit import theme as look
from oarlock.ui.kit.paint import dot, draw_text, line, text_width

ROW = 22
_INNER = look.NUMBERS - 2 * look.MARGIN


class Row(QWidget):
    """Name, value, unit, ± and where it comes from, painted in one go; read by screen readers."""

    def __init__(self, name: str, parent: QWidget | None = None, *, tip: str = "") -> None:
        super().__init__(parent)
        self._name, self._value, self._unit, self._extra = name, "", "", ""
        self._origin: Origin | None = None
        self._color = "ink"
        self.setFixedHeight(ROW)
        self.setToolTip(tip)
        self.setAccessibleName(plain(name))

    def sizeHint(self) -> QSize:
        return QSize(_INNER, ROW)

    def show_value(
        self,
        value: str,
        unit: str = "",
        extra: str = "",
        origin: Origin | None = None,
        *,
        color: str = "ink",
        name: str | None = None,
    ) -> None:
        """Show a value; repaints only where something changed."""
        new = (value, unit, extra, origin, color, name or self._name)
        if new == (self._value, self._unit, self._extra, self._origin, self._color, self._name):
            return
        self._value, self._unit, self._extra, self._origin, self._color, self._name = new
        self.setAccessibleDescription(f"{value} {unit} {extra}".strip())
        self.update()

    def show_tip(self, tip: str) -> None:
        """Say where the value comes from, to whoever points at it."""
        if tip != self.toolTip():
            self.setToolTip(tip)

    @property
    def value(self) -> str:
        """What it shows, without unit."""
        return self._value

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t = QPainter(self), look.theme()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        y = 0.5 * ROW + 4.5
        draw_text(p, 0, y, self._name, t.ink, size=look.BODY)
        draw_text(p, 136, y, self._value, getattr(t, self._color), size=look.NAME - 1, bold=True,
                  align="right")  # fmt: skip
        draw_text(p, 141, y, self._unit, t.muted, size=look.SMALL)
        right = self.width()
        if self._origin is not None:
            origin_mark(p, right - 6, 0.5 * ROW, self._origin)
            right -= 13
        draw_text(p, right, y, self._extra, t.muted, size=look.SMALL, align="right")


def origin_mark(p: QPainter, x: float, y: float, origin: Origin) -> None:
    """Draw where a value comes from: sheet, disc, disc on a line, ring."""
    t = look.theme()
    if origin is Origin.DATASHEET:
        p.setPen(QPen(t.ink, 1.2))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.drawRect(QRectF(x - 3.5, y - 5, 7, 10))
        p.drawLine(round(x - 1), round(y - 1), round(x + 1), round(y - 1))
    elif origin in (Origin.MEASURED, Origin.FITTED):
        dot(p, x, y, t.ink, filled=True, radius=3.5)
    else:
        p.setPen(QPen(t.ink, 1.2, Qt.PenStyle.DotLine))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.drawEllipse(QRectF(x - 4, y - 4, 8, 8))


def plain(marked: str) -> str:
    """Return a marked-up text without its marks."""
    return marked.replace("**", "").replace("__", "").replace("~", "")


class Why(QLabel):
    """The formula with its numbers, under a value."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFixedHeight(34)
        self._lines: tuple[str, ...] = ()

    def show_lines(self, *lines: str) -> None:
        """Show up to two lines."""
        if lines != self._lines:
            self._lines = lines
            self.setAccessibleName(plain(" ".join(lines)))
            self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t = QPainter(self), look.theme()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        line(p, 0.5, 1, 0.5, 33, t.accent, 1)
        for i, text in enumerate(self._lines[:2]):
            draw_text(p, 7, 12 + 16 * i, text, t.muted, size=look.SMALL)


class Block(QFrame):
    """A heading and what stands under it."""

    def __init__(self, title: str, hint: str = "", parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._rows = QVBoxLayout(self)
        self._rows.setContentsMargins(0, 0, 0, 6)
        self._rows.setSpacing(0)
        self._heading = Heading(title, hint)
        self._rows.addWidget(self._heading)

    def add(self, widget: QWidget) -> QWidget:
        """Put a widget under the others."""
        self._rows.addWidget(widget)
        return widget

    @property
    def heading(self) -> QWidget:
        """What stands at its top."""
        return self._heading

    def put_below(self, widget: QWidget, above: QWidget) -> None:
        """Put a widget just below another one of this block."""
        self._rows.insertWidget(self._rows.indexOf(above) + 1, widget)

    def remove(self, widget: QWidget) -> None:
        """Take a widget out of this block, if it stands there."""
        self._rows.removeWidget(widget)

    def has(self, widget: QWidget) -> bool:
        """Return whether a widget stands in this block."""
        return self._rows.indexOf(widget) >= 0

    def row(self, name: str, tip: str = "") -> Row:
        """Add a row for a value."""
        row = Row(name, tip=tip)
        self._rows.addWidget(row)
        return row

    def set_title(self, title: str) -> None:
        """Change the heading."""
        self._heading.set_title(title)

    def set_hint(self, hint: str) -> None:
        """Change what stands at the heading's right."""
        self._heading.set_hint(hint)


class Heading(QWidget):
    """A block's heading, with a hint at its right and a rule below."""

    def __init__(self, title: str, hint: str) -> None:
        super().__init__()
        self._title, self._hint = title, hint
        self.setFixedHeight(26)

    def set_title(self, title: str) -> None:
        """Change the title."""
        self._title = title
        self.update()

    def set_hint(self, hint: str) -> None:
        """Change the hint."""
        self._hint = hint
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        p, t = QPainter(self), look.theme()
        draw_text(p, 0, 16, self._title.upper(), t.muted, size=look.SMALL, bold=True)
        draw_text(p, self.width(), 16, self._hint, t.muted, size=look.SMALL, align="right")
        line(p, 0, 22, self.width(), 22, t.rule)


class Entry(QLineEdit):
    """A line to type in; Escape takes back what was typed, and only then reaches the window."""

    pasted_lines = Signal(str)  # several lines at once: too many for one entry

    def __init__(self, name: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._shown = ""
        self._size = 0  # px of its type
        self.setAccessibleName(plain(name))
        self.setFrame(False)
        self.setFont(look.font(look.BODY))

    def _fit(self) -> None:
        """Use smaller type for an entry that would not fit, down to what can still be read."""
        room = self.width() - 14
        sizes = (look.BODY, look.SMALL, look.SMALL - 1, look.SMALL - 2)
        size = next((s for s in sizes if text_width(self.text(), s) <= room), sizes[-1])
        if size != self._size:
            self._size = size
            self.setFont(look.font(size))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit()

    def show_text(self, text: str) -> None:
        """Show a text, unless somebody is typing."""
        if self.hasFocus() and self.isModified():
            self._shown = text
            return
        if text != self.text():
            self.setText(text)
            self.setCursorPosition(0)
            self._fit()
        self._shown = text
        self.setModified(False)

    def take_back(self) -> None:
        """Show again what stood before."""
        self.setText(self._shown)
        self.setModified(False)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.matches(QKeySequence.StandardKey.Paste):
            text = QGuiApplication.clipboard().text().strip()
            if "\n" in text:
                self.pasted_lines.emit(text)
                return
        if event.key() == Qt.Key.Key_Escape and self.isModified():
            self.take_back()
        super().keyPressEvent(event)
        if event.key() == Qt.Key.Key_Escape:
            event.ignore()  # Escape stops the drive, wherever the focus is


class GivenRow(QWidget):
    """One of the figures that the user may give: name, entry, unit, and whether it is the one."""

    given = Signal(str)

    def __init__(
        self, name: str, unit: str, parent: QWidget | None = None, *, choice: bool = True
    ) -> None:
        super().__init__(parent)
        self._name, self._unit, self._chosen = name, unit, False
        self._choice = choice  # one of several, of which one is given
        self.setFixedHeight(ROW + 1)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(90, 1, 78, 1)
        self.entry = Entry(name)
        self.entry.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.entry.setStyleSheet("background: transparent")
        self.entry.returnPressed.connect(self._tell)
        layout.addWidget(self.entry)

    def _tell(self) -> None:
        self.entry.setModified(False)  # it is said: what comes of it, or another unit, is shown
        self.given.emit(self.entry.text())

    def show_value(self, text: str, *, chosen: bool) -> None:
        """Show the figure, and whether it is the one that was given."""
        self.entry.show_text(text)
        if chosen != self._chosen:
            self._chosen = chosen
            self.update()

    def show_unit(self, unit: str) -> None:
        """Show another unit, or none."""
        if unit != self._unit:
            self._unit = unit
            self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        p, t = QPainter(self), look.theme()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self._chosen:
            p.fillRect(QRectF(-8, 0, self.width() + 16, self.height()), t.wash)
            p.fillRect(QRectF(0, 0, 3, self.height()), t.accent)
        y = 0.5 * self.height() + 4.5
        draw_text(p, 8 if self._choice else 0, y, self._name, t.ink)
        if self.entry.geometry().contains(event.rect()):
            return  # of the rest nothing lies under the entry
        draw_text(p, 141, y, self._unit, t.muted, size=look.SMALL)
        if self._choice:
            dot(p, self.width() - 10, 0.5 * self.height(), t.accent, filled=self._chosen)
        if self.entry.hasFocus():
            line(p, 92, self.height() - 1, 138, self.height() - 1, t.accent, 1)


class Panel(QWidget):
    """The column of blocks."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(look.MARGIN, 8, look.MARGIN, 0)
        self.setMinimumWidth(look.NUMBERS)  # a scroll bar lies over the margin
        self._column.setSpacing(2)

    def block(self, title: str, hint: str = "") -> Block:
        """Add a block."""
        block = Block(title, hint)
        self._column.addWidget(block)
        return block

    def finish(self) -> None:
        """Push everything up."""
        self._column.addStretch(1)
