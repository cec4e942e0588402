"""The units that datasheets mostly print, known without the units package.

That package takes half a second to load; a project whose entries are written in these units
opens without it. A test holds each row against the package.
"""

import math

_RPM = math.tau / 60.0

# By the SI unit they are counted in: what one of each is worth.
PLAIN: dict[str, dict[str, float]] = {
    "ohm": {"ohm": 1.0, "mohm": 1e-3, "kohm": 1e3},
    "H": {"H": 1.0, "mH": 1e-3, "uH": 1e-6, "nH": 1e-9},
    "Wb": {"Wb": 1.0, "mWb": 1e-3, "uWb": 1e-6},
    "A": {"A": 1.0, "mA": 1e-3, "kA": 1e3},
    "V": {"V": 1.0, "mV": 1e-3, "kV": 1e3},
    "rad/s": {"rad/s": 1.0, "rpm": _RPM, "krpm": 1e3 * _RPM},
    "Hz": {"Hz": 1.0, "kHz": 1e3, "MHz": 1e6},
    "s": {"s": 1.0, "ms": 1e-3, "us": 1e-6, "ns": 1e-9},
    "kg*m**2": {"kg m2": 1.0, "kg cm2": 1e-4, "g m2": 1e-3, "g cm2": 1e-7, "kg mm2": 1e-6},
    "rad": {"rad": 1.0, "deg": math.pi / 180.0, "mrad": 1e-3},
    "V*s/rad": {"V/krpm": 1e-3 / _RPM, "V/rpm": 1.0 / _RPM, "mV/rpm": 1e-3 / _RPM,
                "V s/rad": 1.0, "Vs/rad": 1.0, "mV s/rad": 1e-3},
    "rad/(V*s)": {"rpm/V": _RPM},
    "N*m/A": {"N m/A": 1.0, "Nm/A": 1.0, "mN m/A": 1e-3},
    "V/Hz": {"V/Hz": 1.0, "mV/Hz": 1e-3},
}  # fmt: skip
# What those that can say a magnet's flux are made of, as the units package names it.
PARTS: dict[str, dict[str, float]] = {
    "Wb": {"weber": 1}, "mWb": {"milliweber": 1}, "uWb": {"microweber": 1},
    "V/krpm": {"volt": 1, "krpm": -1},
    "V/rpm": {"volt": 1, "revolutions_per_minute": -1},
    "mV/rpm": {"millivolt": 1, "revolutions_per_minute": -1},
    "V s/rad": {"volt": 1, "second": 1, "radian": -1},
    "Vs/rad": {"volt": 1, "second": 1, "radian": -1},
    "mV s/rad": {"millivolt": 1, "second": 1, "radian": -1},
    "rpm/V": {"revolutions_per_minute": 1, "volt": -1},
    "N m/A": {"newton": 1, "meter": 1, "ampere": -1},
    "Nm/A": {"newton": 1, "meter": 1, "ampere": -1},
    "mN m/A": {"millinewton": 1, "meter": 1, "ampere": -1},
    "V/Hz": {"volt": 1, "hertz": -1}, "mV/Hz": {"millivolt": 1, "hertz": -1},
}  # fmt: skip
