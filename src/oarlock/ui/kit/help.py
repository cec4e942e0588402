"""Help: one short page for each stage, shown beside it and searched by word."""

import importlib.resources
from functools import cache

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QTextCharFormat, QTextCursor
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QTextBrowser,
    QVBoxLayout,
    QWidget,
)

from oarlock.ui.kit import theme as look
from oarlock.ui.kit.buttons import small_button

_APART = 9  # px, between paragraphs
_ORDER = ("start", "machine", "sensing", "identify", "current", "speed", "position", "rehearse",
          "handover")  # fmt: skip


@cache
def pages() -> dict[str, str]:
    """Return the pages as Markdown, by the keys of their stages."""
    folder = importlib.resources.files("oarlock.help")
    return {key: (folder / f"{key}.md").read_text(encoding="utf-8") for key in _ORDER}


def title_of(page: str) -> str:
    """Return a page's heading."""
    return page.partition("\n")[0].removeprefix("# ")


def found(query: str) -> list[tuple[str, str]]:
    """Return (page, the line that has it) for each page that holds every word of a query."""
    words = query.casefold().split()
    hits = []
    for key, page in pages().items():
        if words and all(word in page.casefold() for word in words):
            lines = [line for line in page.splitlines() if words[0] in line.casefold()]
            hits.append((key, lines[0].strip("#*- ") if lines else title_of(page)))
    return hits


class HelpPanel(QFrame):
    """A page and a line to look for a word."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.key = ""
        self.setFrameShape(QFrame.Shape.Box)
        self.setAutoFillBackground(True)
        self.setAccessibleName("Help")
        self.search = QLineEdit()
        self.search.setPlaceholderText("Look for a word in all pages")
        self.search.setAccessibleName("Look for a word")
        self.search.setFont(look.font(look.BODY))
        self.search.textChanged.connect(self._look)
        self.hits = QListWidget()
        self.hits.setAccessibleName("Pages that have it")
        self.hits.setFont(look.font(look.BODY))
        self.hits.setFixedHeight(120)
        self.hits.hide()
        self.hits.itemClicked.connect(self._go)
        self.hits.itemActivated.connect(self._go)
        self.text = QTextBrowser()
        self.text.setFrameShape(QFrame.Shape.NoFrame)
        self.text.setFont(look.font(look.BODY))
        self.text.setAccessibleName("Page")
        leave = small_button("×", "Close the help")
        leave.clicked.connect(self.hide)
        head = QHBoxLayout()
        head.addWidget(self.search, 1)
        head.addWidget(leave)
        column = QVBoxLayout(self)
        column.addLayout(head)
        column.addWidget(self.hits)
        column.addWidget(self.text, 1)
        self.hide()

    def open_page(self, key: str) -> None:
        """Show a page; one that does not exist shows the first."""
        self.key = key if key in pages() else _ORDER[0]
        self.text.setMarkdown(pages()[self.key])
        _space(self.text)
        # Once it is laid out: the margins above have moved the text meanwhile.
        QTimer.singleShot(0, self.text, lambda: self.text.verticalScrollBar().setValue(0))
        self.show()
        self.raise_()

    def _look(self, query: str) -> None:
        self.hits.clear()
        for key, line in found(query):
            item = QListWidgetItem(f"{title_of(pages()[key])}: {line}")
            item.setData(Qt.ItemDataRole.UserRole, key)
            self.hits.addItem(item)
        self.hits.setVisible(bool(query.strip()))

    def _go(self, item: QListWidgetItem) -> None:
        self.open_page(str(item.data(Qt.ItemDataRole.UserRole)))
        words = self.search.text().split()
        if words:
            self.text.find(words[0])


def _space(text: QTextBrowser) -> None:
    """Set paragraphs apart, and the heading in the interface's size."""
    block = text.document().begin()
    while block.isValid():
        cursor = QTextCursor(block)
        shape = block.blockFormat()
        shape.setTopMargin(0)
        shape.setBottomMargin(4 if block.textList() else _APART)
        cursor.setBlockFormat(shape)
        if shape.headingLevel():
            cursor.select(QTextCursor.SelectionType.BlockUnderCursor)
            letters = QTextCharFormat()
            letters.setFont(look.font(look.ANSWER, bold=True))
            cursor.mergeCharFormat(letters)
        block = block.next()
