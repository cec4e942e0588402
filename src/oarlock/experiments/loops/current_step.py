"""The test signal of the current loop: what is asked of the drive."""

from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from oarlock.control.current import loops_with
from oarlock.control.margins import margins
from oarlock.drive.steps import Plan, Shape, Step, Target, Wave
from oarlock.errors import InputError
from oarlock.experiments.common.experiment import limits_for, plain_settings
from oarlock.experiments.common.movement import Movement
from oarlock.experiments.loops.cascade import gains_for
from oarlock.experiments.loops.repeating import LEAST_REST, Repeating, cycles_within
from oarlock.machine import Axis
from oarlock.records import Plain

_LEAD = 0.2  # s, held before the first step


def _with_gains(plan: Plan, axis: Axis) -> Plan:
    """Return the plan with an axis's gains.

    Raises
    ------
    InputError : it has none, or a loop would swing up

    """
    gains = gains_for(axis)
    if not all(margins(loop.opened).stable for loop in loops_with(axis, gains)):
        raise InputError("the current loop would swing up with these gains", place="current step",
                         remedy="Ask for less")  # fmt: skip
    return plan.with_gains(gains)


def usual_current_step(axis: Axis, axis_name: str) -> "CurrentStep":
    """Return a step that suits an axis: at a bias, well below what the bus would cut.

    Raises
    ------
    InputError : no gains are in use

    """
    rated = axis.rated
    loop = loops_with(axis, gains_for(axis))[0 if axis_name == "d" else 1]
    linear = axis.inverter.v_max / float(np.abs(loop.step(64)[1]).max())
    return CurrentStep(axis_name=axis_name, amplitude=round(min(0.15 * rated, 0.7 * linear), 2),
                       bias=0.4 * rated)  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class CurrentStep:
    """The test signal of the current loop: a step of current, repeated and averaged."""

    name: ClassVar[str] = "current step"
    axis_name: str  # "d" or "q"
    amplitude: float  # A
    bias: float  # A, held before: away from zero, where the dead time bends the step
    repeats: int = 48
    seconds: float = 0.004  # recorded after the step

    def plan(self, axis: Axis) -> Plan:
        """Return the steps, limits and gains for this axis.

        Raises
        ------
        InputError : no gains in use yet, or settings without sense

        """
        if axis.gains is None:
            remedy = "Take the designed gains first"
            raise InputError("no gains are in use", place="current step", remedy=remedy)
        if self.axis_name not in ("d", "q") or not 1 <= self.repeats <= 128:
            raise InputError(f"cannot step {self.axis_name}, {self.repeats} times")
        return _with_gains(self._played(axis, 0.012, self.repeats), axis)

    def _played(self, axis: Axis, rest: float, repeats: int) -> Plan:
        """Return the plan with a rest (s) ahead of each step."""
        target = Target.I_D if self.axis_name == "d" else Target.I_Q
        wave = Wave(shape=Shape.STEP, target=target, amplitude=self.amplitude)
        i_d, i_q = (self.bias, 0.0) if self.axis_name == "d" else (0.0, self.bias)
        held = Step(duration=2.0 * axis.inverter.Ts, i_d=i_d, i_q=i_q)
        once = (
            replace(held, duration=rest, record=False),
            held,
            replace(held, duration=self.seconds, wave=wave),
        )
        settle = replace(held, duration=_LEAD, record=False)
        seconds = settle.duration + repeats * sum(step.duration for step in once)
        most = abs(self.bias) + abs(self.amplitude)
        axis_now = f"i{self.axis_name}"
        return Plan(
            name=self.name,
            steps=(settle, *(once * repeats)),
            channels=("t", f"{axis_now}_ref", "id", "iq", "vd", "vq", "vdc", "theta_m"),
            limits=limits_for(axis, 1.3 * most, seconds),
            gains=gains_for(axis),
        )

    def repeating(self, axis: Axis) -> Repeating:
        """Return how it goes on and on while gains are changed.

        Raises
        ------
        InputError : as `plan`

        """
        once = self.plan(axis)
        seconds = LEAST_REST + 2.0 * axis.inverter.Ts + self.seconds
        cycles = cycles_within(seconds, 3, 1)
        plan = replace(self._played(axis, LEAST_REST, cycles), round=True)
        rows = plan.recorded_rows(axis.inverter.Ts) // cycles
        return Repeating(
            plan=plan,
            settings=self.settings(axis),
            movement=Movement(what="stays where it is held, until you end it", speed=0.0,
                              current=once.largest_current, seconds=plan.duration),
            cycles=cycles, lead=_LEAD, rest=LEAST_REST, seconds=seconds, resting=0,
            rows=rows, limit=0.0,
            with_gains_of=_with_gains,
        )  # fmt: skip

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""
        return f"current step {self.amplitude:.3g} A, {self.axis_name} axis"

    def settings(self, axis: Axis) -> dict[str, Plain]:
        """Return what the estimator must know, as plain values."""
        rows = round(self.seconds / axis.inverter.Ts)
        return {**plain_settings(self), "rows_before": 2, "rows_after": rows}
