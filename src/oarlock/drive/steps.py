"""Experiments as data: generic steps that any drive with a table and a recorder can play."""

import math
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from oarlock.drive.contract.entries import MAX_CHANNELS
from oarlock.drive.contract.numbers import (
    CHANNEL_UNITS,
    CHANNELS,
    COLUMNS,
    MAX_LINES,
    MAX_STEPS,
    RECORDER_ROWS,
    SUMS,
    SUMS_HEAD,
    Frame,
    Shape,
    Target,
)  # fmt: skip
from oarlock.machine import CurrentGains

__all__ = [
    "CHANNELS", "CHANNEL_UNITS", "COLUMNS", "MAX_CHANNELS", "MAX_LINES", "MAX_STEPS",
    "RECORDER_ROWS", "SUMS", "SUMS_HEAD", "Frame", "Limits", "Plan", "PositionLoop", "Section",
    "Shape", "SpeedLoop", "Step", "Target", "Wave", "step_table",
]  # fmt: skip

_TURNED = (Frame.FIXED, Frame.VOLTAGE, Frame.CARRIED)


@dataclass(frozen=True, slots=True, kw_only=True)
class Wave:
    """What is added to a reference while a step lasts."""

    shape: Shape
    target: Target
    amplitude: float  # unit of the target, peak
    frequency: float = 0.0  # Hz; of a chirp the first, of a multisine the lowest that sounds
    phase: float = 0.0  # rad
    end: float = 0.0  # Hz, of a chirp the last, of a multisine the highest; 0: all of it sounds


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
    distance: float = 0.0  # rad, of a move by the position controller; `speed` is its top speed
    acceleration: float = 0.0  # rad/s², of a move, or of the way to a new speed; 0: at once
    jerk_time: float = 0.0  # s over which an acceleration builds up
    sums: bool = False  # sums over the whole step are kept, at its wave's frequency

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
class SpeedLoop:
    """How the speed controller is set while a plan is played."""

    Kp: float = 0.0  # A s/rad
    Ki: float = 0.0  # A/rad
    weight: float = 1.0  # share of the reference in the proportional part
    acceleration: float = 0.0  # A s²/rad, ahead
    divider: int = 1  # samples of the current loop for each of its own
    lag: float = 0.003  # s, of the measured speed
    limit: float = 0.0  # A; 0: nine tenths of the experiment's
    follows: bool = False  # the integral is set so that the sum meets the limit
    slope: int = 0  # samples over which the speed is the slope of the angle; 0: difference
    share: float = 1.0  # by which the speed asked for moves in each sample; 1: at once
    friction: float = 0.0  # A, ahead
    observer: tuple[float, float, float] = (0.0, 0.0, 0.0)  # step, speed share, load gain


@dataclass(frozen=True, slots=True, kw_only=True)
class PositionLoop:
    """How the position controller is set while a plan is played."""

    Kp: float = 0.0  # 1/s
    speed_share: float = 1.0  # of the profile's speed, ahead
    speed_limit: float = 0.0  # rad/s; 0: none


Section = tuple[float, float, float, float, float]  # b0 b1 b2 a1 a2, of z⁻¹


@dataclass(frozen=True, slots=True, kw_only=True)
class Plan:
    """All that a drive needs to play an experiment."""

    name: str
    steps: tuple[Step, ...]
    channels: tuple[str, ...]
    decimation: int = 1
    average: bool = False  # the mean over a decimated bin, instead of its first sample
    round: bool = False  # the recorder goes on over its oldest rows: it is read while it runs
    limits: Limits
    gains: CurrentGains
    speed: SpeedLoop = SpeedLoop()
    position: PositionLoop = PositionLoop()
    torque_filters: tuple[Section, ...] = ()
    speed_filters: tuple[Section, ...] = ()
    lines: tuple[tuple[float, float, float], ...] = ()  # of a multisine: Hz, amplitude, rad
    watch: bool = False  # trip on a growing oscillation
    decouple: bool = False
    observer: float = 0.0  # rad/s, of the flux observer; 0: it rests

    @property
    def duration(self) -> float:
        """Seconds from start to end."""
        return sum(step.duration for step in self.steps)

    def recorded_rows(self, Ts: float) -> int:
        """Return how many rows the recorder takes, sampled each `Ts` (s)."""
        samples = sum(round(step.duration / Ts) for step in self.steps if step.record)
        return samples // max(self.decimation, 1)

    @property
    def summed(self) -> int:
        """How many steps keep their sums."""
        return sum(step.sums for step in self.steps)

    @property
    def largest_current(self) -> float:
        """A, peak, over all steps' references."""
        return max(step.largest_current for step in self.steps)

    def with_gains(self, gains: CurrentGains) -> "Plan":
        """Return the same plan played under other gains."""
        return replace(self, gains=gains)


def step_table(plan: Plan, Ts: float) -> NDArray[np.float32]:
    """Return the plan's steps as the drive takes them: float32, (steps, 18)."""
    rows = np.zeros((len(plan.steps), len(COLUMNS)), dtype=np.float32)
    for row, step in zip(rows, plan.steps, strict=True):
        wave = step.wave or Wave(shape=Shape.NONE, target=Target.NONE, amplitude=0.0)
        row[:] = (
            round(step.duration / Ts), step.frame, step.angle, step.i_d, step.i_q, wave.shape,
            wave.target, wave.amplitude, wave.frequency, wave.phase, step.record,
            step.turning if step.frame in _TURNED else step.speed,
            step.release, wave.end, step.distance, step.acceleration, step.jerk_time, step.sums,
        )  # fmt: skip
    return rows
