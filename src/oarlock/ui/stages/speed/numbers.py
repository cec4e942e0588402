"""The numbers of the speed loop: given, gains, filters, what it costs, what it rests on."""

import math
from collections.abc import Callable
from functools import partial
from typing import Protocol

from PySide6.QtWidgets import QLabel, QWidget

from oarlock.control.speed_design import speed_target
from oarlock.machine import Axis
from oarlock.machine.filters import Filter, FilterKind
from oarlock.machine.parameter import Parameter
from oarlock.quantities.display import digits, with_std
from oarlock.ui.kit import theme as look
from oarlock.ui.kit import units
from oarlock.ui.kit.buttons import button, link_button, row_of, small_button
from oarlock.ui.kit.numbers import Block, GivenRow, Panel, Row
from oarlock.ui.stages.speed.filter_edits import FilterEdits
from oarlock.views.speed import SpeedPicture
from oarlock.views.speed_asked import (
    MOST_FILTERS,
    OFF,
    OPTION_LABELS,
    TARGET_LABELS,
    aim_of,
    offered_friction,
    option_texts,
    target_texts,
)

_INNER = look.NUMBERS - 2 * look.MARGIN
_GAINS = {
    "Kp": ("K~p~", "A·s/rad", "A for each rad/s of error"),
    "Ki": ("K~i~", "A/rad", "A for each rad of error's integral"),
    "weight": ("Weight", "", "Share of the speed asked for in the proportional part:\n"
               "less overshoots less, and changes neither margins nor stiffness"),
}  # fmt: skip
AIM_NAMES = ("calm", "even", "keen")


class Giving(Protocol):
    """What the panel asks its stage for."""

    def aim(self, name: str) -> None:
        """Take an aim."""

    def give(self, name: str, text: str) -> None:
        """Take a figure that was typed."""

    def set_gain(self, name: str, text: str) -> None:
        """Take a gain that was typed."""

    def set_option(self, name: str, text: str) -> None:
        """Take an option of the controller that was typed."""

    def observe(self, on: bool) -> None:
        """Have a load observer in place of the integral, or the other way round."""

    def use_shaft(self) -> None:
        """Take the shaft that a sweep showed."""


