"""The experiments at standstill: direct current in six directions, and sines of voltage.

An experiment is frozen settings with `plan(axis)`. To add one, see docs/architecture.md.
"""

import math
from dataclasses import dataclass, replace
from typing import ClassVar

from oarlock.drive.steps import RECORDER_ROWS, Frame, Plan, Shape, Step, Target, Wave
from oarlock.experiments.common.experiment import limits_for, plain_settings
from oarlock.experiments.common.gentle import gentle_gains
from oarlock.machine import Axis
from oarlock.records import Plain

_RISES = 15  # steps in which a current rises
_OVER_DEAD_TIME = 6.0  # of the inductance's voltage over the dead time's


@dataclass(frozen=True, slots=True, kw_only=True)
class ResistanceHolds:
    """Direct current along six directions at falling levels: R and the dead time's share."""

    name: ClassVar[str] = "resistance"
    may_grow: ClassVar[bool] = False
    levels: tuple[float, ...] = (1.2, 1.0, 0.8, 0.6, 0.4, 0.25, 0.15, 0.08)  # of rated current
    directions: int = 6
    rise: float = 0.15  # s, in which the current rises after the direction changed; at first twice
    turn: float = 0.2  # s, after that
    settle: float = 0.06  # s, after the level changed
    hold: float = 0.025  # s, recorded

    def scaled(self, factor: float) -> "ResistanceHolds":
        """Return it at another amplitude."""
        return replace(self, levels=tuple(factor * level for level in self.levels))

    def longer(self) -> "ResistanceHolds":
        """Return it with more time to settle."""
        return replace(self, turn=2.5 * self.turn, settle=2.5 * self.settle)

    def _raised(self, current: float, angle: float, seconds: float) -> list[Step]:
        """Return how a current rises: a free rotor turns towards it and does not jump."""
        step = Step(duration=seconds / _RISES, frame=Frame.FIXED, angle=angle, record=False)
        return [replace(step, i_d=current * (n + 1) / (_RISES + 1)) for n in range(_RISES)]

    def plan(self, axis: Axis) -> Plan:
        """Return the steps, limits and gains for this axis."""
        rated, steps = axis.rated, []
        for n in range(self.directions):
            angle = n * math.tau / self.directions
            steps += self._raised(max(self.levels) * rated, angle, self.rise * (1 if n else 2))
            for i, level in enumerate(self.levels):
                wait = self.turn if i == 0 else self.settle
                current = level * rated
                for duration, record in ((wait, False), (self.hold, True)):
                    steps.append(
                        Step(
                            duration=duration,
                            i_d=current,
                            frame=Frame.FIXED,
                            angle=angle,
                            record=record,
                        )
                    )
        seconds = sum(step.duration for step in steps)
        return Plan(
            name=self.name,
            steps=tuple(steps),
            channels=("t", "id", "iq", "vd", "vq", "id_ref", "theta_e", "theta_m"),
            decimation=round(self.hold / 5 / axis.inverter.Ts),
            average=True,
            limits=limits_for(axis, max(self.levels) * rated, seconds),
            gains=gentle_gains(axis, math.tau * 120.0),
        )

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""
        most = max(self.levels) * axis.rated
        return f"direct current to {most:.0f} A, {self.directions} ways"

    def settings(self, axis: Axis) -> dict[str, Plain]:
        """Return what the estimator must know, as plain values."""
        return {**plain_settings(self), "rated_current": axis.rated}


