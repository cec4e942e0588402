"""The test signal of the position loop: a relative move, there and back, repeated."""

import math
from dataclasses import dataclass, replace
from typing import ClassVar

from oarlock.control.position_design import position_target
from oarlock.control.profile import Move
from oarlock.control.speed_design import usual_speed
from oarlock.drive.steps import Frame, Plan, Step
from oarlock.drive.steps import SpeedLoop as SpeedSettings
from oarlock.errors import InputError
from oarlock.experiments.common.experiment import plain_settings
from oarlock.experiments.common.movement import Movement, abort_limits
from oarlock.experiments.loops.cascade import gains_for, with_position_loop
from oarlock.experiments.loops.repeating import LEAST_REST, Repeating, cycles_within
from oarlock.experiments.loops.speed_test import current_limit
from oarlock.machine import Axis
from oarlock.quantities.display import digits
from oarlock.records import Plain

_ROWS = 14000
_TORQUE = 0.4  # of rated, that a usual move accelerates with


_HOLD = 0.2  # s, before the first move and after the last


def usual_move(axis: Axis) -> Move:
    """Return a move that suits an axis: by its own ramp, or well below rated torque.

    Raises
    ------
    InputError : no inertia is known

    """
    if axis.machine.inertia is None:
        raise InputError("the inertia is not known", place="position loop",
                         remedy="Measure it in Identify")  # fmt: skip
    m = axis.machine
    steep = _TORQUE * m.torque_constant * axis.rated / axis.machine.inertia.value
    most = axis.mechanics.max_turns
    turns = min(1.0, 0.3 * most.value) if most is not None else 1.0
    anti = axis.mechanics.anti_resonance.value
    jerk = math.tau / anti if anti else 0.01
    usual = Move(distance=math.tau * turns, speed=usual_speed(axis),
                 acceleration=float(f"{steep:.2g}"), jerk_time=round(jerk, 3))  # fmt: skip
    return replace(usual, **position_target(axis).ramp)


@dataclass(frozen=True, slots=True, kw_only=True)
class PositionMove:
    """A move by the position loop's own gains, there and back."""

    name: ClassVar[str] = "position move"
    distance: float  # rad
    speed: float  # rad/s
    acceleration: float  # rad/s²
    jerk_time: float = 0.0  # s
    window: float = math.radians(0.2)  # rad to each side, in which it has settled
    repeats: int = 2
    settle: float = 0.4  # s, after the profile's end

    @property
    def move(self) -> Move:
        """The profile."""
        return Move(distance=self.distance, speed=self.speed, acceleration=self.acceleration,
                    jerk_time=self.jerk_time)  # fmt: skip

    def _duration(self, axis: Axis) -> float:
        T = axis.inverter.divider * axis.inverter.Ts
        return math.ceil((self.move.duration + self.settle) / T) * T

    def _decimation(self, axis: Axis) -> int:
        samples = 2 * self.repeats * self._duration(axis) / axis.inverter.Ts
        fitting = [d for d in range(1, axis.inverter.divider + 1)
                   if axis.inverter.divider % d == 0 and samples / d <= _ROWS]  # fmt: skip
        return fitting[0] if fitting else axis.inverter.divider

    def plan(self, axis: Axis) -> Plan:
        """Return the steps, limits and gains for this axis.

        Raises
        ------
        InputError : a loop has no gains, or settings without sense

        """
        if not (self.distance and self.speed > 0.0 and self.acceleration > 0.0):
            raise InputError("a move needs a distance, a speed and an acceleration",
                             place=self.name)  # fmt: skip
        return self._played(axis, 0.0, self.repeats, self._decimation(axis))

    def _played(self, axis: Axis, rest: float, repeats: int, decimation: int) -> Plan:
        """Return the plan with a rest (s) ahead of each move there."""
        limit = current_limit(axis)
        speed = min(self.speed, 1.05 * self.move.top)  # what a short move reaches
        hold = Step(duration=_HOLD, frame=Frame.POSITION, release=True, record=False,
                    speed=speed, acceleration=self.acceleration)  # fmt: skip
        there = replace(hold, duration=self._duration(axis), distance=self.distance,
                        jerk_time=self.jerk_time, record=True)  # fmt: skip
        back = replace(there, distance=-self.distance)
        if rest:
            still = replace(hold, duration=rest, record=True)
            steps = (hold, *((still, there, back) * repeats), hold)
        else:
            steps = (hold, *((there, back) * repeats), hold)
        turns = abs(self.distance) / math.tau
        plan = Plan(
            name=self.name,
            steps=steps,
            channels=("t", "position_ref", "theta_m", "speed_ref", "speed", "iq_ref", "vd", "vq"),
            decimation=decimation,
            limits=abort_limits(axis, current=limit, turns=1.1 * turns + 0.3,
                                speed=1.6 * self.move.top + 10.0,
                                seconds=sum(step.duration for step in steps)),
            gains=gains_for(axis),
            speed=SpeedSettings(limit=limit),
        )  # fmt: skip
        return with_position_loop(plan, axis)

    def repeating(self, axis: Axis) -> Repeating:
        """Return how it goes on and on while gains are changed.

        Raises
        ------
        InputError : as `plan`

        """
        self.plan(axis)
        divider, each = axis.inverter.divider, self._duration(axis)
        seconds = LEAST_REST + 2.0 * each
        cycles = cycles_within(seconds, 3, 2)
        plan = replace(self._played(axis, LEAST_REST, cycles, divider), round=True)
        rows = round(each / (divider * axis.inverter.Ts))
        return Repeating(
            plan=plan,
            settings={**self.settings(axis), "rows": rows, "decimation": divider},
            movement=replace(self.movement(axis), what=f"{self._far} and back, until you end it",
                             seconds=plan.duration),
            cycles=cycles, lead=_HOLD, rest=LEAST_REST, seconds=seconds,
            resting=round(LEAST_REST / (divider * axis.inverter.Ts)), rows=2 * rows,
            limit=current_limit(axis),
            with_gains_of=with_position_loop,
        )  # fmt: skip

    @property
    def _far(self) -> str:
        turns = abs(self.distance) / math.tau
        return f"turns {turns:.3g} turn{'s' * (turns != 1.0)}"

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""
        turns = self.distance / math.tau
        return f"move {digits(turns, 3)} turn{'s' * (turns != 1.0)} and back"

    def movement(self, axis: Axis) -> Movement:
        """Return what will move."""
        return Movement(what=f"{self._far} and back, {self.repeats} ×",
                        speed=1.2 * self.move.top, current=current_limit(axis),
                        seconds=self.plan(axis).duration)  # fmt: skip

    def settings(self, axis: Axis) -> dict[str, Plain]:
        """Return what the reading must know, as plain values."""
        every = self._decimation(axis)
        rows = round(self._duration(axis) / (every * axis.inverter.Ts))
        return {**plain_settings(self), "rows": rows, "decimation": every,
                "divider": axis.inverter.divider, "limit": current_limit(axis)}  # fmt: skip
