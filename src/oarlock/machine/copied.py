"""An axis as another one begins from it: what was measured there is no measurement here."""

from dataclasses import replace

from oarlock.machine.axis import Axis, Mechanics, rederived
from oarlock.machine.fields import FIELDS
from oarlock.machine.loop import Loops
from oarlock.machine.parameter import Parameter
from oarlock.machine.sensor import Sensor
from oarlock.quantities import Origin
from oarlock.quantities.display import digits

_UNITS = {"kg m2": "kg m2", "1": "", "rad/s": "rad/s"}
_OWN = ("inverter.offset_a", "inverter.offset_b", "inverter.offset_c", "inverter.gain_a",
        "inverter.gain_b", "inverter.delay", "inverter.dead_voltage")  # fmt: skip


def copied(axis: Axis, name: str) -> Axis:
    """Return an axis to begin another one from.

    Values that were measured become entries, as if a datasheet said them. What belongs to one
    motor on one drive stays behind: offsets, the sensor's direction and zero, friction, the shaft,
    gains and filters. What the loops are asked for is kept.
    """
    made = axis
    for field in FIELDS:
        parameter = axis.optional(field.path)
        if parameter is not None and parameter.adopted is not None:
            made = made.with_parameter(field.path, _entered(parameter))
    for path in _OWN:
        made = made.with_parameter(path, replace(made.parameter(path), adopted=None))
    sensor = Sensor(kind=axis.sensor.kind, kind_known=axis.sensor.kind_known,
                    counts=made.sensor.counts, pairs=made.sensor.pairs)  # fmt: skip
    loops = Loops()
    for key, loop in axis.loops:
        loops = loops.with_target(key, loop.target)
    return rederived(replace(
        made, name=name, sensor=sensor, mechanics=Mechanics(max_turns=axis.mechanics.max_turns),
        loops=loops,
    ))  # fmt: skip


def _entered(parameter: Parameter) -> Parameter:
    """Return a measured value as an entry; one that was only seen roughly is not known."""
    best = parameter.best
    if best.origin is Origin.ROUGH:
        return replace(parameter, adopted=None)
    text = f"{digits(best.value, 5)} {_UNITS.get(best.unit, best.unit)}".strip()
    if best.unit == "A":
        text += " peak"
    entry = replace(best, std=None, origin=Origin.DATASHEET, source=text)
    return Parameter(printed=entry)
