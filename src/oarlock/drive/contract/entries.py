"""Every object of the dictionary beyond the standard's own: one row each, made once.

SI, star-equivalent phase, peak, amplitude-invariant dq. `live` ones may be written while the drive
runs: they wait in a shadow set until a commit takes all of them over at one sample.
"""

import math
from dataclasses import dataclass
from enum import Enum

CONTRACT = 5  # version: the revision number of a drive's identity


class Type(Enum):
    """A data type of CiA 301: its code there, and its form for `struct`."""

    I8 = (0x02, "<b")
    I16 = (0x03, "<h")
    U8 = (0x05, "<B")
    U16 = (0x06, "<H")
    U32 = (0x07, "<I")
    REAL32 = (0x08, "<f")
    DOMAIN = (0x0F, "")

    @property
    def code(self) -> int:
        """Its number in CiA 301, table 44."""
        return self.value[0]

    @property
    def form(self) -> str:
        """Its form for `struct`; empty for a block of bytes."""
        return self.value[1]


@dataclass(frozen=True, slots=True, kw_only=True)
class Entry:
    """One object: a parameter, or something that a drive says of itself."""

    name: str
    type: Type
    access: str = "rw"  # ro, rw
    unit: str = ""
    default: float = 0.0
    low: float = 0.0
    high: float = 1e9
    live: bool = False
    at_once: bool = False  # may be written at any time, and needs no commit
    mapped: bool = False  # may stand in a process data object
    meaning: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Group:
    """One index: several entries, or one that has no name of its own."""

    index: int
    name: str
    entries: tuple[Entry, ...]
    meaning: str = ""
    single: bool = False  # the entry stands at sub-index 0

    def sub(self, entry: Entry) -> int:
        """Return the entry's sub-index."""
        return 0 if self.single else self.entries.index(entry) + 1


def _told(name: str, kind: Type, unit: str = "", meaning: str = "", **more: bool) -> Entry:
    return Entry(name=name, type=kind, access="ro", unit=unit, meaning=meaning,
                 mapped=more.get("mapped", True))  # fmt: skip


def _real(name: str, unit: str = "", meaning: str = "", *, low: float = 0.0, high: float = 1e9,
          default: float = 0.0, live: bool = False) -> Entry:  # fmt: skip
    return Entry(name=name, type=Type.REAL32, unit=unit, meaning=meaning, low=low, high=high,
                 default=default, live=live)  # fmt: skip


def _signed(name: str, unit: str = "", meaning: str = "", *, default: float = 0.0,
            live: bool = False) -> Entry:  # fmt: skip
    return _real(name, unit, meaning, low=-1e9, default=default, live=live)


def _count(name: str, meaning: str = "", *, kind: Type = Type.U8, high: float = 255.0,
           low: float = 0.0, default: float = 0.0, live: bool = False) -> Entry:  # fmt: skip
    return Entry(name=name, type=kind, meaning=meaning, low=low, high=high, default=default,
                 live=live)  # fmt: skip


def _block(index: int, name: str, access: str, meaning: str) -> Group:
    entry = Entry(name="", type=Type.DOMAIN, access=access, meaning=meaning)
    return Group(index=index, name=name, entries=(entry,), single=True, meaning=meaning)


def _filter(index: int, name: str, meaning: str) -> Group:
    return Group(index=index, name=name, meaning=meaning, entries=(
        _count("In use", "0 passes everything on, 1 filters", high=1, live=True),
        *(_signed(c, live=True) for c in ("b0", "b1", "b2", "a1", "a2")),
    ))  # fmt: skip


