"""Where words stand in a picture."""

import pytest
from PySide6.QtCore import QRectF
from PySide6.QtGui import QColor, QPainter

from oarlock.ui.kit import theme as look
from oarlock.ui.kit.paint import text_width

_SHARE = {"left": 0.0, "center": 0.5, "right": 1.0}  # of its width that lies left of its place


def written(
    monkeypatch: pytest.MonkeyPatch, pictures: str, *, every: list[tuple[str, QRectF]] | None = None
) -> dict[str, QRectF]:
    """Return, as a module of `ui.stages` paints it, each text with the box of its digits, px.

    Parameters
    ----------
    every : filled in with each text and its box, those too that are written more than once

    """
    boxes: dict[str, QRectF] = {}

    def noted(_p: QPainter, x: float, y: float, text: str, *_a: QColor, **how: str) -> float:
        size = int(how.get("size", look.BODY))
        width, height = text_width(text, size, bold=bool(how.get("bold"))), 0.75 * size
        left = x - _SHARE[how.get("align", "left")] * width
        boxes[text] = QRectF(left, y - height, width, height)
        if every is not None:
            every.append((text, boxes[text]))
        return width

    monkeypatch.setattr(f"oarlock.ui.stages.{pictures}.draw_text", noted)
    return boxes
