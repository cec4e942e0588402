"""The dry run: why a plan may not be played, found before anything is sent to the drive.

All that goes to the drive is looked at: steps, limits, gains, observer, recorder, travel. What is
unknown or no number is refused.
"""

import math
from dataclasses import dataclass, replace
from enum import StrEnum

import numpy as np

from oarlock.drive.contract.entries import problem
from oarlock.drive.parameters import SPEED_FILTERS, TORQUE_FILTERS, controllers
from oarlock.drive.path import pieces
from oarlock.drive.steps import (
    CHANNELS,
    MAX_CHANNELS,
    MAX_LINES,
    MAX_STEPS,
    RECORDER_ROWS,
    Frame,
    Limits,
    Plan,
    Shape,
    Step,
    Target,
    Wave,
)
from oarlock.drive.travel import Span, too_far, within
from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.machine.unknown import in_words, missing


class ProblemCode(StrEnum):
    """What a problem is about; code may compare it, never the sentence."""

    ENTRIES = "entries"  # something has to be entered first
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
_LONGEST_WAVE = 200_000  # samples of a multisine that are looked at one by one


def problems(plan: Plan, axis: Axis) -> list[Problem]:
    """Dry run: why this plan may not be played; what is unknown is refused, NaN included."""
    steps = _step_count(plan)
    for number, step in enumerate(plan.steps, 1):
        told = _step_problems(_at_its_peak(step, plan), plan.limits, axis)
        if told and step.wave is not None and step.wave.shape is Shape.LINES:
            exact = _at_its_peak(step, plan, axis.inverter.Ts)
            told = _step_problems(exact, plan.limits, axis)
        steps += [f"step {number} {text}" for text in told]
    steps += [f"step {n + 1} passes {p.fastest:.3g} rad/s on its path, limit "
              f"{plan.limits.speed:.3g} rad/s" for n, p in pieces(plan.steps)
              if not p.fastest <= plan.limits.speed]  # fmt: skip
    said = (
        (ProblemCode.ENTRIES, [f"{in_words(path)} is not known" for path in missing(axis)]),
        (ProblemCode.LIMITS, _limits(plan, axis)),
        (ProblemCode.TRAVEL, _travel(plan, axis)),
        (ProblemCode.RECORDER, _recorder(plan, axis)),
        (ProblemCode.CONTROLLERS, _controllers(plan)),
        (ProblemCode.SENSING, _blind(plan, axis)),
        (ProblemCode.STEPS, steps),
    )
    return [Problem(code, text) for code, texts in said for text in texts]


def _at_its_peak(step: Step, plan: Plan, Ts: float = 0.0) -> Step:
    """Return the step with the most that its multisine reaches as its wave's amplitude.

    Without `Ts` (s) it is what all lines would reach if they ever met.
    """
    wave = step.wave
    if wave is None or wave.shape is not Shape.LINES:
        return step
    low, high = (wave.frequency, wave.end) if wave.end > 0.0 else (0.0, math.inf)
    sounding = [line for line in plan.lines if low <= line[0] <= high]
    peak = sum(abs(amplitude) for _, amplitude, _ in sounding)
    if Ts > 0.0 and math.isfinite(peak) and step.duration < _LONGEST_WAVE * Ts:
        t = Ts * np.arange(max(round(step.duration / Ts), 1), dtype=np.float64)
        summed = sum(a * np.sin(math.tau * (hertz * t % 1.0) + rad) for hertz, a, rad in sounding)
        peak = float(np.max(np.abs(summed)))
    return replace(step, wave=replace(wave, amplitude=wave.amplitude * peak))


def _step_count(plan: Plan) -> list[str]:
    if 1 <= len(plan.steps) <= MAX_STEPS:
        return []
    return [f"{len(plan.steps)} steps; a drive takes 1 to {MAX_STEPS}"]


def _limits(plan: Plan, axis: Axis) -> list[str]:
    found: list[str] = []
    if not plan.limits.current <= min(1.25 * axis.peak, axis.inverter.current_full_scale.value):
        found.append(f"aborts only at {plan.limits.current:g} A; motor and drive bear "
                     f"{axis.peak:.3g} A")  # fmt: skip
    if not plan.limits.speed <= axis.top_speed:
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
    if rows > RECORDER_ROWS and not plan.round:
        return [f"records {rows} rows; a drive holds {RECORDER_ROWS}"]
    if len(plan.lines) > MAX_LINES or not all(
        math.isfinite(x) for line in plan.lines for x in line
    ):
        return [f"has a multisine of more than {MAX_LINES} lines, or of no numbers"]
    played = any(step.wave and step.wave.shape is Shape.LINES for step in plan.steps)
    if played and not plan.lines:
        return ["plays a multisine that has no lines"]
    return []


