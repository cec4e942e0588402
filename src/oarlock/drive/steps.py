"""Experiments as data: generic steps that any drive with a table and a recorder can play."""

import math
from dataclasses import dataclass, replace
from enum import IntEnum

import numpy as np
from numpy.typing import NDArray

from oarlock.errors import InputError
from oarlock.machine import Axis, CurrentGains

COLUMNS = 13  # numbers in one row of the step table
MAX_STEPS = 512
CHANNELS = (
    "t", "ia", "ib", "ic", "id", "iq", "vd", "vq", "id_ref", "iq_ref", "theta_e", "theta_m",
    "speed", "vdc", "counts", "index", "sine", "cosine", "hall", "theta_observed",
)  # fmt: skip
CHANNEL_UNITS = {
    "t": "s", "theta_e": "rad", "theta_m": "rad", "speed": "rad/s", "theta_observed": "rad",
    **dict.fromkeys(("counts", "index", "sine", "cosine", "hall"), "1"),
    **dict.fromkeys(("ia", "ib", "ic", "id", "iq", "id_ref", "iq_ref"), "A"),
    **dict.fromkeys(("vd", "vq", "vdc"), "V"),
}  # fmt: skip
MAX_CHANNELS = 8


class Frame(IntEnum):
    """Which d axis a step's currents and voltages refer to."""

    ROTOR = 0  # the sensor's
    FIXED = 1  # a fixed electrical angle, or one that turns steadily
    SPEED = 2  # the sensor's, with the speed controller in charge of iq
    VOLTAGE = 3  # as fixed, but voltages without a controller
    OFF = 4  # gates off: nothing but the recorder
    OBSERVED = 5  # the flux observer's, with the speed controller in charge of iq
    CARRIED = 6  # as fixed, but turning on from where the frame of the step before is


_TURNED = (Frame.FIXED, Frame.VOLTAGE, Frame.CARRIED)


class Shape(IntEnum):
    """Shape of what is added to a reference."""

    NONE = 0
    SINE = 1
    SQUARE = 2
    STEP = 3
    NOISE = 4


class Target(IntEnum):
    """The reference that a wave is added to."""

    NONE = 0
    V_D = 1
    V_Q = 2
    I_D = 3
    I_Q = 4
    TORQUE = 5
    SPEED = 6


@dataclass(frozen=True, slots=True, kw_only=True)
class Wave:
    """What is added to a reference while a step lasts."""

    shape: Shape
    target: Target
    amplitude: float  # unit of the target, peak
    frequency: float = 0.0  # Hz
    phase: float = 0.0  # rad


@dataclass(frozen=True, slots=True, kw_only=True)
class Step:
    """Hold a current for a while, with or without a wave on top, recorded or not.

    In the voltage frame `i_d` and `i_q` are volts.
    """

    duration: float  # s
    i_d: float = 0.0  # A, peak
    i_q: float = 0.0
    frame: Frame = Frame.ROTOR
    angle: float = 0.0  # rad, electrical; of a fixed frame
    turning: float = 0.0  # rad/s, electrical; how fast a fixed frame turns from there
    release: bool = False  # open the holding brake while this step lasts
    speed: float = 0.0  # rad/s, mechanical; of the speed controller
    wave: Wave | None = None
    record: bool = True

    @property
    def largest_current(self) -> float:
        """A, peak: the most that this step asks for in its references."""
        if self.frame in (Frame.VOLTAGE, Frame.OFF):
            return 0.0
        add_d = add_q = 0.0
        if self.wave and self.wave.target == Target.I_D:
            add_d = abs(self.wave.amplitude)
        if self.wave and self.wave.target == Target.I_Q:
            add_q = abs(self.wave.amplitude)
        return math.hypot(abs(self.i_d) + add_d, abs(self.i_q) + add_q)


@dataclass(frozen=True, slots=True, kw_only=True)
class Limits:
    """Where the drive aborts by itself."""

    current: float  # A, peak
    speed: float  # rad/s, mechanical
    travel: float  # rad, mechanical
    time: float  # s


@dataclass(frozen=True, slots=True, kw_only=True)
class Plan:
    """All that a drive needs to play an experiment."""

    name: str
    steps: tuple[Step, ...]
    channels: tuple[str, ...]
    decimation: int = 1
    average: bool = False  # the mean over a decimated bin, instead of its first sample
    limits: Limits
    gains: CurrentGains
    speed_gains: tuple[float, float] = (0.0, 0.0)  # A·s/rad, A/rad
    decouple: bool = False
    observer: float = 0.0  # rad/s, of the flux observer; 0: it rests

    @property
    def duration(self) -> float:
        """Seconds from start to end."""
        return sum(step.duration for step in self.steps)

    @property
    def largest_current(self) -> float:
        """A, peak, over all steps' references."""
        return max(step.largest_current for step in self.steps)

    def with_gains(self, gains: CurrentGains) -> "Plan":
        """Return the same plan played under other gains."""
        return replace(self, gains=gains)


def problems(plan: Plan, axis: Axis) -> list[str]:
    """Dry run: why this plan may not be played; what is unknown is refused, NaN included."""
    found: list[str] = []
    peak = axis.machine.peak_current.value
    full_scale = axis.inverter.current_full_scale.value
    if not 1 <= len(plan.steps) <= MAX_STEPS:
        found.append(f"{len(plan.steps)} steps; a drive takes 1 to {MAX_STEPS}")
    if not plan.limits.current <= min(1.25 * peak, full_scale):
        found.append(f"aborts only at {plan.limits.current:g} A; the machine bears {peak:.3g} A")
    if not plan.limits.speed <= axis.machine.max_speed.value:
        found.append("aborts only above the top speed")
    if not (0.0 < plan.limits.travel < math.inf and 0.0 < plan.limits.time <= 300.0):
        found.append("has no limit of travel or time")
    if not plan.duration <= plan.limits.time:
        found.append(f"lasts {plan.duration:.3g} s, aborts after {plan.limits.time:.3g} s")
    strange = [c for c in plan.channels if c not in CHANNELS]
    if strange or not 1 <= len(plan.channels) <= MAX_CHANNELS or plan.decimation < 1:
        found.append(f"cannot record {', '.join(strange) or 'so many channels'}")
    if not all(v > 0.0 and math.isfinite(v) for v in _gains(plan.gains)):
        found.append("has gains that are not above zero")
    found += _blind(plan, axis)
    for number, step in enumerate(plan.steps, 1):
        found += [f"step {number} {text}" for text in _step_problems(step, plan.limits, axis)]
    return found


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
        if "Sensing" in found[0]:
            remedy = "The order is: currents, phases, sensor, zero, then everything else"
        raise InputError(f"{plan.name}: {found[0]}{more}", place="experiment", remedy=remedy)


def step_table(plan: Plan, Ts: float) -> NDArray[np.float32]:
    """Return the plan's steps as the drive takes them: float32, (steps, 13)."""
    rows = np.zeros((len(plan.steps), COLUMNS), dtype=np.float32)
    for row, step in zip(rows, plan.steps, strict=True):
        wave = step.wave or Wave(shape=Shape.NONE, target=Target.NONE, amplitude=0.0)
        row[:] = (
            round(step.duration / Ts), step.frame, step.angle, step.i_d, step.i_q, wave.shape,
            wave.target, wave.amplitude, wave.frequency, wave.phase, step.record,
            step.turning if step.frame in _TURNED else step.speed,
            step.release,
        )  # fmt: skip
    return rows
