"""Many sines at once at a speed: the plant of the speed loop, with what repeats but is no answer.

Below the crossover the speed asked for is moved, above it the torque: two multisines, each played
for whole periods. Only odd multiples of a period's frequency sound. What appears between them is
noise, or comes of a machine that is not linear, which the scatter between periods does not tell
(Pintelon and Schoukens, System Identification, 2nd edition, section 4.3).
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
from oarlock.experiments.loops.multisine import odd_bins, quiet_phases
from oarlock.experiments.loops.speed_sweep import SpeedSweep
from oarlock.experiments.loops.speed_test import current_limit
from oarlock.machine import Axis
from oarlock.quantities.kinds import RPM
from oarlock.records import Plain

_HIGHEST = 0.25  # of the sampling: beyond, many lines at once are too weak to tell much
_COUNTS = (14, 32)  # lines of each part, at most: a drive holds 64 in all
_ABOVE = 1.2  # of the speed loop's Nyquist frequency: what a bin of the recorder must tell


@dataclass(frozen=True, slots=True, kw_only=True)
class Part:
    """One multisine: a period in rows of the recorder, and what sounds in it."""

    rows: int  # of a period
    periods: int
    bins: tuple[int, ...]  # multiples of the period's frequency
    target: Target
    lines: tuple[tuple[float, float, float], ...]  # Hz, amplitude (rad/s or N·m), rad


@dataclass(frozen=True, slots=True, kw_only=True)
class SpeedMultisine:
    """The plant's response from low to high, at a speed, all frequencies of a part at once."""

    name: ClassVar[str] = "speed sweep"
    may_grow: ClassVar[bool] = False
    speed: float  # rad/s
    torque: float  # N·m, peak, about what all lines together move the torque by
    low: float = 2.0  # Hz
    high: float = 0.0  # Hz; 0: up to a quarter of the speed loop's sampling
    seconds: tuple[float, float] = (1.5, 0.5)  # of a period of each part
    periods: tuple[int, int] = (3, 14)

    def scaled(self, factor: float) -> "SpeedMultisine":
        """Return it at another amplitude."""
        return replace(self, torque=factor * self.torque)

    def parts(self, axis: Axis) -> list[Part]:
        """Return the part below the crossover and the one above it.

        Raises
        ------
        InputError : no gains, or no inertia

        """
        loop = loop_in_use(axis, turning=Turning(speed=self.speed))
        every, Ts = self.decimation(axis), axis.inverter.Ts
        sweep = SpeedSweep(speed=self.speed, torque=self.torque)
        between = max(loop.margins.crossover / math.tau, 1.5 * self.low)
        high = max(self.high or _HIGHEST / loop.plant.T, 1.5 * between)
        made, spans = [], ((self.low, 0.999 * between), (between, high))
        for n, (first, last) in enumerate(spans):
            rows = round(self.seconds[n] / (every * Ts))
            base = 1.0 / (rows * every * Ts)
            bins = odd_bins(first / base, last / base, _COUNTS[n])
            phases, peak = quiet_phases(bins)
            target = Target.TORQUE if n else Target.SPEED
            sizes = [sweep.size(axis, loop, base * k)[1] / peak for k in bins]
            lines = zip([base * k for k in bins], sizes, phases, strict=True)
            made.append(Part(rows=rows, periods=self.periods[n], bins=bins, target=target,
                             lines=tuple(lines)))  # fmt: skip
        return made

    def decimation(self, axis: Axis) -> int:
        """Return how many samples make a row: fine enough for the loop, all in the recorder."""
        seconds = sum(s * p for s, p in zip(self.seconds, self.periods, strict=True))
        fitting = math.ceil(seconds / axis.inverter.Ts / (0.95 * RECORDER_ROWS))
        return max(fitting, int(axis.inverter.divider / (2.0 * _ABOVE)), 1)

    def plan(self, axis: Axis) -> Plan:
        """Return the steps, limits and gains for this axis.

        Raises
        ------
        InputError : no gains in use, no inertia, or settings without sense

        """
        every, Ts = self.decimation(axis), axis.inverter.Ts
        at = replace(way_to(axis, self.speed), acceleration=0.0)
        parts, steps = self.parts(axis), []
        for part in parts:
            period = part.rows * every * Ts
            low, high = 0.99 * part.lines[0][0], 1.01 * part.lines[-1][0]
            wave = Wave(shape=Shape.LINES, target=part.target, amplitude=1.0,
                        frequency=low, end=high)  # fmt: skip
            settle = replace(at, duration=period, wave=wave)
            steps += [settle, _recorded(settle, part.periods)]
        plan = plan_at(axis, self.name, self.speed, steps, ("iq_ref", "dtheta"))
        lines = tuple(line for part in parts for line in part.lines)
        return replace(plan, decimation=every, average=True, lines=lines)

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""
        low, high = self.parts(axis)
        first, last = low.lines[0][0], high.lines[-1][0]
        return f"multisine {first:.2g} to {last:.0f} Hz, {self.speed / RPM:.0f} rpm"

    def movement(self, axis: Axis) -> Movement:
        """Return what will move."""
        return movement_at(axis, self.speed, self.torque, self.plan(axis).duration)

    def settings(self, axis: Axis) -> dict[str, Plain]:
        """Return what the reading must know, as plain values."""
        parts = self.parts(axis)
        return {
            **plain_settings(self), "limit": current_limit(axis),
            "decimation": self.decimation(axis),
            "spans": [float(x) for part in parts for x in (part.rows, part.periods)],
            "bins_below": [float(k) for k in parts[0].bins],
            "bins_above": [float(k) for k in parts[1].bins],
        }  # fmt: skip


def _recorded(settle: Step, periods: int) -> Step:
    """Return a step that goes on for whole periods, recorded, with what met a limit."""
    return replace(settle, duration=periods * settle.duration, record=True, sums=True)
