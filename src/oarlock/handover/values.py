"""What can be handed over: names, values, units, and how a float32 is spelled in C."""

import math
import re
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from oarlock.control.current import NEWEST
from oarlock.errors import InputError
from oarlock.machine import Axis, SensorKind
from oarlock.machine.current_loop import CURRENT
from oarlock.machine.loop import LoopSpec
from oarlock.machine.loops import LOOPS
from oarlock.machine.position_loop import POSITION, PositionTarget
from oarlock.machine.sensor import ILLEGAL
from oarlock.machine.speed_loop import OPTIONS, SPEED, SpeedGains

SECTION = ("b0", "b1", "b2", "a1", "a2")  # of a filter, of z⁻¹
MOST_FILTERS = {"torque": 4, "measured": 2}  # sections that the firmware has, on each path
_PATHS = {"torque": "torque", "measured": "measured speed"}
# Options of the speed controller that are not in use, as firmware then has them.
_RESTING = (
    ("speed.share", "SPD_SHARE", 1.0, "1", "1: no lag of the speed asked for"),
    ("speed.friction", "SPD_FRICTION", 0.0, "A", "nothing ahead against friction"),
    ("speed.observer_step", "SPD_OBSERVER_STEP", 0.0, "rad/(s A)", "no load observer"),
    ("speed.observer_speed", "SPD_OBSERVER_SPEED", 0.0, "1", "no load observer"),
    ("speed.observer_load", "SPD_OBSERVER_LOAD", 0.0, "A s/rad", "no load observer"),
)


@dataclass(frozen=True, slots=True, kw_only=True)
class HandoverValue:
    """One number for the firmware."""

    key: str  # "current.Kp_q"
    symbol: str  # its name in a header of ours
    value: float
    unit: str
    meaning: str


def handover_values(axis: Axis) -> tuple[HandoverValue, ...]:
    """Return what the firmware needs: gains and filters of all loops, what sensing found.

    Raises
    ------
    InputError : no gains are in use yet

    """
    if axis.gains is None:
        remedy = "Take the designed gains in the current loop, or run 'oarlock tune --out'"
        raise InputError("no gains to hand over", place=axis.name, remedy=remedy)
    inv = axis.inverter
    rows = (
        *_gains(axis, CURRENT),
        (
            "current.newest",
            "CUR_NEWEST",
            NEWEST[inv.integral],
            "1",
            "share of the newest error in the integral",
        ),
        ("current.Ts", "CUR_TS", inv.Ts, "s", "sample time of the current loop"),
        ("current.v_max", "CUR_V_MAX", inv.v_max, "V", "largest phase voltage, bus over sqrt 3"),
    )
    return tuple(
        HandoverValue(key=k, symbol=s, value=v, unit=u, meaning=m)
        for k, s, v, u, m in (*rows, *_outer(axis), *_sensing(axis))
    )


def symbols_in(code: str) -> set[str]:
    """Return the names in capitals that stand in a header's code."""
    return set(re.findall(r"\b[A-Z][A-Z0-9_]+\b", code))


def values_for(
    axis: Axis, text: str, mapping: Mapping[str, str] | None = None
) -> tuple[HandoverValue, ...]:
    """Return what a header that stands needs: also what makes it do without what is not in use.

    A notch or an option that was taken away would go on in firmware whose header keeps its numbers.

    Parameters
    ----------
    text : the header's code, without comments
    mapping : its symbols to keys, where they are not those of ours

    Raises
    ------
    InputError : as `handover_values`

    """
    values, named = handover_values(axis), symbols_in(text)
    used, mapped = {value.key for value in values}, set((mapping or {}).values())
    resting = (value for value in _resting(axis) if value.key not in used)
    return values + tuple(v for v in resting if v.symbol in named or v.key in mapped)


def _resting(axis: Axis) -> list[HandoverValue]:
    """Return every option and filter of the speed loop as it is where it is not in use."""
    if axis.loops[SPEED.key].gains is None:
        return []
    filters = [
        (f"speed.{path}{n}_{name}", f"SPD_{path.upper()}{n}_{name.upper()}",
         1.0 if name == "b0" else 0.0, "1", f"filter {n} of the {_PATHS[path]}, not in use")
        for path, most in MOST_FILTERS.items() for n in range(1, most + 1) for name in SECTION
    ]  # fmt: skip
    return [
        HandoverValue(key=k, symbol=s, value=v, unit=u, meaning=m)
        for k, s, v, u, m in (*_RESTING, *filters)
    ]


def _gains(axis: Axis, spec: LoopSpec) -> list[tuple[str, str, float, str, str]]:
    """Return a loop's gains, where it has any."""
    gains = axis.loops[spec.key].gains
    raw = OPTIONS if spec is SPEED else ()  # handed over as the numbers that firmware computes with
    return [
        (f"{spec.key}.{item.key}", f"{spec.prefix}_{item.key.upper()}", item.value, item.unit,
         item.meaning)
        for item in (gains.listed() if gains else ())
        if item.key not in raw
    ]  # fmt: skip


def _outer(axis: Axis) -> list[tuple[str, str, float, str, str]]:
    rows = [row for spec in LOOPS if spec is not CURRENT for row in _gains(axis, spec)]
    gains = axis.loops[SPEED.key].gains
    if not isinstance(gains, SpeedGains):
        return rows
    T = axis.inverter.divider * axis.inverter.Ts
    rows += [
        ("speed.T", "SPD_TS", T, "s", "sample time of the speed loop"),
        ("speed.i_max", "SPD_I_MAX", axis.peak, "A",
         "largest current that the speed loop asks for"),
    ]  # fmt: skip
    return rows + _options(gains, T) + _filters(axis) + _ramp(axis)