@dataclass(frozen=True, slots=True, kw_only=True)
class InductanceSine:
    """A sine of voltage along d or q on a held current: the incremental inductance there."""

    name: ClassVar[str] = "inductance"
    may_grow: ClassVar[bool] = True
    axis_name: str  # "d" or "q"
    frequency: float = 1000.0  # Hz, at least; half of it is tried as well
    amplitude: float = 0.12  # of rated current
    bias: float = 0.3  # of rated current, along d
    q_biases: tuple[float, ...] = ()  # of peak current, along q: maps saturation; brake needed
    d_biases: tuple[float, ...] = ()  # of peak current, along d: maps saturation
    fast: tuple[float, ...] = (0.13, 0.18)  # of the sampling: sines that tell the loop's delay
    seconds: float = 0.14  # recorded for each sine
    settle: float = 1.2  # s, until a free rotor has come to rest along the bias
    aligned: bool = False  # the bias pulls a free rotor along a fixed angle, instead of following

    def sine(self, axis: Axis) -> float:
        """Return the frequency, Hz: so high that the dead time's voltage is small beside L's."""
        m = axis.machine
        L = m.Ld.value if self.axis_name == "d" else m.Lq.value
        amperes = self.amplitude * axis.rated
        needed = _OVER_DEAD_TIME * axis.inverter.dead_voltage.value / (math.tau * L * amperes)
        return max(self.frequency, min(needed, 0.15 / axis.inverter.Ts))

    def recorded(self, axis: Axis) -> float:
        """Return how long each sine is recorded, s: as long as the recorder has room."""
        room = RECORDER_ROWS * axis.inverter.Ts / len(self.segments(axis))
        return min(self.seconds, math.floor(room / 0.002) * 0.002)

    def segments(self, axis: Axis) -> list[tuple[float, float, float]]:
        """Return (frequency Hz, i_d A, i_q A) of each sine, in order."""
        i_d = self.bias * axis.rated
        f = self.sine(axis)
        plain = [(f, i_d, 0.0), (0.5 * f, i_d, 0.0)]
        peak = axis.peak
        far = [(f, 0.0, b * peak) for b in self.q_biases]
        far += [(f, b * peak, 0.0) for b in self.d_biases]
        if self.axis_name == "q" and not self.aligned:  # a free rotor would turn round
            far.append((f, -i_d, 0.0))
        return plain + [(f / axis.inverter.Ts, i_d, 0.0) for f in self.fast] + far

    def scaled(self, factor: float) -> "InductanceSine":
        """Return it at another amplitude."""
        return replace(self, amplitude=factor * self.amplitude)

    def longer(self) -> "InductanceSine":
        """Return it with more time for the rotor's swing to die out."""
        return replace(self, settle=2.5 * self.settle)

    def plan(self, axis: Axis) -> Plan:
        """Return the steps, limits and gains for this axis."""
        m = axis.machine
        L = m.Ld.value if self.axis_name == "d" else m.Lq.value
        wanted = self.amplitude * axis.rated
        target = Target.V_D if self.axis_name == "d" else Target.V_Q
        most = max(math.hypot(i_d, i_q) for _, i_d, i_q in self.segments(axis))
        steps: list[Step] = []
        for f, i_d, i_q in self.segments(axis):
            volts = min(wanted * math.tau * f * L, 0.75 * axis.inverter.v_max)
            wave = Wave(shape=Shape.SINE, target=target, amplitude=volts, frequency=f)
            frame = Frame.FIXED if self.aligned else Frame.ROTOR
            held = Step(duration=self.recorded(axis), i_d=i_d, i_q=i_q, wave=wave, frame=frame)
            wait = self.settle if self.aligned and not steps else 0.1
            steps.append(replace(held, duration=wait, record=False, wave=None))
            steps.append(replace(held, duration=0.04, record=False))
            steps.append(held)
        seconds = sum(step.duration for step in steps)
        return Plan(
            name=self.name,
            steps=tuple(steps),
            channels=("t", "id", "iq", "vd", "vq", "theta_e", "theta_m"),
            limits=limits_for(axis, most + 2.0 * wanted, seconds),
            gains=gentle_gains(axis, math.tau * 60.0),
        )

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""
        current = self.amplitude * axis.rated
        return f"sine {self.sine(axis) / 1e3:.3g} kHz, {current:.2g} A, {self.axis_name} axis"

    def settings(self, axis: Axis) -> dict[str, Plain]:
        """Return what the estimator must know, as plain values."""
        rows = round(self.recorded(axis) / axis.inverter.Ts)
        segments = [
            {"frequency": f, "i_d": i_d, "i_q": i_q, "rows": rows}
            for f, i_d, i_q in self.segments(axis)
        ]
        return {"axis_name": self.axis_name, "segments": segments}
