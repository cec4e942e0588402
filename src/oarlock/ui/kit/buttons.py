"""Buttons in the house's style."""

from PySide6.QtWidgets import QHBoxLayout, QPushButton, QWidget

from oarlock.ui.kit import theme as look


def button(text: str, *, primary: bool = False, tip: str = "") -> QPushButton:
    """Return a button in the house's style."""
    t = look.theme()
    made = QPushButton(text)
    made.setFont(look.font(look.BODY, bold=primary))
    made.setToolTip(tip)
    back, ink = (t.accent, t.on_accent) if primary else (t.panel, t.ink)
    made.setStyleSheet(
        f"QPushButton {{ background: {back.name()}; color: {ink.name()}; padding: 4px 12px;"
        f" border: 1px solid {(t.accent if primary else t.ink).name()}; }}"
        f"QPushButton:focus {{ border: 2px solid {t.ink.name()}; padding: 3px 11px; }}"
        f"QPushButton:checked {{ background: {t.wash.name()}; border: 2px solid {t.accent.name()};"
        f" padding: 3px 11px; }}"
        f"QPushButton:hover {{ border-color: {t.accent.name()}; }}"
        f"QPushButton:disabled {{ background: {t.ground.name()}; color: {t.muted.name()};"
        f" border: 1px dashed {t.muted.name()}; }}"
    )
    return made


def small_button(text: str, says: str) -> QPushButton:
    """Return a button of one sign, for a row; `says` tells what it does."""
    t = look.theme()
    made = QPushButton(text)
    made.setFont(look.font(look.NAME))
    made.setToolTip(says)
    made.setAccessibleName(says)
    made.setStyleSheet(
        f"QPushButton {{ background: transparent; color: {t.muted.name()}; border: none; }}"
        f"QPushButton:focus {{ border: 1px solid {t.ink.name()}; }}"
        f"QPushButton:hover {{ color: {t.accent.name()}; }}"
    )
    return made


def link_button(text: str) -> QPushButton:
    """Return a button that looks like a link."""
    made = QPushButton(text)
    made.setFlat(True)
    made.setFont(look.font(look.SMALL))
    made.setStyleSheet(
        f"QPushButton {{ color: {look.theme().accent.name()}; text-align: left; border: 0;"
        f" padding: 2px 0; }} QPushButton:focus {{ text-decoration: underline; }}"
    )
    return made


def row_of(widgets: list[QWidget]) -> QWidget:
    """Return widgets in a row, to the left."""
    holder = QWidget()
    layout = QHBoxLayout(holder)
    layout.setContentsMargins(0, 2, 0, 2)
    layout.setSpacing(6)
    for widget in widgets:
        layout.addWidget(widget)
    layout.addStretch(1)
    return holder
