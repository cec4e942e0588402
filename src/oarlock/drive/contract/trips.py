"""States of a drive, and why it may trip."""

from dataclasses import dataclass

STATES = ("de-energised", "running", "done", "tripped")


@dataclass(frozen=True, slots=True)
class Trip:
    """One reason: its number on the wire, a key for code, words for people."""

    number: int
    key: str
    words: str
    emergency: int = 0xFF00  # code of the emergency frame, CiA 301, table 26


NONE = Trip(0, "", "", 0)
OVER_CURRENT = Trip(1, "over-current", "over-current", 0x2310)
UNDER_VOLTAGE = Trip(2, "under-voltage", "under-voltage", 0x3220)
HEARTBEAT = Trip(3, "heartbeat", "heartbeat lost", 0x8130)
LIMIT_CURRENT = Trip(4, "limit-current", "current above the experiment's limit")
LIMIT_SPEED = Trip(5, "limit-speed", "speed above the experiment's limit")
LIMIT_TRAVEL = Trip(6, "limit-travel", "travel above the experiment's limit")
LIMIT_TIME = Trip(7, "limit-time", "time above the experiment's limit")
RECORDER = Trip(8, "recorder", "recorder full")
OSCILLATION = Trip(9, "oscillation", "the torque asked for swings wider and wider")
OVER_VOLTAGE = Trip(10, "over-voltage", "over-voltage of the bus", 0x3210)
TRIPS = (
    NONE, OVER_CURRENT, UNDER_VOLTAGE, HEARTBEAT, LIMIT_CURRENT, LIMIT_SPEED, LIMIT_TRAVEL,
    LIMIT_TIME, RECORDER, OSCILLATION, OVER_VOLTAGE,
)  # fmt: skip
LIMITS = (LIMIT_CURRENT, LIMIT_SPEED, LIMIT_TRAVEL, LIMIT_TIME)


def trip(number: int) -> Trip:
    """Return a trip by its number; one that this program does not know keeps its number."""
    if 0 <= number < len(TRIPS):
        return TRIPS[number]
    return Trip(number, "unknown", f"trip {number}, unknown to this program")
