"""The dry run: why a plan may not be played, found before anything is sent to the drive.

All that goes to the drive is looked at: steps, limits, gains, observer, recorder, travel. What is
unknown or no number is refused.
"""

import math
from dataclasses import dataclass
from enum import StrEnum

from oarlock.drive.steps import (
    CHANNELS,
    MAX_CHANNELS,
    MAX_STEPS,
    RECORDER_ROWS,
    Frame,
    Limits,
    Plan,
    Step,
    Target,
)
from oarlock.drive.travel import Span, too_far, within
from oarlock.errors import InputError
from oarlock.machine import Axis, CurrentGains


class ProblemCode(StrEnum):
    """What a problem is about; code may compare it, never the sentence."""

    STEPS = "steps"
    LIMITS = "limits"
    TRAVEL = "travel"
    RECORDER = "recorder"
    CONTROLLERS = "controllers"
    SENSING = "sensing"  # something has to be found in Sensing first


@dataclass(frozen=True, slots=True)
class Problem:
    """Why a plan may not be played."""

    code: ProblemCode
    sentence: str


_MOST_DECIMATION = 65535
_MOST_GAIN = 1e6


def problems(plan: Plan, axis: Axis) -> list[Problem]:
    """Dry run: why this plan may not be played; what is unknown is refused, NaN included."""
    steps = _step_count(plan)
    for number, step in enumerate(plan.steps, 1):
        steps += [f"step {number} {text}" for text in _step_problems(step, plan.limits, axis)]
    said = (
        (ProblemCode.LIMITS, _limits(plan, axis)),
        (ProblemCode.TRAVEL, _travel(plan, axis)),
        (ProblemCode.RECORDER, _recorder(plan, axis)),
        (ProblemCode.CONTROLLERS, _controllers(plan)),
        (ProblemCode.SENSING, _blind(plan, axis)),
        (ProblemCode.STEPS, steps),
    )
    return [Problem(code, text) for code, texts in said for text in texts]


def _step_count(plan: Plan) -> list[str]:
    if 1 <= len(plan.steps) <= MAX_STEPS:
        return []
    return [f"{len(plan.steps)} steps; a drive takes 1 to {MAX_STEPS}"]


def _limits(plan: Plan, axis: Axis) -> list[str]:
    found: list[str] = []
    peak = axis.machine.peak_current.value
    full_scale = axis.inverter.current_full_scale.value
    if not plan.limits.current <= min(1.25 * peak, full_scale):
        found.append(f"aborts only at {plan.limits.current:g} A; the machine bears {peak:.3g} A")
    if not plan.limits.speed <= axis.machine.max_speed.value:
        found.append("aborts only above the top speed")
    if not (0.0 < plan.limits.travel < math.inf and 0.0 < plan.limits.time <= 300.0):
        found.append("has no limit of travel or time")
    if not plan.duration <= plan.limits.time:
        found.append(f"lasts {plan.duration:.3g} s, aborts after {plan.limits.time:.3g} s")
    return found


def _travel(plan: Plan, axis: Axis) -> list[str]:
    found: list[str] = []
    most = axis.mechanics.max_turns
    if most is not None and not plan.limits.travel <= 1.000001 * math.tau * most.value:
        turns = plan.limits.travel / math.tau
        found.append(f"aborts only after {turns:.3g} turns; the shaft may turn {most.value:g}")
    if within(plan, axis, Span()) is None:
        found.append(too_far(plan, axis))
    return found


def _recorder(plan: Plan, axis: Axis) -> list[str]:
    strange = [c for c in plan.channels if c not in CHANNELS]
    if strange or not 1 <= len(plan.channels) <= MAX_CHANNELS:
        return [f"cannot record {', '.join(strange) or 'so many channels'}"]
    if not (isinstance(plan.decimation, int) and 1 <= plan.decimation <= _MOST_DECIMATION):
        return [f"cannot record every {plan.decimation}th sample"]
    durations = [step.duration for step in plan.steps]
    if not all(math.isfinite(d) for d in durations):
        return []  # said of the step itself
    rows = plan.recorded_rows(axis.inverter.Ts)
    if rows > RECORDER_ROWS:
        return [f"records {rows} rows; a drive holds {RECORDER_ROWS}"]
    return []


