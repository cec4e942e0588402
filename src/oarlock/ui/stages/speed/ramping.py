"""The ramp of speed on the Speed loop stage: its numbers, its plot, and the axis's own."""

from collections.abc import Callable

from oarlock.errors import InputError
from oarlock.experiments.loops.ramp_response import RampResult
from oarlock.experiments.loops.speed_ramp import SpeedRamp
from oarlock.machine import Axis
from oarlock.quantities.display import digits
from oarlock.session.session import Session
from oarlock.ui.kit import units
from oarlock.ui.kit.buttons import link_button
from oarlock.ui.kit.numbers import GivenRow, Panel
from oarlock.ui.stages.speed.measured import Measured
from oarlock.ui.stages.speed.pictures import PushPlot
from oarlock.ui.stages.speed.ramp_pictures import RampPlot
from oarlock.views.screen import RAMP
from oarlock.views.speed import SpeedPicture
from oarlock.views.speed_ramp import (
    LABELS,
    RampPicture,
    ahead_of,
    is_ramp,
    ramp_picture,
    ramp_texts,
    settled_ramp,
    with_ahead,
    with_number,
    with_ramp,
)

Edit = Callable[[str, Callable[[], Axis]], None]


class Ramping:
    """Shown while the test that is set is a ramp."""

    def __init__(
        self, panel: Panel, session: Session, measured: Measured, edit: Edit,
        in_use: Callable[[], Axis], changed: Callable[[], None], tell: Callable[[str], None],
    ) -> None:  # fmt: skip
        self._session, self._edit, self._in_use = session, edit, in_use
        self._found = measured
        self._changed, self._tell = changed, tell
        self.shown: RampPicture | None = None
        self.plot = RampPlot()
        self._block = panel.block("The ramp", "there and back")
        self.rows: dict[str, GivenRow] = {}
        for name, label in LABELS.items():
            row = self.rows[name] = GivenRow(label, "", choice=False)
            row.given.connect(lambda text, n=name: self._set(n, text))
            self._block.add(row)
        self.ahead = GivenRow("Torque ahead", "× J", choice=False)
        self.ahead.setToolTip("Share of the acceleration's torque that is fed ahead of the error")
        self.ahead.given.connect(self._feed)
        self._block.add(self.ahead)
        self.keep = link_button("")
        self.keep.setToolTip("Acceleration and jerk time that the firmware is to change speed with")
        self.keep.clicked.connect(self._keep)
        self._block.add(self.keep)

    @property
    def active(self) -> bool:
        """Whether the test that is set is a ramp."""
        return self._session.screen.speed.kind == RAMP

    def hide(self) -> None:
        """Show nothing of it: there is no loop that it could be played with."""
        self._block.hide()
        self.plot.hide()

    def refresh(self, shown: SpeedPicture, push: PushPlot) -> None:
        """Show the ramp with the loop on screen, and what was measured of it; or nothing."""
        self._block.setVisible(self.active)
        self.plot.setVisible(self.active)
        self.shown = None
        if not self.active:
            return
        axis, settings = self._session.axis, self._found.settings()
        test = settled_ramp(settings, axis)
        for name, (text, unit) in ramp_texts(test.ramp, units.speeds()).items():
            self.rows[name].show_unit(unit)
            self.rows[name].show_value(text, chosen=False)
        try:
            self.shown = ramp_picture(axis, settings)
        except InputError as error:
            self.plot.hide()
            self._tell(f"{error.cause[:1].upper()}{error.cause[1:]}. {error.remedy}.")
            return
        when, result = self._measured(test)
        self.plot.show_ramp(self.shown, result, when)
        self.plot.show_trail(self._found.ramps_before())
        push.show_push(self.shown.t, self.shown.push, self.shown.limit, result, 1.0)
        share = ahead_of(axis, shown.gains)
        self.ahead.show_value("–" if share is None else digits(share, 2), chosen=False)
        kept = is_ramp(axis, test)
        self.keep.setText("is the axis's ramp, handed over" if kept else "make it the axis's ramp")
        self.keep.setEnabled(not kept)

    def said(self) -> tuple[str, str]:
        """Return what the stage says of it."""
        assert self.shown is not None
        first, second = self.shown.reasons
        _, result = self._measured(self.shown.test)
        if result is not None and not result.holds:
            second = f"{next(check for check in result.checks if not check.passed).sentence}."
        return first, second

    def _measured(self, test: SpeedRamp) -> tuple[str, RampResult | None]:
        """Return what was measured of this ramp with these gains, and when."""
        when, run, result = self._found.ramp()
        if result is None or result.ramp != test.ramp:
            return "", None
        same = run is None or run.settings.get("speed") == test.speed
        return (when, result) if same else ("", None)

    def _set(self, name: str, text: str) -> None:
        """Take a number of the ramp."""
        try:
            settings = with_number(self._session.screen.speed, name, text, units.speeds())
        except InputError as error:
            self._tell(str(error.cause))
            return
        self._tell("")
        self._session.show(speed=settings)
        self._changed()

    def _feed(self, text: str) -> None:
        self._edit("Set the torque ahead", lambda: with_ahead(self._in_use(), text))

    def _keep(self) -> None:
        """Make the test's ramp the axis's own."""
        shown = self.shown
        if shown is not None:
            self._edit("Change speed by this ramp",
                       lambda: with_ramp(self._session.axis, shown.test))  # fmt: skip
