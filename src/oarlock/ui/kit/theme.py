"""Colours, fonts and sizes, light and dark."""

import importlib.resources
from dataclasses import dataclass
from functools import cache

from PySide6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PySide6.QtWidgets import QApplication


@dataclass(frozen=True, slots=True, kw_only=True)
class Theme:
    """One palette by role."""

    ground: QColor
    panel: QColor
    ink: QColor
    muted: QColor
    accent: QColor
    attention: QColor
    stop: QColor
    q: QColor
    d: QColor
    speed: QColor
    torque: QColor
    grid: QColor
    rule: QColor
    wash: QColor  # behind what is selected
    on_accent: QColor  # text on accent and stop
    halo: QColor


def _theme(**colors: str) -> Theme:
    return Theme(**{name: QColor(value) for name, value in colors.items()})


LIGHT = _theme(
    ground="#F6F4EE", panel="#FFFFFF", ink="#1E2A32", muted="#5D6B74", accent="#0B6E75",
    attention="#9A5300", stop="#B3261E", q="#1D69A8", d="#7A4FA3", speed="#2A7448",
    torque="#7F6400", grid="#E6E4DD", rule="#CFCCC2", wash="#E3EEED", on_accent="#FFFFFF",
    halo="#FFFFFF",
)  # fmt: skip
DARK = _theme(
    ground="#12181D", panel="#1A2229", ink="#E4E9EC", muted="#93A1AA", accent="#43B5BC",
    attention="#F0A94A", stop="#FF6B5E", q="#6AB0EA", d="#BE9BE3", speed="#74C795",
    torque="#D9BE5A", grid="#27313A", rule="#3A4650", wash="#1D3337", on_accent="#12181D",
    halo="#1A2229",
)  # fmt: skip

_active = LIGHT

# Sizes at 1280x800, px.
TOP_BAR, STRIP, LOGBOOK = 40, 124, 104
RAIL, NUMBERS, MARGIN, GUTTER = 160, 248, 16, 8
NARROW = 1200  # below this width the numbers become a drawer, and the strip takes its room
SMALL, BODY, FIGURE, NAME, ANSWER, READ_OUT = 12, 13, 14, 15, 20, 24


def theme() -> Theme:
    """Return the palette in use."""
    return _active


def choose(dark: bool) -> None:
    """Use the light or the dark palette from now on, application-wide."""
    global _active
    _active = DARK if dark else LIGHT
    t, palette = _active, QPalette()
    roles = {
        QPalette.ColorRole.Window: t.ground,
        QPalette.ColorRole.WindowText: t.ink,
        QPalette.ColorRole.Base: t.panel,
        QPalette.ColorRole.AlternateBase: t.ground,
        QPalette.ColorRole.Text: t.ink,
        QPalette.ColorRole.Button: t.panel,
        QPalette.ColorRole.ButtonText: t.ink,
        QPalette.ColorRole.Highlight: t.wash,
        QPalette.ColorRole.HighlightedText: t.ink,
        QPalette.ColorRole.ToolTipBase: t.panel,
        QPalette.ColorRole.ToolTipText: t.ink,
        QPalette.ColorRole.PlaceholderText: t.muted,
        QPalette.ColorRole.Link: t.accent,
        QPalette.ColorRole.Mid: t.rule,
        QPalette.ColorRole.Midlight: t.grid,
        QPalette.ColorRole.Dark: t.muted,
        QPalette.ColorRole.Light: t.panel,
    }
    for role, color in roles.items():
        palette.setColor(role, color)
    palette.setColor(QPalette.ColorGroup.Disabled, QPalette.ColorRole.Text, t.muted)
    palette.setColor(QPalette.ColorGroup.Disabled, QPalette.ColorRole.ButtonText, t.muted)
    QApplication.setPalette(palette)


def load_fonts() -> None:
    """Make the shipped typeface known to Qt."""
    folder = importlib.resources.files("oarlock.ui.kit") / "fonts"
    for file in folder.iterdir():
        if file.name.endswith(".otf"):
            QFontDatabase.addApplicationFontFromData(file.read_bytes())
    QApplication.setFont(font(BODY))


@cache
def font(
    size: int = BODY, *, bold: bool = False, italic: bool = False, mono: bool = False
) -> QFont:
    """Return the interface's typeface with tabular figures, `size` in px."""
    made = QFont("Inter")
    if mono:
        made = QFont(["DejaVu Sans Mono", "Liberation Mono", "monospace"])
        made.setStyleHint(QFont.StyleHint.Monospace)
    else:
        made.setFeature(QFont.Tag("tnum"), 1)
    made.setPixelSize(size)
    made.setWeight(QFont.Weight.DemiBold if bold else QFont.Weight.Normal)
    made.setItalic(italic)
    made.setHintingPreference(QFont.HintingPreference.PreferNoHinting)
    return made


def faded(color: QColor, alpha: int) -> QColor:
    """Return `color` with an opacity of `alpha` of 255."""
    made = QColor(color)
    made.setAlpha(alpha)
    return made
