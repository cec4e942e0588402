"""The units in which people think of one and the same value: how it is shown, never what it is.

Inside and in files everything stays SI, phase, peak; what is shown always carries its unit.
"""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from oarlock.errors import InputError
from oarlock.quantities.display import digits
from oarlock.quantities.kinds import RPM

SPEED, CURRENT, TORQUE = "speed", "current", "torque"
CHOICES: dict[str, tuple[str, ...]] = {
    SPEED: ("rpm", "rad/s", "Hz el."),
    CURRENT: ("A peak", "A rms"),
    TORQUE: ("N·m", "mN·m", "% of rated"),
}


@dataclass(frozen=True, slots=True)
class Scale:
    """A unit that values are drawn in."""

    per: float  # SI, of one of it
    unit: str

    def number(self, value: float) -> str:
        """Return a value (SI) as a number of the unit, whole where it is large."""
        return plain_number(value / self.per)

    def text(self, value: float) -> str:
        """Return a value (SI) with the unit."""
        return f"{self.number(value)} {self.unit}"


Units = Mapping[str, Scale]  # by the names of the usual ones
USUAL: Units = {"rpm": Scale(RPM, "rpm"), "A": Scale(1.0, "A"), "N·m": Scale(1.0, "N·m")}


@dataclass(frozen=True, slots=True)
class Shown:
    """Which unit is used for each."""

    speed: str = "rpm"
    current: str = "A peak"
    torque: str = "N·m"

    def speed_in(self, value: float, pole_pairs: float | None) -> tuple[float, str]:
        """Return a speed (rad/s, mechanical) in the unit chosen, and that unit.

        Electrical hertz need the pole pairs; without them it is rpm.
        """
        if self.speed == "rad/s":
            return value, "rad/s"
        if self.speed == "Hz el." and pole_pairs:
            return value * pole_pairs / math.tau, "Hz el."
        return value / RPM, "rpm"

    def speed_scale(self, pole_pairs: float | None) -> Scale:
        """Return the unit that speeds are drawn in, over rad/s of the shaft."""
        one, unit = self.speed_in(1.0, pole_pairs)
        return Scale(1.0 / one, unit)

    def speed_scales(self, pole_pairs: float | None) -> tuple[Scale, ...]:
        """Return the units that a speed may be typed in, the one it is shown in first."""
        others = (Shown(speed=unit).speed_scale(pole_pairs) for unit in CHOICES[SPEED])
        return tuple(dict.fromkeys((self.speed_scale(pole_pairs), *others)))

    def torque_scales(self, rated: float | None) -> tuple[Scale, ...]:
        """Return the units that a torque may be typed in, the one it is shown in first."""
        others = (Shown(torque=unit).torque_scale(rated) for unit in CHOICES[TORQUE])
        return tuple(dict.fromkeys((self.torque_scale(rated), *others)))

    def current_scale(self) -> Scale:
        """Return the unit that currents are drawn in; A alone is peak."""
        return Scale(math.sqrt(2.0), "A rms") if self.current == "A rms" else Scale(1.0, "A")

    def torque_scale(self, rated: float | None) -> Scale:
        """Return the unit that torques are drawn in; per cent need the rated torque (N·m)."""
        if self.torque == "mN·m":
            return Scale(1e-3, "mN·m")
        if self.torque == "% of rated" and rated:
            return Scale(0.01 * rated, "% of rated")
        return Scale(1.0, "N·m")

    def current_in(self, value: float) -> tuple[float, str]:
        """Return a current (A, peak) in the unit chosen, and that unit."""
        if self.current == "A rms":
            return value / math.sqrt(2.0), "A rms"
        return value, "A peak"


def chosen(kept: dict[str, str]) -> Shown:
    """Return the units that were chosen; what is not known is the usual one."""
    usual = Shown()
    speed, current = kept.get(SPEED, usual.speed), kept.get(CURRENT, usual.current)
    torque = kept.get(TORQUE, usual.torque)
    return Shown(
        speed=speed if speed in CHOICES[SPEED] else usual.speed,
        current=current if current in CHOICES[CURRENT] else usual.current,
        torque=torque if torque in CHOICES[TORQUE] else usual.torque,
    )


def after(what: str, unit: str) -> str:
    """Return the unit that follows one, round and round."""
    choices = CHOICES[what]
    return choices[(choices.index(unit) + 1) % len(choices)] if unit in choices else choices[0]


def typed_in(text: str, scales: Sequence[Scale]) -> float:
    """Return a value (SI) as it was typed: in the unit beside it, else in the first of `scales`.

    Raises
    ------
    InputError : no number, or none that is finite

    """
    plain, per = text.replace("−", "-").strip(), scales[0].per
    for scale in sorted(scales, key=lambda one: -len(one.unit)):  # mN·m ends with N·m
        if plain.endswith(scale.unit):
            plain, per = plain.removesuffix(scale.unit).strip(), scale.per
            break
    try:
        value = float(plain) * per
    except ValueError as error:
        units = ", ".join(scale.unit for scale in scales)
        raise InputError(f"'{text}' is not a number", remedy=f"Units here: {units}") from error
    if not math.isfinite(value):
        raise InputError(f"{text} is not finite")
    return value


def plain_number(value: float) -> str:
    """Return a number of three figures, whole where it is large."""
    return f"{value:.0f}" if abs(value) >= 999.5 else digits(value, 3)
