"""Experiments as data: generic steps that any drive with a table and a recorder can play."""

import math
from dataclasses import dataclass, replace
from enum import IntEnum

import numpy as np
from numpy.typing import NDArray

from oarlock.machine import CurrentGains

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
RECORDER_ROWS = 16384  # that any drive has, of so many channels


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

    def recorded_rows(self, Ts: float) -> int:
        """Return how many rows the recorder takes, sampled each `Ts` (s)."""
        samples = sum(round(step.duration / Ts) for step in self.steps if step.record)
        return samples // max(self.decimation, 1)

    @property
    def largest_current(self) -> float:
        """A, peak, over all steps' references."""
        return max(step.largest_current for step in self.steps)

    def with_gains(self, gains: CurrentGains) -> "Plan":
        """Return the same plan played under other gains."""
        return replace(self, gains=gains)


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
