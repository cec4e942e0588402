"""The scenario as text, its file, and the bridge that it is played with."""

from pathlib import Path

from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QTextCursor
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QPlainTextEdit, QWidget

from oarlock.errors import InputError, OarlockError
from oarlock.files import read_text, write_atomic
from oarlock.session.session import Session
from oarlock.simulate.plant_parameters import Modulation
from oarlock.ui.kit import theme as look
from oarlock.ui.kit.buttons import button, row_of
from oarlock.ui.kit.numbers import Panel
from oarlock.ui.kit.pickers import ask_file
from oarlock.views.rehearsal import scenario_of
from oarlock.views.rehearse import bridge_of, scenario_text
from oarlock.views.scenario_edit import beside_project

_KINDS = "Scenarios (*.toml);;All files (*)"
_BRIDGES = {
    Modulation.AVERAGED: "averaged",
    Modulation.SPACE_VECTOR: "switching, space vector",
    Modulation.SINE: "switching, sine",
    Modulation.DISCONTINUOUS: "switching, discontinuous",
}


class ScenarioBlock(QObject):
    """A block of the numbers."""

    edited = Signal()  # text or bridge
    opened = Signal()  # a file, which makes sense

    def __init__(self, panel: Panel, session: Session) -> None:
        super().__init__(panel)
        self._session, self._panel = session, panel
        block = panel.block("Scenario", "as text")
        self.text = QPlainTextEdit()
        self.text.setAccessibleName("Scenario")
        self.text.setFont(look.font(look.SMALL, mono=True))
        self.text.setTabChangesFocus(True)
        self.text.setFixedHeight(232)
        self.text.setPlainText(scenario_text(session.now))
        self.text.textChanged.connect(self.edited)
        block.add(self.text)
        self.trouble = QLabel()
        self.trouble.setWordWrap(True)
        self.trouble.setFont(look.font(look.SMALL))
        self.trouble.setStyleSheet(f"color: {look.theme().attention.name()}")
        self.trouble.hide()
        block.add(self.trouble)
        block.add(self._bridges())
        opened, saved = button("Open…"), button("Save…")
        opened.clicked.connect(self.ask_open)
        saved.clicked.connect(self.ask_save)
        block.add(row_of([opened, saved]))

    def _bridges(self) -> QWidget:
        self.bridge_box = QComboBox()
        self.bridge_box.setAccessibleName("Inverter")
        self.bridge_box.setFont(look.font(look.SMALL))
        for kind, words in _BRIDGES.items():
            self.bridge_box.addItem(words, kind.value)
        self.bridge_box.setCurrentIndex(list(_BRIDGES).index(bridge_of(self._session.screen)))
        self.bridge_box.activated.connect(self._choose)
        label = QLabel("Inverter")
        label.setFont(look.font(look.SMALL))
        holder = QWidget()
        row = QHBoxLayout(holder)
        row.setContentsMargins(0, 4, 0, 0)
        row.addWidget(label)
        row.addWidget(self.bridge_box, 1)
        return holder

    @property
    def bridge(self) -> Modulation:
        """The bridge that is chosen."""
        return bridge_of(self._session.screen)

    def _choose(self, number: int) -> None:
        self._session.show(bridge=list(_BRIDGES)[number].value)
        self.edited.emit()

    def put(self, text: str, *, joined: bool) -> None:
        """Put another text in its place; `joined`: taken back together with the change before."""
        cursor = self.text.textCursor()
        if joined:
            cursor.joinPreviousEditBlock()
        else:
            cursor.beginEditBlock()
        cursor.select(QTextCursor.SelectionType.Document)
        cursor.insertText(text)
        cursor.endEditBlock()

    def refuse(self, error: OarlockError | None) -> None:
        """Say below the text what is wrong with it; None: nothing is."""
        self.trouble.setText(f"{error.place}: {error.cause}. {error.remedy}" if error else "")
        height = self.trouble.heightForWidth(self.text.width())
        self.trouble.setMinimumHeight(max(height, 0))
        self.trouble.setVisible(error is not None)

    def ask_open(self) -> None:
        """Let the user pick a scenario."""
        start = str(self._session.path.parent)
        ask_file(self._panel, "Open a scenario", start, _KINDS, self.open_file)

    def open_file(self, path: Path) -> None:
        """Take a scenario's file, if it makes sense."""
        try:
            text = beside_project(read_text(path), path.parent, self._session.path.parent)
            scenario_of(text, self._session.path.parent)
        except InputError as error:
            self.refuse(error)
            return
        self.text.setPlainText(text)
        self.opened.emit()

    def ask_save(self) -> None:
        """Let the user say where the scenario goes."""
        start = str(self._session.path.with_name("scenario.toml"))
        ask_file(self._panel, "Save the scenario", start, _KINDS, self.save_file, new=True)

    def save_file(self, path: Path) -> None:
        """Write the scenario as it stands."""
        try:
            write_atomic(path, self.text.toPlainText().encode())
        except InputError as error:
            self.refuse(error)
