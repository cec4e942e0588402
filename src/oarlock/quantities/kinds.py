"""What sorts of quantity there are, their SI units, and what is plausible for each."""

import math
from enum import StrEnum

from oarlock.errors import InputError

RPM = math.tau / 60.0  # rad/s for each rpm


class Kind(StrEnum):
    """What sort of quantity an entry is."""

    RESISTANCE = "resistance"
    INDUCTANCE = "inductance"
    FLUX = "flux"  # flux linkage, or any of the constants that say the same
    CURRENT = "current"
    VOLTAGE = "voltage"
    SPEED = "speed"
    ACCELERATION = "acceleration"
    FREQUENCY = "frequency"
    TIME = "time"
    INERTIA = "inertia"
    POLE_PAIRS = "pole pairs"
    ANGLE = "angle"
    TEMPERATURE = "temperature"
    COUNT = "count"
    BITS = "bits"
    TURNS = "turns"
    FULL_SCALE = "full scale of the current sense"
    DIRECTION = "direction"
    FACTOR = "factor"


UNITS = {
    Kind.RESISTANCE: "ohm",
    Kind.INDUCTANCE: "H",
    Kind.FLUX: "Wb",
    Kind.CURRENT: "A",
    Kind.VOLTAGE: "V",
    Kind.SPEED: "rad/s",
    Kind.ACCELERATION: "rad/s2",
    Kind.FREQUENCY: "Hz",
    Kind.TIME: "s",
    Kind.INERTIA: "kg m2",
    Kind.POLE_PAIRS: "1",
    Kind.ANGLE: "rad",
    Kind.TEMPERATURE: "°C",
    Kind.COUNT: "1",
    Kind.BITS: "1",
    Kind.TURNS: "1",
    Kind.FULL_SCALE: "A",
    Kind.DIRECTION: "1",
    Kind.FACTOR: "1",
}


EXAMPLES = {
    Kind.RESISTANCE: "1.64 ohm l-l",
    Kind.INDUCTANCE: "16.0 mH l-l",
    Kind.FLUX: "82.1 V/krpm l-l",
    Kind.CURRENT: "14.1 A rms",
    Kind.VOLTAGE: "320 V",
    Kind.SPEED: "4000 rpm",
    Kind.ACCELERATION: "300 rad/s2",
    Kind.FREQUENCY: "16 kHz",
    Kind.TIME: "1 us",
    Kind.INERTIA: "69 kg cm2",
    Kind.POLE_PAIRS: "8 poles",
    Kind.ANGLE: "31.4 deg",
    Kind.TEMPERATURE: "20 °C",
    Kind.COUNT: "4096",
    Kind.BITS: "12",
    Kind.TURNS: "12",
    Kind.FULL_SCALE: "40 A peak' or '0.5 mohm, gain 20, 3.3 V, 12 bit",
    Kind.DIRECTION: "forward' or 'reversed",
    Kind.FACTOR: "2.4",
}


# Wider than any machine this is meant for: beyond, it is a slip of the unit or of a digit.
PLAUSIBLE = {
    Kind.RESISTANCE: (1e-4, 1e3),
    Kind.INDUCTANCE: (1e-7, 10.0),
    Kind.FLUX: (1e-5, 50.0),
    Kind.CURRENT: (1e-3, 1e4),
    Kind.VOLTAGE: (1.0, 2e3),
    Kind.SPEED: (0.1, 3e4),
    Kind.ACCELERATION: (1e-3, 1e8),
    Kind.FREQUENCY: (0.01, 1e6),
    Kind.TIME: (1e-9, 1e3),
    Kind.INERTIA: (1e-9, 1e4),
    Kind.POLE_PAIRS: (1, 100),
    Kind.COUNT: (1, 1e9),
    Kind.BITS: (4, 32),
    Kind.TURNS: (0.05, 1e6),
    Kind.FULL_SCALE: (1e-3, 1e4),
    Kind.FACTOR: (1e-6, 1e6),
}


def like(kind: Kind) -> str:
    """Return the remedy that shows how an entry of this kind is written."""
    return f"Write it like '{EXAMPLES[kind]}'"


def refuse_implausible(kind: Kind, value: float, text: str) -> None:
    """Raise `InputError` for a value that no machine of this trade has (NaN included)."""
    if not math.isfinite(value):
        raise InputError(f"'{text}' is not a finite number", remedy=like(kind))
    if kind not in PLAUSIBLE:
        return
    low, high = PLAUSIBLE[kind]
    if not value > 0.0:
        raise InputError(f"'{text}' must be above zero", remedy=like(kind))
    if not low <= value <= high:
        cause = f"'{text}' is {value:.3g} {UNITS[kind]}, outside {low:g} to {high:g}"
        raise InputError(cause, remedy="Check unit and digits")