def _controllers(plan: Plan) -> list[str]:
    """Return what is wrong about the settings of controllers and observer."""
    found = []
    if not all(v > 0.0 and math.isfinite(v) for v in (item.value for item in plan.gains.listed())):
        found.append("has gains that are not above zero")
    if not all(0.0 <= v < _MOST_GAIN for v in (plan.speed.Kp, plan.speed.Ki)):
        found.append("has speed gains that are negative or no numbers")
    elif _has(plan, *_CASCADED) and not plan.speed.Kp > 0.0:
        found.append("controls the speed with a gain of zero")
    if _has(plan, *_FOLLOWING) and not plan.position.Kp > 0.0:
        found.append("controls the position with a gain of zero")
    found += [problem(name, value) for name, value in controllers(plan).items()]
    if plan.speed.limit > plan.limits.current:
        found.append("lets the speed controller ask for more than the experiment's current")
    found += _filters(plan)
    if not 0.0 <= plan.observer < _MOST_GAIN:
        found.append("has an observer bandwidth that is negative or no number")
    elif _has(plan, Frame.OBSERVED) and not plan.observer > 0.0:
        found.append("follows an observer that rests")
    return [text for text in found if text]


def _has(plan: Plan, *frames: Frame) -> bool:
    return any(step.frame in frames for step in plan.steps)


def _filters(plan: Plan) -> list[str]:
    """Return what is wrong about the filters: too many, no numbers, or unstable ones."""
    found = []
    for path, filters, most in (("torque", plan.torque_filters, TORQUE_FILTERS),
                                ("speed", plan.speed_filters, SPEED_FILTERS)):  # fmt: skip
        if len(filters) > most:
            found.append(f"has {len(filters)} filters in the {path} path; a drive has {most}")
        for b0, b1, b2, a1, a2 in filters:
            if not all(math.isfinite(c) for c in (b0, b1, b2, a1, a2)):
                found.append(f"has a filter in the {path} path that is no numbers")
            elif not (abs(a2) < 1.0 and abs(a1) < 1.0 + a2):
                found.append(f"has a filter in the {path} path that is unstable")
    return found


_FOLLOWING = (Frame.POSITION, Frame.PATH)
_CASCADED = (Frame.SPEED, Frame.OBSERVED, *_FOLLOWING)
_OPEN = (Frame.OFF, Frame.VOLTAGE)
_ON_SENSOR = (Frame.ROTOR, Frame.SPEED, *_FOLLOWING)


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
    if not (0.0 <= step.acceleration < math.inf and 0.0 <= step.jerk_time < math.inf):
        found.append("has an acceleration or a jerk time that is negative or no number")
    if not abs(step.distance) <= limits.travel:
        found.append("moves farther than its limit of travel")
    elif (
        step.distance
        and step.frame is not Frame.PATH
        and not (step.frame is Frame.POSITION and step.speed > 0.0 and step.acceleration > 0.0)
    ):
        found.append("moves without a controller of position, a top speed or an acceleration")
    return found + _wave_problems(step, limits, axis)


def _wave_problems(step: Step, limits: Limits, axis: Axis) -> list[str]:
    found: list[str] = []
    wave = step.wave
    if wave is None:
        return found
    if not (math.isfinite(wave.amplitude) and math.isfinite(wave.phase)):
        found.append("has a wave that is not finite")
    half = 0.5 / axis.inverter.Ts
    if not 0.0 <= wave.frequency <= half:
        found.append(f"has a wave of {wave.frequency:g} Hz, beyond half the sampling")
    if wave.shape is Shape.CHIRP and not (wave.frequency > 0.0 and 0.0 < wave.end < half):
        found.append(f"has a chirp from {wave.frequency:g} to {wave.end:g} Hz")
    return found + _reach(step, wave, limits, axis)


def _reach(step: Step, wave: Wave, limits: Limits, axis: Axis) -> list[str]:
    """Return what a wave asks for beyond the limit of its target."""
    found: list[str] = []
    if wave.target in (Target.V_D, Target.V_Q):
        if not abs(wave.amplitude) <= axis.inverter.v_max:
            found.append(f"adds {wave.amplitude:.3g} V; the bus gives {axis.inverter.v_max:.3g} V")
    elif wave.target in (Target.TORQUE, Target.LOAD):
        amperes = abs(wave.amplitude) / axis.machine.torque_constant
        if not abs(step.i_q) + amperes <= limits.current:
            found.append(f"adds {wave.amplitude:.3g} N·m, {amperes:.3g} A; beyond the limit")
    elif wave.target == Target.POSITION and not abs(wave.amplitude) <= limits.travel:
        found.append("adds an angle beyond its limit of travel")
    elif wave.target == Target.SPEED and not abs(step.speed) + abs(wave.amplitude) <= limits.speed:
        found.append("adds a speed beyond the limit")
    return found


def refuse(plan: Plan, axis: Axis) -> None:
    """Raise `InputError` with the first reason why the plan may not be played."""
    found = problems(plan, axis)
    if found:
        more = f" (and {len(found) - 1} more)" if len(found) > 1 else ""
        remedy = "Lower the amplitude, or check the machine's limits"
        if found[0].code is ProblemCode.ENTRIES:
            remedy = "Enter it in the Machine stage"
        if found[0].code is ProblemCode.SENSING:
            remedy = "The order is: currents, phases, sensor, zero, then everything else"
        raise InputError(
            f"{plan.name}: {found[0].sentence}{more}", place="experiment", remedy=remedy
        )
