"""Which experiment on sensors goes with which reading, and what they rest on."""

from oarlock.experiments.common.kind import Kind, later
from oarlock.experiments.sensing.hand import TurnByHand
from oarlock.experiments.sensing.pulses import StandingPulses
from oarlock.experiments.sensing.push import FourPushes
from oarlock.experiments.sensing.rest import CurrentsAtRest
from oarlock.experiments.sensing.search import BoundedSearch
from oarlock.experiments.sensing.spin import ForcedSpin
from oarlock.experiments.sensing.startup import StartWithoutSensor
from oarlock.experiments.sensing.turn import ForcedTurn
from oarlock.machine import Axis, Parameter


# What tripped on its way may still tell why, where sensors are concerned.
def _kind(key: str, reader: str, *, proves: bool = False) -> Kind:
    read = later(f"oarlock.experiments.sensing.{reader}")
    return Kind(key=key, read=read, tells_early=True, proves=proves)


SENSING = (
    _kind(CurrentsAtRest.name, "rest:read_rest"),
    _kind(StandingPulses.name, "pulses_reading:read_pulses"),
    _kind(TurnByHand.name, "hand_reading:read_hand"),
    _kind(ForcedTurn.name, "turn_reading:read_turn"),
    _kind(BoundedSearch.name, "search_reading:read_search"),
    _kind(FourPushes.name, "push:read_pushes", proves=True),
    _kind(ForcedSpin.name, "spin:read_spin", proves=True),
    _kind(StartWithoutSensor.name, "startup:read_start", proves=True),
)
SENSING_KEYS = tuple(kind.key for kind in SENSING)


def snapshot(axis: Axis) -> dict[str, float | str]:
    """Return the sensors' settings that a record was taken under, as plain values."""
    inv, sensor = axis.inverter, axis.sensor
    return {
        "kind": sensor.kind.value,
        "pole_pairs": _if_known(axis.machine.pole_pairs),
        **{f"offset_{p}": axis.parameter(f"inverter.offset_{p}").value for p in "abc"},
        "unsensed": inv.unsensed,
        "full_scale": inv.current_full_scale.value,
        "pairs": _if_known(sensor.pairs),
        "counts": sensor.counts.value,
        "sine_ratio": sensor.sine_ratio.value,
        "skew": sensor.skew.value,
        "sine_offset": sensor.sine_offset.value,
        "cosine_offset": sensor.cosine_offset.value,
        "side": sensor.side.value,
        "zero": sensor.zero.value,
        **{f"hall_{n}": start for n, start in enumerate(sensor.hall_starts)},
    }


def _if_known(parameter: Parameter) -> float:
    """Return a number that is counted; 0 where nobody has said it yet."""
    return parameter.value if parameter.is_known else 0.0