def _options(gains: SpeedGains, T: float) -> list[tuple[str, str, float, str, str]]:
    """Return the speed controller's options that are in use, as its firmware holds them."""
    from oarlock.control.load_observer import load_observer, reference_share

    rows = []
    if gains.reference > 0.0:
        rows.append(("speed.share", "SPD_SHARE", reference_share(gains, T), "1",
                     "by which the speed asked for moves in a sample; 1: no lag"))  # fmt: skip
    if gains.friction > 0.0:
        rows.append(("speed.friction", "SPD_FRICTION", gains.friction, "A",
                     "ahead against friction, on the side of the speed asked for"))  # fmt: skip
    if gains.observer > 0.0:
        found, at = load_observer(gains, T), "load observer"
        rows += [
            ("speed.observer_step", "SPD_OBSERVER_STEP", found.step, "rad/(s A)",
             f"{at}: speed that one ampere makes in a sample"),
            ("speed.observer_speed", "SPD_OBSERVER_SPEED", found.speed, "1",
             f"{at}: share of what it misses that its speed takes"),
            ("speed.observer_load", "SPD_OBSERVER_LOAD", found.load, "A s/rad",
             f"{at}: of what it misses, that its load takes"),
        ]  # fmt: skip
    return rows


def _ramp(axis: Axis) -> list[tuple[str, str, float, str, str]]:
    """Return the ramp that the axis is to move with, where one is set."""
    target = axis.loops[POSITION.key].target
    ramp = target.ramp if isinstance(target, PositionTarget) else {}
    told = {"speed": ("rad/s", "largest speed of a move"),
            "acceleration": ("rad/s2", "acceleration of a move and of a ramp of speed"),
            "jerk_time": ("s", "over which that acceleration comes and goes")}  # fmt: skip
    return [(f"ramp.{name}", f"RAMP_{name.upper()}", ramp[name], *told[name])
            for name in told if name in ramp]  # fmt: skip


def _filters(axis: Axis) -> list[tuple[str, str, float, str, str]]:
    """Return the speed loop's filters, each as one second-order section."""
    from oarlock.control.filters import coefficients

    rows, count = [], {"torque": 0, "measured": 0}
    for one in axis.loops[SPEED.key].filters:
        Ts = axis.inverter.Ts * (1 if one.path == "torque" else axis.inverter.divider)
        count[one.path] += 1
        key = f"{one.path}{count[one.path]}"
        where = f"filter {count[one.path]} of the {_PATHS[one.path]}"
        rows += [
            (f"speed.{key}_{name}", f"SPD_{key.upper()}_{name.upper()}", value, "1", where)
            for name, value in zip(SECTION, coefficients(one, Ts), strict=True)
        ]
    return rows


def _sensing(axis: Axis) -> list[tuple[str, str, float, str, str]]:
    """Return what sensing found: offsets and scales of the currents, the angle's settings."""
    inv, sensor = axis.inverter, axis.sensor
    rows = []
    gains = {"a": inv.gain_a.value, "b": inv.gain_b.value}
    gains["c"] = 3.0 - gains["a"] - gains["b"]
    for phase in "abc":
        offset = axis.parameter(f"inverter.offset_{phase}")
        if phase == inv.unsensed or offset.adopted is None:
            continue
        where, count = f"phase {phase}", inv.current_count
        rows.append((f"sense.offset_{phase}", f"CUR_OFFSET_{phase.upper()}", offset.value / count,
                     "counts", f"reading of no current, {where}"))  # fmt: skip
        rows.append((f"sense.scale_{phase}", f"CUR_SCALE_{phase.upper()}", count / gains[phase],
                     "A/count", f"scale of the current sense, {where}"))  # fmt: skip
    if not sensor.is_found or sensor.side.adopted is None:
        return rows
    if sensor.kind is SensorKind.HALL:
        return rows + [
            (f"angle.hall_{n}", f"HALL_START_{n}", start, "rad", f"where hall state {n} begins")
            for n, start in enumerate(sensor.hall_starts)
            if start > ILLEGAL
        ]
    rows += [
        ("angle.side", "ANGLE_SIDE", sensor.side.value, "1", "-1: the sensor counts backward"),
        ("angle.zero", "ANGLE_ZERO", sensor.zero.value, "rad", "electrical, to be taken off"),
    ]
    if sensor.kind is SensorKind.RESOLVER:
        rows += [
            ("angle.sine_offset", "ANGLE_SINE_OFFSET", sensor.sine_offset.value, "1", "of range"),
            ("angle.cosine_offset", "ANGLE_COSINE_OFFSET", sensor.cosine_offset.value, "1",
             "of range"),
            ("angle.sine_ratio", "ANGLE_SINE_RATIO", sensor.sine_ratio.value, "1",
             "sine over cosine"),
            ("angle.skew", "ANGLE_SKEW", sensor.skew.value, "rad", "beyond a right angle"),
        ]  # fmt: skip
    return rows


def float32_literal(value: float, suffix: str = "f") -> str:
    """Return the shortest decimal that reads back as the same float32.

    >>> float32_literal(0.1)
    '0.1f'
    >>> float32_literal(4571.0)
    '4571.0f'
    """
    with np.errstate(over="ignore", under="ignore"):
        single = np.float32(value)
    if not np.isfinite(single) or (single == 0.0 and value != 0.0):
        raise InputError(f"{value!r} does not fit a float32", place="handover")
    text = np.format_float_positional(single, unique=True, trim="0")
    if len(text) > 14:
        text = np.format_float_scientific(single, unique=True, trim="0")
    return text + suffix


def rounding(value: float) -> float:
    """Return what float32 loses of `value`, as a ratio."""
    return abs(float(np.float32(value)) / value - 1.0) if value and math.isfinite(value) else 0.0
