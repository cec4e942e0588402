"""Many sines of voltage at once in the closed current loop: its open loop in half a second.

As `current_sweep`, all lines sounding together over whole periods. Only odd multiples of the
period's frequency sound: what repeats between them comes of what is not linear, such as the dead
time (Pintelon and Schoukens, System Identification, 2nd edition, section 4.3).
"""

import math
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from oarlock.control.current import loops_with
from oarlock.drive.steps import Plan, Shape, Step, Target, Wave
from oarlock.errors import InputError
from oarlock.experiments.common.experiment import limits_for, plain_settings
from oarlock.experiments.loops.cascade import gains_for
from oarlock.experiments.loops.multisine import odd_bins, peak_of, quiet_phases, with_gaps
from oarlock.machine import Axis
from oarlock.records import Plain

_MOST_VOLTS = 0.35  # of what the bus gives, all lines together
_HIGHEST = 0.42  # of the sampling
_SETTLE = 2  # periods
_STEEP = 2.0  # times the volts that a line at the crossover takes: above, lines move less current


@dataclass(frozen=True, slots=True, kw_only=True)
class CurrentMultisine:
    """A multisine of voltage on one axis, on a held current."""

    name: ClassVar[str] = "current sweep"
    axis_name: str  # "d" or "q"
    bias: float  # A, held meanwhile: away from zero, where the dead time bends the answer
    amplitude: float  # A, about the most that all lines together move the current by
    count: int = 40
    low: float = 60.0  # Hz
    periods: int = 12

    def rows(self, axis: Axis) -> int:
        """Return the samples of a period: of three times the lowest line's."""
        return round(3.0 / (self.low * axis.inverter.Ts))

    def bins(self, axis: Axis) -> tuple[int, ...]:
        """Return the multiples of the period's frequency that sound, rising."""
        rows = self.rows(axis)
        lowest = self.low * rows * axis.inverter.Ts
        return with_gaps(odd_bins(lowest, _HIGHEST * rows, self.count))

    def lines(self, axis: Axis) -> tuple[tuple[float, float, float], ...]:
        """Return (Hz, V, rad) of each line.

        Each moves the current by as much, but for the highest, which the bus would not carry.

        Raises
        ------
        InputError : no gains, or no such axis

        """
        if self.axis_name not in ("d", "q"):
            raise InputError(f"cannot sweep {self.axis_name}", place=self.name)
        loop = loops_with(axis, gains_for(axis))[0 if self.axis_name == "d" else 1]
        bins, base = self.bins(axis), 1.0 / (self.rows(axis) * axis.inverter.Ts)
        omega = math.tau * base * np.array(bins, dtype=np.float64)
        answer = np.array([loop.winding.at(w) / (1.0 + loop.opened.at(w)) for w in omega])
        moved = np.abs(answer)
        crossing = int(np.argmin(np.abs(np.log(np.abs([loop.opened.at(w) for w in omega])))))
        volts = np.minimum(1.0 / moved, _STEEP / moved[crossing])
        phases, peak = quiet_phases(bins, tuple(volts.tolist()))
        current = peak_of(bins, volts * answer * np.exp(1j * np.array(phases)))
        share = min(self.amplitude / current, _MOST_VOLTS * axis.inverter.v_max / peak)
        return tuple(zip((omega / math.tau).tolist(), (share * volts).tolist(), phases,
                         strict=True))  # fmt: skip

    def plan(self, axis: Axis) -> Plan:
        """Return the steps, limits and gains for this axis.

        Raises
        ------
        InputError : no gains in use yet, or settings without sense

        """
        period = self.rows(axis) * axis.inverter.Ts
        target = Target.V_D if self.axis_name == "d" else Target.V_Q
        i_d, i_q = (self.bias, 0.0) if self.axis_name == "d" else (0.0, self.bias)
        wave = Wave(shape=Shape.LINES, target=target, amplitude=1.0)
        steps = (
            Step(duration=0.2, i_d=i_d, i_q=i_q, record=False),
            Step(duration=_SETTLE * period, i_d=i_d, i_q=i_q, wave=wave, record=False),
            Step(duration=self.periods * period, i_d=i_d, i_q=i_q, wave=wave, sums=True),
        )
        most = abs(self.bias) + 1.5 * self.amplitude
        return Plan(
            name=self.name, steps=steps, channels=(f"v{self.axis_name}", f"i{self.axis_name}"),
            limits=limits_for(axis, 1.3 * most, sum(step.duration for step in steps)),
            gains=gains_for(axis), lines=self.lines(axis),
        )  # fmt: skip

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""
        lines = self.lines(axis)
        high = lines[-1][0] / 1e3
        return f"multisine {lines[0][0]:.0f} Hz to {high:.2g} kHz, {self.axis_name} axis"

    def settings(self, axis: Axis) -> dict[str, Plain]:
        """Return what the reading must know, as plain values."""
        lines = self.lines(axis)
        return {**plain_settings(self), "rows": self.rows(axis),
                "base": 1.0 / (self.rows(axis) * axis.inverter.Ts),
                "bins": [float(k) for k in self.bins(axis)],
                "volts": [volts for _, volts, _ in lines],
                "phases": [phase for _, _, phase in lines]}  # fmt: skip