class SpeedNumbers:
    """Fills the panel and keeps it."""

    def __init__(self, panel: Panel, stage: Giving, filters: FilterEdits) -> None:
        self._stage, self._edits = stage, filters
        given = panel.block("You give", "an aim, or one number")
        self.aims = {name: button(name) for name in AIM_NAMES}
        given.add(row_of(list(self.aims.values())))
        for name, one in self.aims.items():
            one.setCheckable(True)
            one.setToolTip(f"The stiffest loop with the margins of '{name}'")
            one.clicked.connect(lambda _on, n=name: stage.aim(n))
        self.given: dict[str, GivenRow] = {}
        for name, (label, unit, _) in TARGET_LABELS.items():
            row = GivenRow(label, unit)
            row.given.connect(lambda text, n=name: stage.give(n, text))
            self.given[name] = row
            given.add(row)
        self._message = QLabel()
        self._message.setWordWrap(True)
        self._message.setFont(look.font(look.SMALL))
        self._message.setStyleSheet(f"color: {look.theme().attention.name()}")
        self._message.hide()
        given.add(self._message)
        gains = panel.block("Gains", "parallel PI")
        self.gains: dict[str, GivenRow] = {}
        for name, (label, unit, told) in _GAINS.items():
            row = self.gains[name] = GivenRow(label, unit, choice=False)
            row.setToolTip(told)
            row.given.connect(lambda text, n=name: stage.set_gain(n, text))
            gains.add(row)
        self._make_options(gains)
        self._filters = panel.block("Filters", "of the torque")
        self.filter_rows: list[QWidget] = []
        self._listed: tuple[FilterKind, ...] | None = None
        self.entries: list[dict[str, GivenRow]] = []
        self.add_notch, self.add_low_pass = button("+ notch"), button("+ low pass")
        self.add_notch.clicked.connect(lambda: filters.add(FilterKind.NOTCH))
        self.add_low_pass.clicked.connect(lambda: filters.add(FilterKind.LOW_PASS))
        self._filters.add(row_of([self.add_notch, self.add_low_pass]))
        self._make_rest(panel)
        panel.finish()

    def _make_rest(self, panel: Panel) -> None:
        cost = panel.block("It costs", "all derived")
        self._Ms = cost.row("Sensitivity M~s~", "Largest |1/(1+L)|; 1/distance of L from −1")
        self._ripple = cost.row("Ripple", "Current that the steps of the sensor make, rms")
        self._linear = cost.row("Linear up to", "Beyond, the current limit shapes the step")
        rests = panel.block("It rests on")
        self._J, self._shaft = rests.row("J"), rests.row("Shaft at")
        self.take_shaft = link_button("")
        self.take_shaft.setToolTip("Resonance, anti-resonance and damping; the inertia stays")
        self.take_shaft.clicked.connect(self._stage.use_shaft)
        self.take_shaft.hide()
        rests.add(self.take_shaft)

    def _make_options(self, gains: Block) -> None:
        self.options: dict[str, GivenRow] = {}
        for name, (label, unit, _, told) in OPTION_LABELS.items():
            row = self.options[name] = GivenRow(label, unit, choice=False)
            row.setToolTip(told)
            row.given.connect(lambda text, n=name: self._stage.set_option(n, text))
            gains.add(row)
        self.take_friction, self.observe = link_button(""), link_button("")
        self.take_friction.clicked.connect(
            lambda: self._stage.set_option("friction", f"{self._friction:.4g}")
        )
        self.observe.clicked.connect(lambda: self._stage.observe(not self._observing))
        gains.add(self.observe)
        gains.add(self.take_friction)

    def offer_shaft(self, measured: str) -> None:
        """Offer the resonance of the newest sweep, or nothing."""
        self.take_shaft.setText(f"use {measured} of the sweep")
        self.take_shaft.setVisible(bool(measured))

    def say(self, text: str) -> None:
        """Show why what was given cannot be, or nothing."""
        self._message.setText(text)
        self._message.setVisible(bool(text))

    def show_numbers(self, shown: SpeedPicture, axis: Axis) -> None:
        """Show a state of the loop."""
        target, texts = speed_target(axis), target_texts(shown, axis, units.speed())
        aim = aim_of(target) if shown.follows else ""
        for name, one in self.aims.items():
            one.setChecked(name == aim)
        for name, row in self.given.items():
            chosen = shown.follows and not aim and getattr(target, name) is not None
            row.show_value(texts[name], chosen=chosen)
        self.given["dip"].show_unit(units.speed().unit)
        for name, row in self.gains.items():
            row.show_value(digits(getattr(shown.gains, name), 3), chosen=False)
        for name, text in option_texts(shown.gains).items():
            self.options[name].show_value(text, chosen=False)
            self.options[name].show_unit("" if text == OFF else OPTION_LABELS[name][1])
        self._observing = shown.gains.observer > 0.0
        self.observe.setText(
            "Ki in place of the observer" if self._observing else "load observer in place of Ki"
        )
        self._friction = offered_friction(axis, shown.gains)
        self.take_friction.setText(f"use {digits(self._friction, 2)} A of Identify")
        self.take_friction.setVisible(self._friction > 0.0)
        self._show_filters(shown.filters)
        self._Ms.show_value(digits(shown.margins.Ms, 3))
        self._ripple.show_value(digits(shown.ripple, 2), "A rms",
                                color="attention" if shown.shakes else "ink")  # fmt: skip
        speed = units.speed()
        self._linear.show_value(digits(shown.linear_up_to / speed.per, 3), speed.unit,
                                color="attention" if shown.shaped
                                else "ink")  # fmt: skip
        _show(self._J, axis.machine.inertia, 1e3, "g·m²")
        twists = shown.loop.plant.shaft.twists
        _show(self._shaft, axis.mechanics.resonance if twists else None, 1.0 / math.tau, "Hz",
              "rigid")  # fmt: skip

    def _show_filters(self, filters: tuple[Filter, ...]) -> None:
        kinds = tuple(one.kind for one in filters)
        if kinds != self._listed:
            self._listed = kinds
            self._make_filters(filters)
        for one, entries in zip(filters, self.entries, strict=True):
            entries["frequency"].show_value(digits(one.frequency / math.tau, 3), chosen=False)
            if "depth" in entries:
                depth = digits(20.0 * math.log10(max(one.depth, 1e-6)), 2)
                entries["depth"].show_value(depth, chosen=False)
                entries["width"].show_value(digits(one.width, 2), chosen=False)
        self.add_notch.setEnabled(len(filters) < MOST_FILTERS)
        self.add_low_pass.setEnabled(len(filters) < MOST_FILTERS)

    def _make_filters(self, filters: tuple[Filter, ...]) -> None:
        for row in self.filter_rows:
            self._filters.remove(row)
            row.deleteLater()
        self.filter_rows, self.entries = [], []
        for number, one in enumerate(filters):
            notch = one.kind is FilterKind.NOTCH
            wanted = {"frequency": ("Notch" if notch else "Low pass", "Hz")}
            if notch:
                wanted |= {"depth": ("  depth", "dB"), "width": ("  width", "of it")}
            made = {}
            for name, (label, unit) in wanted.items():
                row = GivenRow(label, unit, choice=False)
                row.given.connect(partial(self._edits.change, number, name))
                made[name] = row
                self._put(row)
            drop = small_button("×", "Take this filter away")
            drop.clicked.connect(_calling(self._edits.drop, number))
            drop.setParent(made["frequency"])
            drop.setGeometry(_INNER - 24, 1, 22, 20)
            self.entries.append(made)

    def _put(self, widget: QWidget) -> None:
        above = self.filter_rows[-1] if self.filter_rows else None
        if above is None:
            _insert_first(self._filters, widget)
        else:
            self._filters.put_below(widget, above)
        self.filter_rows.append(widget)


def _calling(what: Callable[[int], None], number: int) -> Callable[[], None]:
    return lambda: what(number)


def _insert_first(block: Block, widget: QWidget) -> None:
    """Put a widget below the block's heading."""
    block.put_below(widget, block.heading)


def _show(row: Row, parameter: Parameter | None, scale: float, unit: str,
          none: str = "not known") -> None:  # fmt: skip
    if parameter is None or parameter.value == 0.0:
        row.show_value(none)
        return
    best = parameter.best
    std = best.std * scale if best.std else None
    number, plus, shown = with_std(best.value * scale, std, "")
    row.show_value(number, unit, f"±{plus}" if plus else "", best.origin)
    row.show_tip(f"{best.origin.value}: {best.source}{shown}")
