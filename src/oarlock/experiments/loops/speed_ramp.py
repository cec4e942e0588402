"""The test signal of a ramp: from one speed to another by an acceleration, and back."""

import math
from dataclasses import dataclass, replace
from typing import ClassVar

from oarlock.control.position_design import position_target
from oarlock.control.ramp import Ramp
from oarlock.drive.steps import Plan, Step
from oarlock.errors import InputError
from oarlock.experiments.common.experiment import plain_settings
from oarlock.experiments.common.movement import Movement
from oarlock.experiments.common.speed import rough_inertia
from oarlock.experiments.loops.repeating import Repeating
from oarlock.experiments.loops.speed_test import (
    TORQUE,
    Timing,
    current_limit,
    goes_back,
    played_at_speed,
    repeated,
    repeated_timing,
    timing_at,
    way_to,
)
from oarlock.machine import Axis
from oarlock.quantities.kinds import RPM
from oarlock.records import Plain

_REPEATS = 8
LONGEST = 20.0  # s of one ramp: a recorder is not for more
_ROWS = 14000
_BUILT_UP = 0.25  # of the shortest ramp, that a usual jerk time may take


def usual_ramp(axis: Axis, speed: float) -> Ramp:
    """Return a ramp from `speed` (rad/s) that suits an axis: its own, or well below rated torque.

    Raises
    ------
    InputError : no inertia is known

    """
    change = min(abs(speed), max(axis.top_speed - abs(speed), 0.0))
    change = math.copysign(float(f"{change / RPM:.2g}") * RPM, speed)
    steep = TORQUE * axis.machine.torque_constant * axis.rated / rough_inertia(axis)
    steep = float(f"{steep:.2g}")
    anti = axis.mechanics.anti_resonance.value
    jerk = min(math.tau / anti if anti else 0.01, _BUILT_UP * abs(change) / steep)
    usual = {"acceleration": steep, "jerk_time": round(jerk, 3)}
    own = {name: value for name, value in position_target(axis).ramp.items() if name in usual}
    return Ramp(change=change, **{**usual, **own})


@dataclass(frozen=True, slots=True, kw_only=True)
class SpeedRamp:
    """A ramp of the speed asked for, with the loop's own gains."""

    name: ClassVar[str] = "speed ramp"
    speed: float  # rad/s, before
    amplitude: float  # rad/s, by which it changes
    acceleration: float  # rad/s²
    jerk_time: float = 0.0  # s
    repeats: int = _REPEATS

    @property
    def ramp(self) -> Ramp:
        """The profile."""
        return Ramp(change=self.amplitude, acceleration=self.acceleration,
                    jerk_time=self.jerk_time)  # fmt: skip

    def _timing(self, axis: Axis) -> Timing:
        """Return the durations: after a ramp the loop has the time that a step would have.

        Raises
        ------
        InputError : no gains, or a ramp without sense

        """
        sound = self.amplitude and self.acceleration > 0.0 and self.jerk_time >= 0.0
        if not (sound and math.isfinite(self.amplitude + self.acceleration + self.jerk_time)):
            raise InputError("a ramp needs a change of speed and an acceleration", place=self.name)
        self.refuse_endless()
        plain, divider, Ts = timing_at(axis, self.speed, 1), axis.inverter.divider, axis.inverter.Ts
        T = divider * Ts
        after = math.ceil((self.ramp.duration + plain.after) / T) * T
        samples = self.repeats * (plain.before + after) / Ts
        fitting = [d for d in range(1, divider + 1) if divider % d == 0 and samples / d <= _ROWS]
        return Timing(settle=after, before=plain.before, after=after,
                      decimation=fitting[0] if fitting else divider)  # fmt: skip

    def refuse_endless(self) -> None:
        """Raise `InputError` where the ramp takes longer than can be played or drawn."""
        if not self.ramp.duration <= LONGEST:
            cause = f"the ramp takes {self.ramp.duration:.3g} s, longer than {LONGEST:.0f}"
            raise InputError(cause, place=self.name, remedy="Ask for more acceleration")

    def plan(self, axis: Axis) -> Plan:
        """Return the steps, limits and gains for this axis.

        Raises
        ------
        InputError : no gains in use, no inertia, or settings without sense

        """
        if not 1 <= self.repeats <= 40:
            raise InputError(f"cannot repeat it {self.repeats} times", place=self.name)
        timing, way = self._timing(axis), way_to(axis, self.speed)
        once = self._once(way, timing)
        back = replace(once[0], record=False)
        steps = (way, *(once * self.repeats), back, replace(way, speed=0.0))
        turns = sum(abs(step.speed) * step.duration for step in steps) / math.tau
        return played_at_speed(self.name, axis, steps, timing.decimation, turns, self._top)

    def _once(self, way: Step, timing: Timing) -> tuple[Step, Step, Step]:
        """Return the ramp back and a rest, what is recorded ahead, and the ramp."""
        back = replace(way, duration=timing.settle, acceleration=self.acceleration,
                       jerk_time=self.jerk_time)  # fmt: skip
        before = replace(back, duration=timing.before, record=True)
        there = replace(before, duration=timing.after, speed=self.speed + self.amplitude)
        return back, before, there

    @property
    def _top(self) -> float:
        return max(abs(self.speed), abs(self.speed + self.amplitude))

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""
        ends = f"{self.speed / RPM:.0f} to {(self.speed + self.amplitude) / RPM:.0f} rpm"
        return f"speed ramp {ends} by {self.acceleration:.3g} rad/s²"

    def movement(self, axis: Axis) -> Movement:
        """Return what will move."""
        plan = self.plan(axis)
        turns = sum(abs(step.speed) * step.duration for step in plan.steps) / math.tau
        return Movement(what=f"turns {turns:.0f} turns one way", speed=1.3 * self._top,
                        current=current_limit(axis), seconds=plan.duration)  # fmt: skip

    def repeating(self, axis: Axis) -> Repeating:
        """Return how it goes on and on while gains are changed.

        Raises
        ------
        InputError : as `plan`

        """
        self._timing(axis)  # refuses a ramp without sense
        plain, ramp = timing_at(axis, self.speed, 1), self.ramp
        change = 2.0 * self.speed + self.amplitude if goes_back(axis) else self.amplitude
        back = replace(ramp, change=change).duration
        timing = repeated_timing(axis, back, plain.before, plain.after,
                                 ramp.duration + 1.5 * plain.after)  # fmt: skip
        at = replace(way_to(axis, self.speed), acceleration=self.acceleration,
                     jerk_time=self.jerk_time)  # fmt: skip

        def once(at: Step, side: float) -> tuple[Step, Step, Step]:
            before = replace(at, duration=timing.before)
            there = replace(before, duration=timing.after,
                            speed=side * (self.speed + self.amplitude))  # fmt: skip
            return at, before, there

        return repeated(self.name, plain_settings(self), axis, timing, at, once, self._top)

    def settings(self, axis: Axis) -> dict[str, Plain]:
        """Return what the reading must know, as plain values."""
        timing, divider = self._timing(axis), axis.inverter.divider
        row = timing.decimation * axis.inverter.Ts
        return {
            **plain_settings(self),
            "rows_before": round(timing.before / row), "rows_after": round(timing.after / row),
            "decimation": timing.decimation, "divider": divider, "limit": current_limit(axis),
        }  # fmt: skip
