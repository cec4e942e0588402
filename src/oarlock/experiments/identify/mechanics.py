"""Inertia, friction and load torque from trapezoids of speed both ways.

The torque comes from the q current, the motion from the angle alone: on each stretch of one
direction the equation of motion is integrated twice, so that nothing is differentiated,

    ∬Te = J·θ + B·∫θ + Tc·∬sgn(w) + TL·t²/2 + Q·∬w|w| + c0 + c1·t,

and solved by least squares over all stretches; the term of a propeller or a fan, Q, is taken in
only where it explains much of what is left. What one stretch leaves is one cluster: the
uncertainty is the sandwich over clusters (Liang and Zeger 1986), with the models' own error, the
spread between fits that leave some stretches out, on top.
"""

import math
from dataclasses import dataclass, replace
from typing import ClassVar

from oarlock.drive.steps import Frame, Plan, Step
from oarlock.experiments.common.gentle import gentle_gains
from oarlock.experiments.common.movement import Movement, abort_limits
from oarlock.experiments.common.speed import (
    MOST_SHARE,
    excursion,
    most_by_edges,
    no_load_speed,
    pace_by_edges,
    ramp,
    ramp_time,
    settling_by_edges,
    speed_loop,
    within_travel,
)
from oarlock.experiments.identify.between_edges import HOLDING
from oarlock.machine import Axis, SensorKind
from oarlock.quantities.kinds import RPM
from oarlock.records import Plain

_ROWS = 15000


@dataclass(frozen=True, slots=True, kw_only=True)
class SpeedTrapezoids:
    """Speeds up and down both ways, with plateaus at three levels."""

    name: ClassVar[str] = "inertia"
    may_grow: ClassVar[bool] = True
    top: float = 0.5  # of the no-load speed
    levels: tuple[float, ...] = (1.0, 0.6, 0.25)  # of the top, of the plateaus
    torque: float = 0.3  # of rated, while the speed changes
    plateau: float = 0.3  # s
    repeats: int = 2
    crossover: float = math.tau * 5.0  # rad/s, of the speed controller

    def speed(self, axis: Axis) -> float:
        """Return the top speed, rad/s mechanical, as far as travel lets it."""
        full = self._full(axis)
        return full * within_travel(axis, excursion(self._steps(axis, full)))

    def _steps(self, axis: Axis, top: float) -> list[Step]:
        pace = self._pace(axis)
        plateau = max(self.plateau, settling_by_edges(pace, self.crossover))
        going = Step(duration=plateau, frame=Frame.SPEED, release=True)
        steps = [replace(going, duration=0.05)]
        for way in (1.0, -1.0):  # creep until it breaks away
            steps += ramp(going, 0.0, way * 0.02 * top, 0.4)
            steps += [replace(going, duration=0.1, speed=way * 0.02 * top)]
            steps += ramp(going, way * 0.02 * top, 0.0, 0.1)
        for _ in range(self.repeats):
            for way in (1.0, -1.0):
                at = 0.0
                for level in (*self.levels, 0.0):
                    speed = way * level * top
                    steps += ramp(going, at, speed, ramp_time(axis, speed - at, self.torque))
                    at = speed
                    if level:
                        steps.append(replace(going, speed=speed))
        return steps

    def _full(self, axis: Axis) -> float:
        """Return the top speed where travel has no limit, rad/s."""
        return min(self.top * no_load_speed(axis), 0.5 * axis.top_speed)

    def _pace(self, axis: Axis) -> float:
        return pace_by_edges(axis, self.crossover, min(self.levels) * self._full(axis))

    def scaled(self, factor: float) -> "SpeedTrapezoids":
        """Return it at another amplitude."""
        return replace(self, top=factor * self.top, torque=factor * self.torque)

    def plan(self, axis: Axis) -> Plan:
        """Return the steps, limits and gains for this axis."""
        top = self.speed(axis)
        steps = self._steps(axis, top)
        seconds = sum(step.duration for step in steps)
        rated = axis.rated
        halls = ("hall",) if axis.sensor.kind is SensorKind.HALL else ()
        return Plan(
            name=self.name,
            steps=tuple(steps),
            channels=("t", "theta_m", "iq", "id", "speed", *halls),
            decimation=max(math.ceil(seconds / axis.inverter.Ts / _ROWS), 1),
            average=True,
            limits=abort_limits(
                axis, current=MOST_SHARE * rated, turns=1.3 * excursion(steps) + 2.0,
                speed=1.25 * top + 5.0, seconds=seconds,
            ),
            gains=gentle_gains(axis, HOLDING),
            speed=replace(speed_loop(axis, self._pace(axis)), limit=most_by_edges(axis)),
            decouple=True,
        )  # fmt: skip

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""
        return f"trapezoids to ±{self.speed(axis) / RPM:.0f} rpm, {self.repeats} ×"

    def movement(self, axis: Axis) -> Movement:
        """Return what will move."""
        top = self.speed(axis)
        steps = self._steps(axis, top)
        return Movement(
            what=f"turns up to {excursion(steps):.0f} turns, both ways",
            speed=top,
            current=(self.torque + 0.3) * axis.rated,
            seconds=sum(step.duration for step in steps),
        )

    def settings(self, axis: Axis) -> dict[str, Plain]:
        """Return what the estimator must know, as plain values."""
        return {"speed": self.speed(axis), "creeps": [0.05, 0.73], "creep": 0.5}
