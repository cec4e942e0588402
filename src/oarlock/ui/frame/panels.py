"""What opens over the window: connecting, the command palette, commissioning; each when wanted."""

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QWidget
from shiboken6 import isValid

from oarlock.ui.kit import theme as look

if TYPE_CHECKING:
    from oarlock.ui.frame.commission import CommissionPanel
    from oarlock.ui.frame.connect import ConnectPanel
    from oarlock.ui.frame.palette import CommandPalette
    from oarlock.ui.frame.window import MainWindow


class Panels:
    """Makes each panel when it is first opened: a start waits for none of them."""

    def __init__(self, window: "MainWindow", ground: QWidget) -> None:
        self._window, self._ground = window, ground
        self._connect: ConnectPanel | None = None
        self.palette: CommandPalette | None = None
        self.commission: CommissionPanel | None = None

    def open_connect(self) -> None:
        """Let the user choose a drive."""
        window = self._window
        if self._connect is None:
            from oarlock.ui.frame.connect import ConnectPanel

            self._connect = ConnectPanel(window)
            self._connect.chosen.connect(window.bench.connect_drive)
        self._connect.open_at(window.top_bar.connect_button)

    def open_palette(self) -> None:
        """Offer every command by name."""
        from oarlock.ui.frame.palette import CommandPalette

        if self.palette is not None and isValid(self.palette):
            self.palette.close()
        self.palette = CommandPalette(self._window, self._window.commands())
        self.palette.show()

    def open_commissioning(self) -> None:
        """Show what is missing of the axis and what it will move; started from there."""
        if self.commission is None:
            from oarlock.ui.frame.commission import CommissionPanel

            self.commission = CommissionPanel(self._window.bench, self._ground)
            self.place()
        self.commission.open()

    def refresh(self) -> None:
        """Show how far commissioning is, where it is open."""
        if self.commission is not None:
            self.commission.refresh()

    def place(self) -> None:
        """Let commissioning lie over stage and numbers."""
        if self.commission is not None:
            window, top = self._window, look.TOP_BAR + look.STRIP
            height = window.height() - top - look.LOGBOOK
            self.commission.setGeometry(look.RAIL, top, window.width() - look.RAIL, height)

    def hide_commissioning(self) -> None:
        """Make room for a stage; what runs goes on."""
        if self.commission is not None:
            self.commission.hide()

    def close_top(self) -> bool:
        """Close what lies on top; return whether anything did."""
        if self.palette is not None and isValid(self.palette) and self.palette.isVisible():
            self.palette.close()
            return True
        if self.commission is not None and self.commission.isVisible():
            self.commission.leave()
            return True
        return False
