"""The numbers of a stage: a column in a wide window, a drawer in a narrow one."""

from PySide6.QtWidgets import QHBoxLayout, QMainWindow, QPushButton, QStackedWidget

from oarlock.ui.kit import theme as look


class Drawer:
    """Keeps the numbers where there is room for them."""

    def __init__(
        self, window: QMainWindow, middle: QHBoxLayout, numbers: QStackedWidget, opener: QPushButton
    ) -> None:
        self._window, self._middle, self._numbers = window, middle, numbers
        self._opener = opener
        opener.clicked.connect(self.toggle)

    @property
    def is_open(self) -> bool:
        """Whether it lies over the stage now."""
        return self._is_narrow and self._numbers.isVisible()

    @property
    def _is_narrow(self) -> bool:
        return self._window.width() < look.NARROW

    def toggle(self) -> None:
        """Open or close the drawer of a narrow window."""
        if self._is_narrow:
            self._numbers.setVisible(not self._numbers.isVisible())
            self.place()

    def place(self) -> None:
        """Follow the window's size."""
        in_column = self._middle.indexOf(self._numbers) >= 0
        self._opener.setVisible(self._is_narrow)
        if self._is_narrow and in_column:
            self._middle.removeWidget(self._numbers)
            self._numbers.hide()
        elif not self._is_narrow and not in_column:
            self._middle.addWidget(self._numbers)
            self._numbers.show()
        if self._is_narrow:
            top, size = look.TOP_BAR + look.STRIP, self._window.size()
            height = size.height() - top - look.LOGBOOK
            left = size.width() - look.NUMBERS
            self._numbers.setGeometry(left, top, look.NUMBERS, height)
            self._numbers.raise_()
