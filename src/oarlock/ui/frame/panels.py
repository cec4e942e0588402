"""What opens over the window, each when it is wanted: connect, palette, commissioning, compare."""

from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFrame, QWidget
from shiboken6 import isValid

from oarlock.ui.kit import theme as look

if TYPE_CHECKING:
    from oarlock.ui.frame.commission import CommissionPanel
    from oarlock.ui.frame.compare import ComparePanel
    from oarlock.ui.frame.connect import ConnectPanel
    from oarlock.ui.frame.palette import CommandPalette
    from oarlock.ui.frame.window import MainWindow
    from oarlock.ui.kit.help import HelpPanel


HELP = 420  # px, of the help's width


class Panels:
    """Makes each panel when it is first opened: a start waits for none of them."""

    def __init__(self, window: "MainWindow", ground: QWidget) -> None:
        self._window, self._ground = window, ground
        self._connect: ConnectPanel | None = None
        self.palette: CommandPalette | None = None
        self.commission: CommissionPanel | None = None
        self.compare: ComparePanel | None = None
        window.message.changed.connect(self.place)
        self.help: HelpPanel | None = None
        self.over: QFrame | None = None  # what asks for a name

    def open_connect(self) -> None:
        """Let the user choose a drive."""
        window = self._window
        if self._connect is None:
            from oarlock.ui.frame.connect import ConnectPanel

            self._connect = ConnectPanel(window.session, window.files.jobs, window)
            self._connect.chosen.connect(window.bench.connect_drive)
        self._connect.open_at(window.top_bar.connect_button)

    def toggle_help(self) -> None:
        """Show the page of the stage on screen, or close it."""
        if self.help is None:
            from oarlock.ui.kit.help import HelpPanel

            self.help = HelpPanel(self._ground)
        key = self._window.session.screen.stage
        if self.help.isVisible() and self.help.key == key:
            self.help.hide()
            return
        self.help.open_page(key)
        self.place()

    def open_palette(self) -> None:
        """Offer every command by name."""
        from oarlock.ui.frame.palette import CommandPalette

        if self.palette is not None and isValid(self.palette):
            self.palette.close()
        self.palette = CommandPalette(self._window, self._window.commands())
        self.palette.show()

    def open_new_axis(self) -> None:
        """Let the user add an axis."""
        from oarlock.ui.frame.new_axis import NewAxisPanel

        window = self._window
        made = NewAxisPanel(window.session, window.files.jobs, window)
        made.chosen.connect(lambda *told: window.files.add_axis(*told) and made.close())
        self._lay_over(made)

    def open_rename(self) -> None:
        """Let the user give the axis another name."""
        from oarlock.ui.frame.new_axis import RenamePanel

        window = self._window
        made = RenamePanel(window.session.axis.name, window)
        made.chosen.connect(lambda name: window.files.rename_axis(name) and made.close())
        self._lay_over(made)

    def _lay_over(self, panel: QFrame) -> None:
        """Show a panel over everything, in place of another one."""
        if self.over is not None and isValid(self.over):
            self.over.close()
        self.over = panel
        panel.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        panel.show()
        panel.raise_()

    def open_commissioning(self) -> None:
        """Show what is missing of the axis and what it will move; started from there."""
        if self.commission is None:
            from oarlock.ui.frame.commission import CommissionPanel

            self.commission = CommissionPanel(self._window.bench, self._ground)
            self._window.follow(self.commission.work.changed, self.refresh)
            self.place()
        self.commission.open()

    def open_comparison(self) -> None:
        """Show the pinned runs beside one another."""
        if self.compare is None:
            from oarlock.ui.frame.compare import ComparePanel

            self.compare = ComparePanel(self._window.session, self._ground)
            self.compare.take_back.connect(self._window.take_back)
            self.place()
        self.compare.open()

    def open_as(self, other: "Panels") -> None:
        """Open what is open in a window whose place this one takes."""
        shown = ((other.commission, self.open_commissioning), (other.compare, self.open_comparison),
                 (other.help, self.toggle_help))  # fmt: skip
        for panel, open_it in shown:
            if panel is not None and panel.isVisible():
                open_it()

    def refresh(self) -> None:
        """Show what stands, where a panel is open."""
        for panel in (self.commission, self.compare):
            if panel is not None:
                panel.refresh()

    def place(self) -> None:
        """Let panels lie over stage and numbers."""
        window, top = self._window, look.TOP_BAR + look.STRIP
        height = window.height() - top - look.LOGBOOK
        said = window.message.height() if window.message.isVisible() else 0
        for panel in (self.commission, self.compare):
            if panel is not None:
                panel.setGeometry(look.RAIL, top, window.width() - look.RAIL, height - said)
        if self.help is not None:
            wide = min(HELP, window.width() - look.RAIL)
            self.help.setGeometry(window.width() - wide, top, wide, height - said)
            self.help.raise_()

    def make_room(self) -> None:
        """Make room for a stage; what runs goes on."""
        for panel in (self.commission, self.compare):
            if panel is not None:
                panel.hide()

    def close_top(self) -> bool:
        """Close what lies on top; return whether anything did."""
        if self.palette is not None and isValid(self.palette) and self.palette.isVisible():
            self.palette.close()
            return True
        if self.over is not None and isValid(self.over) and self.over.isVisible():
            self.over.close()
            return True
        if self.help is not None and self.help.isVisible():
            self.help.hide()
            return True
        if self.compare is not None and self.compare.isVisible():
            self.compare.hide()
            return True
        if self.commission is not None and self.commission.isVisible():
            self.commission.leave()
            return True
        return False
