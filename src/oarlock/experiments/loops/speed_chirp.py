"""Chirps at a speed: the plant of the speed loop in a few seconds, less exact than sines.

As in the sweep of sines the speed asked for is moved below the crossover and the torque above it;
each chirp glides through its range once while the recorder runs. What is read off is the same.
"""

import math
from dataclasses import dataclass, replace
from typing import ClassVar

from oarlock.control.speed_design import Turning, loop_in_use
from oarlock.drive.contract.numbers import RECORDER_ROWS
from oarlock.drive.steps import Plan, Shape, Step, Target, Wave
from oarlock.experiments.common.experiment import plain_settings
from oarlock.experiments.common.movement import Movement
from oarlock.experiments.loops.at_speed import movement_at, plan_at, way_to
from oarlock.experiments.loops.speed_sweep import SpeedSweep
from oarlock.experiments.loops.speed_test import current_limit
from oarlock.machine import Axis
from oarlock.quantities.kinds import RPM
from oarlock.records import Plain

_REST = 0.15  # s, recorded ahead of each chirp and behind it, in which the shaft calms down
_COUNT = 12  # frequencies over which the amplitude of each chirp is sought
_ABOVE = 1.2  # of the speed loop's Nyquist frequency: what a bin of the recorder must tell


@dataclass(frozen=True, slots=True, kw_only=True)
class Glide:
    """One chirp."""

    low: float  # Hz
    high: float
    target: Target
    amplitude: float  # rad/s or N·m
    samples: int


@dataclass(frozen=True, slots=True, kw_only=True)
class SpeedChirp:
    """The plant's response from low to high, at a speed, in three glides."""

    name: ClassVar[str] = "speed sweep"
    may_grow: ClassVar[bool] = False
    speed: float  # rad/s
    torque: float  # N·m, peak, about what it moves the torque by
    low: float = 2.0  # Hz
    high: float = 0.0  # Hz; 0: up to nearly half the speed's sampling
    seconds: tuple[float, float, float] = (2.5, 3.0, 3.0)  # of each chirp, from low to high

    def scaled(self, factor: float) -> "SpeedChirp":
        """Return it at another amplitude."""
        return replace(self, torque=factor * self.torque)

    def glides(self, axis: Axis) -> list[Glide]:
        """Return the chirps: below the crossover, and two above it.

        Raises
        ------
        InputError : no gains, or no inertia

        """
        loop = loop_in_use(axis, turning=Turning(speed=self.speed))
        between = max(loop.margins.crossover / math.tau, 1.5 * self.low)
        high = max(self.high or 0.42 / loop.plant.T, 1.5 * between)
        made: list[Glide] = []
        middle = math.sqrt(between * high)
        spans = ((self.low, 0.999 * between), (between, middle), (middle, high))
        for (first, last), seconds in zip(spans, self.seconds, strict=True):
            sizes = [line.amplitude for line in SpeedSweep(
                speed=self.speed, torque=self.torque, low=first, high=last, count=_COUNT
            ).lines(axis)]  # fmt: skip
            target = Target.SPEED if first < between else Target.TORQUE
            every = self.decimation(axis)
            samples = round(seconds / axis.inverter.Ts / every) * every
            made.append(Glide(low=first, high=last, target=target, amplitude=min(sizes),
                              samples=samples))  # fmt: skip
        return made

    def decimation(self, axis: Axis) -> int:
        """Return how many samples make a row: fine enough for the loop, all in the recorder."""
        Ts = axis.inverter.Ts
        samples = (sum(self.seconds) + 2.0 * _REST * len(self.seconds)) / Ts
        fitting = math.ceil(samples / (0.95 * RECORDER_ROWS))
        return max(fitting, int(axis.inverter.divider / (2.0 * _ABOVE)), 1)

    def plan(self, axis: Axis) -> Plan:
        """Return the steps, limits and gains for this axis.

        Raises
        ------
        InputError : no gains in use, no inertia, or settings without sense

        """
        Ts, every = axis.inverter.Ts, self.decimation(axis)
        rest = replace(way_to(axis, self.speed), acceleration=0.0, record=True,
                       duration=_rest_samples(Ts, every) * Ts)  # fmt: skip
        steps: list[Step] = []
        for glide in self.glides(axis):
            wave = Wave(shape=Shape.CHIRP, target=glide.target, amplitude=glide.amplitude,
                        frequency=glide.low, end=glide.high)  # fmt: skip
            steps += [rest, replace(rest, duration=glide.samples * Ts, wave=wave, sums=True), rest]
        plan = plan_at(axis, self.name, self.speed, steps, ("iq_ref", "dtheta"))
        return replace(plan, decimation=every, average=True)

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""
        glides = self.glides(axis)
        return f"chirp {glides[0].low:.2g} to {glides[-1].high:.0f} Hz, {self.speed / RPM:.0f} rpm"

    def movement(self, axis: Axis) -> Movement:
        """Return what will move."""
        return movement_at(axis, self.speed, self.torque, self.plan(axis).duration)

    def settings(self, axis: Axis) -> dict[str, Plain]:
        """Return what the reading must know, as plain values."""
        every, glides = self.decimation(axis), self.glides(axis)
        plain = plain_settings(self)
        return {
            **plain, "limit": current_limit(axis), "decimation": every,
            "rest": _rest_samples(axis.inverter.Ts, every) // every,
            "glides": [float(x) for g in glides for x in (g.low, g.high, g.samples // every)],
        }  # fmt: skip


def _rest_samples(Ts: float, every: int) -> int:
    return math.ceil(_REST / Ts / every) * every
