"""What a drive tells of itself: it fills what nobody entered, and is held against what was."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from oarlock.drive.link import Link
from oarlock.machine import Axis, SensorKind
from oarlock.machine.axis import rederived
from oarlock.machine.fields import BY_PATH
from oarlock.machine.unknown import guessed_again, in_words
from oarlock.quantities import Estimate, Origin
from oarlock.quantities.display import sentence
from oarlock.quantities.kinds import UNITS

SOURCE = "the drive"
_BUS = "Drive.Bus voltage"
_KIND = "Facts.Sensor kind"
_COMPENSATED = "Facts.Bus compensation"
# Where each fact lives in an axis, and by what ratio it may differ from an entry.
_PLACES = {
    "Facts.Control frequency": ("inverter.control_frequency", 0.001),
    "Facts.PWM frequency": ("inverter.pwm_frequency", 0.001),
    "Facts.Current full scale": ("inverter.current_full_scale", 0.01),
    "Facts.Converter bits": ("inverter.adc_bits", 0.001),
    "Facts.Dead time": ("inverter.dead_time", 0.05),
    "Facts.Sensor counts": ("sensor.counts", 0.0001),
    "Facts.Sensor pole pairs": ("sensor.pairs", 0.001),
    _BUS: ("inverter.bus_voltage", 0.1),
}
_KINDS = (SensorKind.NONE, SensorKind.ENCODER, SensorKind.RESOLVER, SensorKind.HALL)


@dataclass(frozen=True, slots=True)
class Difference:
    """Something that was entered and that the drive says otherwise."""

    path: str
    sentence: str


def told_by(link: Link) -> dict[str, float]:
    """Return what the drive says of itself, by the contract's names; work for a job."""
    return link.read([*_PLACES, _KIND, _COMPENSATED])


def in_one_line(differ: Sequence[Difference]) -> str:
    """Return what differs and what to do about it; nothing where nothing does."""
    if not differ:
        return ""
    said = "; ".join(one.sentence for one in differ)
    return f"Not as entered: {said}. Ctrl+K, 'Use what the drive tells', or correct the drive"


def with_told(axis: Axis, told: Mapping[str, float]) -> tuple[Axis, tuple[Difference, ...]]:
    """Return the axis with what the drive tells where nothing was entered, and what differs."""
    differ = []
    for name, (path, play) in _PLACES.items():
        value = told.get(name, 0.0)
        if not value > 0.0:
            continue
        old = axis.parameter(path)
        if old.best.origin is Origin.ASSUMED or old.best.source == SOURCE:
            if name == _BUS and old.best.source == SOURCE and _close(value, old.value, play):
                continue  # it moves a little all the time
            axis = axis.adopting(path, _estimate(path, value))
        elif not _close(value, old.value, play):
            said, entered = (sentence(v, old.best.unit) for v in (value, old.value))
            differ.append(Difference(path, f"{in_words(path)} {said} by the drive, {entered} here"))
    if told.get(_COMPENSATED) in (0.0, 1.0):  # nobody else knows
        made_up = told[_COMPENSATED] == 1.0
        axis = replace(axis, inverter=replace(axis.inverter, bus_compensation=made_up))
    return _sensed(rederived(guessed_again(axis)), told, differ)


def _sensed(
    axis: Axis, told: Mapping[str, float], differ: list[Difference]
) -> tuple[Axis, tuple[Difference, ...]]:
    number = int(told.get(_KIND, 255.0))
    if number < len(_KINDS) and _KINDS[number] is not axis.sensor.kind:
        kind = _KINDS[number]
        if axis.sensor.kind_known:
            text = f"position sensor {kind.value} by the drive, {axis.sensor.kind.value} here"
            differ.append(Difference("sensor.kind", text))
        else:
            axis = replace(axis, sensor=replace(axis.sensor, kind=kind))
    if number < len(_KINDS) and not axis.sensor.kind_known:
        axis = replace(axis, sensor=replace(axis.sensor, kind_known=True))
    return axis, tuple(differ)


def as_told(axis: Axis, told: Mapping[str, float]) -> Axis:
    """Return the axis with all that the drive tells in place of what was entered."""
    for name, (path, _) in _PLACES.items():
        value = told.get(name, 0.0)
        if value > 0.0:
            axis = axis.adopting(path, _estimate(path, value))
    sensor = replace(axis.sensor, kind_known=False)
    return with_told(replace(axis, sensor=sensor), told)[0]


def _close(value: float, other: float, play: float) -> bool:
    return abs(value / other - 1.0) <= play if other else False


def _estimate(path: str, value: float) -> Estimate:
    unit = UNITS[BY_PATH[path].kind]
    # Facts come as float32: what it adds in digits nobody meant.
    return Estimate(value=float(f"{value:.7g}"), unit=unit, origin=Origin.TOLD, source=SOURCE)
