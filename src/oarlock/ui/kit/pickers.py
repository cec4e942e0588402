"""Choosing a file without holding the window: Stop and everything else stay within reach."""

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QWidget

Chosen = Callable[[Path], object]


def ask_file(
    parent: QWidget, title: str, start: str, kinds: str, chosen: Chosen, *, new: bool = False
) -> QFileDialog:
    """Show a file picker that is not modal; tell `chosen` what was picked.

    Parameters
    ----------
    start : folder or file to begin with
    kinds : as `QFileDialog` takes name filters
    new : a file to be written, instead of one that is there

    """
    picker = QFileDialog(parent, title, start, kinds)
    picker.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    # The desktop's own picker would take the keyboard, Escape included, out of this process.
    picker.setOption(QFileDialog.Option.DontUseNativeDialog)
    picker.setModal(False)
    if new:
        picker.setAcceptMode(QFileDialog.AcceptMode.AcceptSave)
        picker.selectFile(start)
    else:
        picker.setFileMode(QFileDialog.FileMode.ExistingFile)
    picker.fileSelected.connect(lambda name: chosen(Path(name)))
    picker.show()
    return picker
