"""Edits of the speed loop's filters: put in, moved, changed, taken away; the gains follow."""

import math
from collections.abc import Callable
from dataclasses import replace
from typing import Protocol

from oarlock.control.speed_design import speed_gains, speed_target
from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.machine.filters import FilterKind
from oarlock.machine.speed_loop import KEY
from oarlock.session.session import Session
from oarlock.views.speed import SpeedPicture, designed, worked_at
from oarlock.views.speed_asked import new_low_pass, new_notch, with_filters
from oarlock.views.speed_base import LOWEST
from oarlock.views.typed_gains import typed

_DEPTH = "A depth is below 0 dB, the rest above 0"


class Showing(Protocol):
    """The stage: what it shows, and how an edit is made and refused."""

    shown: SpeedPicture | None

    def edit(self, label: str, make: Callable[[], Axis]) -> None:
        """Make an edit; what cannot be is said in place."""

    def tell(self, text: str) -> None:
        """Show why something cannot be, or nothing."""


class FilterEdits:
    """What buttons, entries and handles do to the filters."""

    def __init__(self, session: Session, stage: Showing) -> None:
        self._session, self._stage = session, stage

    def add(self, kind: FilterKind) -> None:
        """Put a filter into the torque path; the loop is designed anew round it."""
        axis, shown = self._session.axis, self._stage.shown
        if shown is None:
            return
        notch = kind is FilterKind.NOTCH
        made = new_notch(axis) if notch else new_low_pass(shown)
        filters = (*shown.filters, made)
        self._stage.edit(f"Add a {'notch' if notch else 'low pass'}",
                         lambda: self._redesigned(with_filters(axis, filters)))  # fmt: skip

    def drag(self, number: int, hertz: float) -> None:
        """Follow a filter's handle: its frequency, and gains that follow where they did before."""
        axis, shown = self._session.axis, self._stage.shown
        if shown is None or number >= len(shown.filters):
            return
        filters = list(shown.filters)
        held = min(max(hertz, 0.5 * LOWEST), 0.9 * shown.nyquist)
        filters[number] = replace(filters[number], frequency=math.tau * held)
        try:
            moved = self._redesigned(with_filters(axis, tuple(filters)))
        except InputError as error:
            self._stage.tell(f"{error.cause}. {error.remedy}")
            return
        self._stage.tell("")
        self._session.drag(moved, KEY)

    def end_drag(self) -> None:
        """Make a filter's drag one edit."""
        self._session.end_drag("Move a filter")

    def change(self, number: int, name: str, text: str) -> None:
        """Take a number of a filter that was typed."""
        axis, shown = self._session.axis, self._stage.shown
        if shown is None:
            return

        def made() -> Axis:
            value = typed(text, "Hz", "dB")
            si = {"frequency": value * math.tau, "depth": 10.0 ** (value / 20.0), "width": value}
            if value > 0.0 if name == "depth" else value <= 0.0:
                raise InputError(f"a {name} of {text}", remedy=_DEPTH)
            filters = list(shown.filters)
            filters[number] = replace(filters[number], **{name: si[name]})
            return self._redesigned(with_filters(axis, tuple(filters)))

        self._stage.edit(f"Change the {name} of a filter", made)

    def drop(self, number: int) -> None:
        """Take a filter away; the loop is designed anew without it."""
        axis, shown = self._session.axis, self._stage.shown
        if shown is None:
            return
        filters = tuple(f for n, f in enumerate(shown.filters) if n != number)
        self._stage.edit("Take a filter away",
                         lambda: self._redesigned(with_filters(axis, filters)))  # fmt: skip

    def _redesigned(self, axis: Axis) -> Axis:
        """Return an axis with other filters, its gains following where they did before."""
        shown = self._stage.shown
        if shown is None or not shown.follows or speed_gains(axis) is None:
            return axis
        speed = worked_at(self._session.screen.speed, axis)[0]
        return axis.with_loop_gains(KEY, designed(axis, speed_target(axis), speed))