MAX_CHANNELS = 8
GROUPS: tuple[Group, ...] = (
    Group(index=0x2000, name="Drive", meaning="what the drive says of itself", entries=(
        _told("State", Type.U8), _told("Trip", Type.U8), _told("Played", Type.REAL32, "s"),
        _told("Recorded rows", Type.U32), _told("Bus voltage", Type.REAL32, "V"),
        _told("Speed", Type.REAL32, "rad/s"), _told("Current", Type.REAL32, "A"),
        _told("Temperature", Type.I8, "°C"), _told("Counter", Type.U8),
        _told("Angle", Type.REAL32, "rad"), _told("Line 1", Type.I16), _told("Line 2", Type.I16),
        _told("Summed rows", Type.U16, mapped=False),
    )),
    Group(index=0x2001, name="Command", single=True,
          meaning="1 start, 2 stop, 3 clear, 4 commit, 5 put back", entries=(
        _count("", high=5),
    )),
    Group(index=0x2002, name="Facts", meaning="what it is built like", entries=(
        _told("Control frequency", Type.REAL32, "Hz", mapped=False),
        _told("Current full scale", Type.REAL32, "A", mapped=False),
        _told("Converter bits", Type.U8, mapped=False),
        _told("Recorder rows", Type.U32, "", "of 8 channels", mapped=False),
        _told("Table rows", Type.U32, mapped=False),
        _told("Shaft held", Type.U8, "", "1: by a brake", mapped=False),
        _told("PWM frequency", Type.REAL32, "Hz", mapped=False),
        _told("Dead time", Type.REAL32, "s", "0: not known", mapped=False),
        _told("Sensor kind", Type.U8, "", "0 none, 1 encoder, 2 resolver, 3 hall; 255: not known",
              mapped=False),
        _told("Sensor counts", Type.U32, "", "of an encoder, a turn; 0: not known", mapped=False),
        _told("Sensor pole pairs", Type.U8, "", "of a resolver; 0: not known", mapped=False),
        _told("Bus compensation", Type.U8, "", "duty cycles are shares of: 0 the nominal bus, "
              "1 the measured one; 255: not known", mapped=False),
    )),
    Group(index=0x2003, name="Changes", meaning="parameters changed and not yet in force", entries=(
        _told("Pending", Type.U16, "", "written while running, not committed", mapped=False),
        _told("Commits", Type.U16, mapped=False),
        _told("Put back", Type.U16, "", "times that the last good set was taken again",
              mapped=False),
        _told("Unsaved", Type.U16, "", "that differ from the drive's memory", mapped=False),
    )),
    Group(index=0x2010, name="Current controller", entries=(
        _real("Kp d", "V/A", live=True), _real("Ki d", "V/(A·s)", live=True),
        _real("Kp q", "V/A", live=True), _real("Ki q", "V/(A·s)", live=True),
        _count("Decoupling", "1: on", high=1),
        _real("Set-point weight", "", "share of the current asked for in the proportional part",
              high=1.0, default=1.0, live=True),
        _count("Integral rule", "the sum holds of the newest error: 0 all of it, 1 nothing, 2 half",
               high=2),
        _count("Voltage limit", "what the bus gives: 0 to d first, 1 to both in proportion",
               high=1),
    )),
    Group(index=0x2011, name="Speed controller", entries=(
        _real("Kp", "A·s/rad", live=True), _real("Ki", "A/rad", live=True),
        _real("Set-point weight", "", "share of the speed asked for in the proportional part",
              high=1.0, default=1.0, live=True),
        _real("Acceleration", "A·s²/rad", "current for each rad/s² asked for", live=True),
        _count("Divider", "samples of the current loop for each of its own", low=1, default=1),
        _real("Lag", "s", "of the measured speed", high=1.0, default=0.003, live=True),
        _real("Current limit", "A", "0: nine tenths of the experiment's", live=True),
        _count("Anti-windup", "while limited: 0 the integral only moves back, 1 it is set so that "
               "the sum meets the limit", high=1),
        _count("Slope", "samples over which the speed is the slope of the angle; below 3: the "
               "difference over its own sample"),
        _real("Reference share", "", "by which the speed asked for moves in each of its samples; "
              "1: at once", low=1e-6, high=1.0, default=1.0, live=True),
        _real("Friction", "A", "ahead, on the side that the speed asked for has", live=True),
    )),
    Group(index=0x2018, name="Load observer", meaning="all zeros: it rests", entries=(
        _real("Step", "rad/(s·A)", "speed that one ampere makes in a sample of the speed "
              "controller", live=True),
        _real("Speed share", "", "of the speed that it misses, taken into its speed", high=1.0,
              live=True),
        _real("Load gain", "A·s/rad", "of the speed that it misses, taken into its load",
              live=True),
    )),
    Group(index=0x2017, name="Position controller", entries=(
        _real("Kp", "1/s", live=True),
        _real("Speed share", "", "of the profile's speed that is asked for ahead", high=2.0,
              default=1.0, live=True),
        _real("Speed limit", "rad/s", "of what it asks for beyond that; 0: none", live=True),
    )),
    Group(index=0x2012, name="Machine", meaning="for decoupling and torque references", entries=(
        _count("Pole pairs", default=1), _real("Ld", "H"), _real("Lq", "H"), _real("Flux", "Wb"),
    )),
    Group(index=0x2013, name="Position sensor", entries=(
        _count("Kind", "0 none, 1 encoder, 2 resolver, 3 hall", high=3, default=1),
        _real("Counts", "", "a turn"), _real("Pole pairs", "", "of a resolver", low=1, default=1),
        Entry(name="Side", type=Type.I8, low=-1, high=1, default=1, meaning="−1: counts backward"),
        _signed("Zero", "rad", "electrical"), _signed("Sine offset"), _signed("Cosine offset"),
        _real("Sine over cosine", low=0.1, default=1), _signed("Skew", "rad"),
    )),
    Group(index=0x2014, name="Hall table",
          meaning="where each state begins, turning forward; below −9: illegal", entries=tuple(
        _signed(f"State {n}", "rad", default=-10) for n in range(8)
    )),
    Group(index=0x2015, name="Observer", entries=(
        _real("Bandwidth", "rad/s", "of the flux observer; 0: it rests"), _real("Resistance", "Ω"),
    )),
    Group(index=0x2016, name="Current sense", meaning="taken off each reading", entries=(
        _signed("Offset a", "A"), _signed("Offset b", "A"), _signed("Offset c", "A"),
        _count("Unsensed phase", "0 none, 1 a, 2 b, 3 c: made of the others", high=3),
    )),
    Group(index=0x2020, name="Limits",
          meaning="of the experiment; zeros at power-up: nothing is allowed", entries=(
        _real("Current", "A"), _real("Speed", "rad/s"), _real("Travel", "rad"), _real("Time", "s"),
    )),
    Group(index=0x2021, name="Trip levels", entries=(
        _real("Over-current", "A", "of a phase"), _real("Under-voltage", "V", "of the bus"),
        _count("Oscillation", "1: trips where the torque asked for swings wider and wider", high=1),
        _real("Over-voltage", "V", "of the bus; 0: none"),
    )),
    Group(index=0x2030, name="Recorder", entries=(
        _count("Decimation", kind=Type.U16, low=1, high=65535, default=1),
        _count("Average", "1: over a bin", high=1),
        _count("Channels", "how many", low=1, high=MAX_CHANNELS, default=1),
        *(_count(f"Channel {n}") for n in range(1, MAX_CHANNELS + 1)),
        _count("Round", "1: when it is full it goes on over its oldest rows", high=1),
        Entry(name="First row", type=Type.U32, high=4294967295.0, at_once=True,
              meaning="of the window that the trace gives, counted from the start"),
        Entry(name="Rows", type=Type.U16, high=65535.0, at_once=True,
              meaning="of that window, recorded already; 0: all, once the drive has ended"),
    )),
    _block(0x2040, "Step table", "rw", "rows of 18 REAL32, read back after writing"),
    _block(0x2041, "Trace", "ro", "rows of REAL32, one column for each channel"),
    _block(0x2042, "Multisine", "rw", "up to 64 rows of 3 REAL32: Hz, amplitude, phase rad"),
    _block(0x2043, "Sums", "ro", "rows of REAL32, one for each summed row of the step table"),
    _block(0x2044, "Unsaved", "ro", "8 bytes for each parameter that differs from the memory: "
           "index UINT16, sub-index UINT8, 0, saved value REAL32"),
    _block(0x2045, "Parameters", "rw", "8 bytes for each parameter: index UINT16, sub-index UINT8, "
           "0, its value in 4 bytes; read, all of them; written, any, all or none are taken"),
    *(_filter(0x2050 + n, f"Torque filter {n + 1}", "of the torque asked for, current rate")
      for n in range(4)),
    *(_filter(0x2058 + n, f"Speed filter {n + 1}", "of the measured speed, the speed's rate")
      for n in range(2)),
)  # fmt: skip

BY_NAME: dict[str, tuple[Group, Entry]] = {
    f"{group.name}.{entry.name}" if entry.name else group.name: (group, entry)
    for group in GROUPS
    for entry in group.entries
}
BY_PLACE = {(group.index, group.sub(entry)): entry for group, entry in BY_NAME.values()}
NAMES = {(group.index, group.sub(entry)): name for name, (group, entry) in BY_NAME.items()}
# What is set and stays: neither a command nor a block of bytes.
PARAMETERS = tuple(
    name for name, (_, entry) in BY_NAME.items()
    if entry.access == "rw" and entry.type is not Type.DOMAIN and name != "Command"
)  # fmt: skip


def name_at(index: int, sub: int) -> str:
    """Return the name of the object at a place of the dictionary.

    Raises
    ------
    KeyError : nothing is there

    """
    return NAMES[index, sub]


def problem(name: str, value: float) -> str:
    """Return why a drive would not take a value, or nothing."""
    _, entry = BY_NAME[name]
    if not math.isfinite(value):
        return f"{name} is no number"
    if not entry.low <= value <= entry.high:
        return f"{name} = {value:g} {entry.unit}, outside {entry.low:g} to {entry.high:g}"
    return ""
