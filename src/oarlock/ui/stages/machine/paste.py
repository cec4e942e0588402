"""Pasted lines of a datasheet: what each is taken for, before any of it is."""

from collections.abc import Callable
from functools import partial

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QButtonGroup, QFrame, QGridLayout, QLabel, QScrollArea, QWidget
from PySide6.QtWidgets import QVBoxLayout as Column

from oarlock.machine.pasted import Pasted, Reading
from oarlock.machine.unknown import in_words
from oarlock.ui.kit import theme as look
from oarlock.ui.kit.buttons import button, row_of
from oarlock.ui.kit.numbers import plain


class PastePanel(QFrame):
    """A preview of pasted lines; `take` is told (path, entry) for all that were understood."""

    def __init__(
        self, lines: tuple[Pasted, ...], take: Callable[[list[tuple[str, str]]], None],
        parent: QWidget,
    ) -> None:  # fmt: skip
        super().__init__(parent)
        self._lines, self._take = lines, take
        self.chosen: dict[int, Reading] = {
            n: line.readings[0] for n, line in enumerate(lines) if line.is_sure
        }
        self.setFrameShape(QFrame.Shape.Box)
        self.setAutoFillBackground(True)
        self.setAccessibleName("Pasted lines")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setFont(look.font(look.BODY))
        self.heading = QLabel()
        self.heading.setFont(look.font(look.NAME, bold=True))
        self.take_button, leave = button("", primary=True), button("Leave them")
        self.take_button.clicked.connect(self._taken)
        leave.clicked.connect(self.close)
        column = Column(self)
        column.addWidget(self.heading)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setFrameShape(QFrame.Shape.NoFrame)
        area.setWidget(self._table())
        column.addWidget(area, 1)
        column.addWidget(row_of([self.take_button, leave]))
        self._say()

    def _table(self) -> QWidget:
        inner, grid = QWidget(), QGridLayout()
        inner.setLayout(grid)
        grid.setHorizontalSpacing(14)
        self.buttons: dict[tuple[int, str], QWidget] = {}
        for n, line in enumerate(self._lines):
            text = QLabel(line.text)
            text.setFont(look.font(look.SMALL, mono=True))
            grid.addWidget(text, n, 0)
            named = " and ".join(plain(in_words(path)) for path in line.paths)
            grid.addWidget(QLabel(named or "no number of the motor"), n, 1)
            grid.addWidget(self._answer(n, line), n, 2)
        grid.setColumnStretch(2, 1)
        grid.setRowStretch(len(self._lines), 1)
        return inner

    def _answer(self, n: int, line: Pasted) -> QWidget:
        """Return what stands at a line's right: the value, the readings to choose from, or why."""
        t = look.theme()
        if len(line.readings) > 1:
            group, made = QButtonGroup(self), []
            for reading in line.readings:
                one = button(f"{reading.said} {reading.value}")
                one.setCheckable(True)
                one.setAccessibleName(f"{line.text}, meant {reading.said}")
                one.clicked.connect(partial(self._choose, n, reading))
                group.addButton(one)
                self.buttons[n, reading.said] = one
                made.append(one)
            return row_of(list(made))
        said = QLabel(line.readings[0].value if line.readings else line.trouble or "–")
        said.setWordWrap(True)
        color = t.ink if line.readings else t.attention if line.trouble else t.muted
        said.setStyleSheet(f"color: {color.name()}")
        return said

    def _choose(self, n: int, reading: Reading) -> None:
        self.chosen[n] = reading
        self._say()

    def _say(self) -> None:
        ask = sum(len(line.readings) > 1 for n, line in enumerate(self._lines)
                  if n not in self.chosen)  # fmt: skip
        more = f"; {ask} can be meant in two ways" if ask else ""
        self.heading.setText(
            f"{len(self._lines)} lines pasted, {len(self.chosen)} understood{more}"
        )
        self.take_button.setText(f"Take {len(self.chosen)} lines")
        self.take_button.setEnabled(bool(self.chosen))

    def _taken(self) -> None:
        found = [(path, reading.entry) for n, reading in sorted(self.chosen.items())
                 for path in self._lines[n].paths]  # fmt: skip
        # What others need comes first.
        found.sort(key=lambda one: one[0] != "machine.pole_pairs")
        self._take(found)
        self.close()