def _controllers(plan: Plan) -> list[str]:
    """Return what is wrong about the settings of controllers and observer."""
    found = []
    if not all(v > 0.0 and math.isfinite(v) for v in _gains(plan.gains)):
        found.append("has gains that are not above zero")
    if not all(0.0 <= v < _MOST_GAIN for v in plan.speed_gains):
        found.append("has speed gains that are negative or no numbers")
    elif _has(plan, Frame.SPEED, Frame.OBSERVED) and not plan.speed_gains[0] > 0.0:
        found.append("controls the speed with a gain of zero")
    if not 0.0 <= plan.observer < _MOST_GAIN:
        found.append("has an observer bandwidth that is negative or no number")
    elif _has(plan, Frame.OBSERVED) and not plan.observer > 0.0:
        found.append("follows an observer that rests")
    return found


def _has(plan: Plan, *frames: Frame) -> bool:
    return any(step.frame in frames for step in plan.steps)


_OPEN = (Frame.OFF, Frame.VOLTAGE)
_ON_SENSOR = (Frame.ROTOR, Frame.SPEED)


def _blind(plan: Plan, axis: Axis) -> list[str]:
    """Interlocks: no current is held before its sensors are sound, no loop closed on no angle."""
    inv, found = axis.inverter, []
    sensed = [phase for phase in "abc" if phase != inv.unsensed]
    offsets = [axis.parameter(f"inverter.offset_{phase}").adopted for phase in sensed]
    if any(step.frame not in _OPEN for step in plan.steps) and not all(offsets):
        found.append("holds a current before the sensors' offsets are known: do Sensing 1 first")
    if any(step.frame in _ON_SENSOR for step in plan.steps) and not axis.sensor.is_found:
        found.append("follows an angle whose zero is not known: do Sensing first")
    return found


def _step_problems(step: Step, limits: Limits, axis: Axis) -> list[str]:
    found = []
    if not (step.duration >= axis.inverter.Ts and math.isfinite(step.duration)):
        found.append("lasts less than a sample")
    if step.wave is not None and not math.isfinite(step.wave.frequency):
        return ["has a wave that is not finite"]
    volts = math.hypot(step.i_d, step.i_q)
    if step.frame == Frame.VOLTAGE and not volts <= axis.inverter.v_max:
        found.append(f"asks for {volts:.3g} V; the bus gives {axis.inverter.v_max:.3g} V")
    if not abs(step.turning) <= limits.speed * axis.machine.pole_pairs.value:
        found.append("turns the field faster than its limit")
    if not step.largest_current <= limits.current:
        found.append(f"asks for {step.largest_current:.3g} A, limit {limits.current:.3g} A")
    if not (abs(step.speed) <= limits.speed and math.isfinite(step.angle)):
        found.append("asks for a speed or an angle beyond its limit")
    return found + _wave_problems(step, limits, axis)


def _wave_problems(step: Step, limits: Limits, axis: Axis) -> list[str]:
    found: list[str] = []
    wave = step.wave
    if wave is None:
        return found
    if not (math.isfinite(wave.amplitude) and math.isfinite(wave.phase)):
        found.append("has a wave that is not finite")
    if not 0.0 <= wave.frequency <= 0.5 / axis.inverter.Ts:
        found.append(f"has a wave of {wave.frequency:g} Hz, beyond half the sampling")
    if wave.target in (Target.V_D, Target.V_Q):
        if not abs(wave.amplitude) <= axis.inverter.v_max:
            found.append(f"adds {wave.amplitude:.3g} V; the bus gives {axis.inverter.v_max:.3g} V")
    elif wave.target == Target.TORQUE:
        amperes = abs(wave.amplitude) / axis.machine.torque_constant
        if not abs(step.i_q) + amperes <= limits.current:
            found.append(f"adds {wave.amplitude:.3g} N·m, {amperes:.3g} A; beyond the limit")
    elif wave.target == Target.SPEED and not abs(step.speed) + abs(wave.amplitude) <= limits.speed:
        found.append("adds a speed beyond the limit")
    return found


def _gains(gains: CurrentGains) -> tuple[float, ...]:
    return gains.Kp_d, gains.Ki_d, gains.Kp_q, gains.Ki_q


def refuse(plan: Plan, axis: Axis) -> None:
    """Raise `InputError` with the first reason why the plan may not be played."""
    found = problems(plan, axis)
    if found:
        more = f" (and {len(found) - 1} more)" if len(found) > 1 else ""
        remedy = "Lower the amplitude, or check the machine's limits"
        if found[0].code is ProblemCode.SENSING:
            remedy = "The order is: currents, phases, sensor, zero, then everything else"
        raise InputError(
            f"{plan.name}: {found[0].sentence}{more}", place="experiment", remedy=remedy
        )
