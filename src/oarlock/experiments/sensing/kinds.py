"""Which experiment on sensors goes with which reading, and what they rest on."""

from oarlock.experiments.common.kind import Kind, later
from oarlock.experiments.sensing.hand import TurnByHand
from oarlock.experiments.sensing.pulses import StandingPulses
from oarlock.experiments.sensing.push import FourPushes, read_pushes
from oarlock.experiments.sensing.rest import CurrentsAtRest, read_rest
from oarlock.experiments.sensing.search import BoundedSearch
from oarlock.experiments.sensing.spin import ForcedSpin, read_spin
from oarlock.experiments.sensing.startup import StartWithoutSensor, read_start
from oarlock.experiments.sensing.turn import ForcedTurn
from oarlock.machine import Axis

# What tripped on its way may still tell why, where sensors are concerned.
_ROOM = "oarlock.experiments.sensing"
SENSING = (
    Kind(key=CurrentsAtRest.name, read=read_rest, tells_early=True),
    Kind(
        key=StandingPulses.name,
        read=later(f"{_ROOM}.pulses_reading:read_pulses"),
        tells_early=True,
    ),
    Kind(
        key=TurnByHand.name,
        read=later(f"{_ROOM}.hand_reading:read_hand"),
        tells_early=True,
    ),
    Kind(
        key=ForcedTurn.name,
        read=later(f"{_ROOM}.turn_reading:read_turn"),
        tells_early=True,
    ),
    Kind(
        key=BoundedSearch.name,
        read=later(f"{_ROOM}.search_reading:read_search"),
        tells_early=True,
    ),
    Kind(key=FourPushes.name, read=read_pushes, tells_early=True, proves=True),
    Kind(key=ForcedSpin.name, read=read_spin, tells_early=True, proves=True),
    Kind(key=StartWithoutSensor.name, read=read_start, tells_early=True, proves=True),
)  # fmt: skip
SENSING_KEYS = tuple(kind.key for kind in SENSING)


def snapshot(axis: Axis) -> dict[str, float | str]:
    """Return the sensors' settings that a record was taken under, as plain values."""
    inv, sensor = axis.inverter, axis.sensor
    return {
        "kind": sensor.kind.value,
        "pole_pairs": axis.machine.pole_pairs.value,
        **{f"offset_{p}": axis.parameter(f"inverter.offset_{p}").value for p in "abc"},
        "unsensed": inv.unsensed,
        "full_scale": inv.current_full_scale.value,
        "pairs": sensor.pairs.value,
        "counts": sensor.counts.value,
        "sine_ratio": sensor.sine_ratio.value,
        "skew": sensor.skew.value,
        "sine_offset": sensor.sine_offset.value,
        "cosine_offset": sensor.cosine_offset.value,
        "side": sensor.side.value,
        "zero": sensor.zero.value,
        **{f"hall_{n}": start for n, start in enumerate(sensor.hall_starts)},
    }
