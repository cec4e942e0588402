"""A ramp of speed over time: asked, predicted, measured, and by how much it lags."""

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QPainter

from oarlock.experiments.loops.ramp_response import RampResult
from oarlock.quantities.display import digits
from oarlock.ui.kit import theme as look
from oarlock.ui.kit import units
from oarlock.ui.kit.paint import arrow, draw_text
from oarlock.ui.kit.plot import Plot, Trail, linear_ticks
from oarlock.views.speed_ramp import RampPicture

_CIRCLES = 90


class RampPlot(Plot):
    """Stands where the answer to a step does, while the test is a ramp."""

    def __init__(self) -> None:
        super().__init__(left=56, right=8, top=4, bottom=2, name="Answer to a ramp of speed")
        t = look.theme()
        self._asked = self.curve(t.ink, 1.2, Qt.PenStyle.DashLine)
        self._predicted = self.curve(t.speed, 2.2)
        self._measured = self.points(t.speed, 4.0)
        self._trail = Trail(self, t.speed)
        self._shown: RampPicture | None = None
        self._result: RampResult | None = None
        self._when = ""
        self.over(self._annotate)

    def show_ramp(self, shown: RampPicture, result: RampResult | None, when: str) -> None:
        """Show a prediction, and what was measured of the same ramp with the same gains."""
        self._shown, self._result, self._when = shown, result, when
        scale, span, size = units.speed(), float(shown.t[-1]), shown.test.amplitude
        self._asked.show(shown.t, shown.asked / scale.per)
        if shown.stable:
            self._predicted.show(shown.t, shown.speed / scale.per)
        else:
            self._predicted.clear()
        if result is None:
            self._measured.clear()
        else:
            keep = result.t <= span
            stride = max(int(np.sum(keep)) // _CIRCLES, 1)
            self._measured.show(result.t[keep][::stride],
                            result.speed[keep][::stride] / scale.per,
                            look.theme().speed)  # fmt: skip
        low, high = sorted((-0.15 * size / scale.per, 1.35 * size / scale.per))
        ticks = linear_ticks(low, high, 3)
        if ticks:
            ticks[-1] = (ticks[-1][0], f"{ticks[-1][1]} {scale.unit}")
        self.set_x(-0.05 * span, span, [(v, "") for v, _ in linear_ticks(0.0, span, 4)])
        self.set_y(low, high, ticks)
        self.refresh()

    def show_trail(self, results: list[RampResult]) -> None:
        """Draw the answers before the newest, the older the fainter."""
        self._trail.show([(one.t, one.speed / units.speed().per) for one in results])

    def _annotate(self, p: QPainter) -> None:
        shown, t = self._shown, look.theme()
        if shown is None:
            return
        if not shown.stable:
            draw_text(p, self.area.left() + 12, self.area.top() + 18, "It would swing up.",
                      t.attention, size=look.FIGURE, halo=t.halo)  # fmt: skip
            return
        per, unit = units.speed().per, units.speed().unit
        side = 1.0 if shown.test.amplitude > 0.0 else -1.0
        at = int(np.argmax(side * (shown.asked - shown.speed)))
        x = self.px(float(shown.t[at]))
        arrow(p, x, self.py(shown.asked[at] / per), x, self.py(shown.speed[at] / per), t.ink)
        found = self._result.measured if self._result else None
        color = t.attention if shown.runs_out else t.ink
        beyond = "more than " if shown.runs_out else ""
        lines = [
            ("lags", shown.figures.behind, found.behind if found else None),
            ("past the end", shown.figures.beyond, found.beyond if found else None),
        ]
        for n, (word, planned, seen) in enumerate(lines):
            also = f", measured {digits(seen / per, 2)}" if seen is not None else ""
            draw_text(p, self.area.right() - 4, self.py(0.5 * shown.test.amplitude / per) + 18 * n,
                      f"{word} {beyond}**{digits(planned / per, 2)} {unit}**{also}", color,
                      size=look.FIGURE, align="right", halo=t.halo)  # fmt: skip
        if self._result is not None:
            draw_text(p, self.area.right() - 4, self.py(0.0) - 6, f"circles: {self._when}", t.speed,
                      size=look.SMALL, align="right", halo=t.halo)  # fmt: skip
