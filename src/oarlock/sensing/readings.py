"""Which experiment on sensors goes with which reading, and what they rest on."""

from collections.abc import Callable

from oarlock.machine import Axis
from oarlock.records import Finding, Record
from oarlock.sensing.hand import TurnByHand, read_hand
from oarlock.sensing.pulses import StandingPulses, read_pulses
from oarlock.sensing.push import FourPushes, read_pushes
from oarlock.sensing.rest import CurrentsAtRest, read_rest
from oarlock.sensing.search import BoundedSearch, read_search
from oarlock.sensing.spin import ForcedSpin, read_spin
from oarlock.sensing.startup import StartWithoutSensor, read_start
from oarlock.sensing.turn import ForcedTurn, read_turn

READERS: dict[str, Callable[[Record, Axis], Finding]] = {
    CurrentsAtRest.name: read_rest,
    StandingPulses.name: read_pulses,
    TurnByHand.name: read_hand,
    ForcedTurn.name: read_turn,
    BoundedSearch.name: read_search,
    FourPushes.name: read_pushes,
    ForcedSpin.name: read_spin,
    StartWithoutSensor.name: read_start,
}
# What proves and gives nothing to adopt, or only a stand-in.
PROOFS = (FourPushes.name, ForcedSpin.name, StartWithoutSensor.name)


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
