"""Stepped sines of voltage in the closed current loop, at standstill: its open loop, measured.

What is added behind the controller leaves the summing point as v, and comes back as v − added: the
open loop is −(v − added)/v, at every frequency, without ever being opened.
"""

import math
from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from oarlock.control.current import CurrentLoop, loops_with
from oarlock.drive.steps import Plan, Shape, Step, Target, Wave
from oarlock.errors import InputError
from oarlock.experiments.common.experiment import limits_for, plain_settings
from oarlock.experiments.loops.cascade import gains_for
from oarlock.machine import Axis
from oarlock.records import Plain

_PARTS = 3  # stretches of each frequency, whose scatter tells its trust
_MOST_VOLTS = 0.35  # of what the bus gives


@dataclass(frozen=True, slots=True, kw_only=True)
class CurrentSweep:
    """Sines of voltage from low to high on one axis, on a held current."""

    name: ClassVar[str] = "current sweep"
    axis_name: str  # "d" or "q"
    bias: float  # A, held meanwhile: away from zero, where the dead time bends the answer
    amplitude: float  # A, about what each sine moves the current by
    count: int = 32
    low: float = 60.0  # Hz
    seconds: float = 0.012  # of one stretch, at least

    def lines(self, axis: Axis) -> list[tuple[float, int, float]]:
        """Return (Hz, samples of a stretch, V) of each line, rising; whole cycles in each stretch.

        Raises
        ------
        InputError : no gains, or no such axis

        """
        loop, Ts = self._loop(axis), axis.inverter.Ts
        found: dict[float, tuple[float, int, float]] = {}
        for hertz in np.geomspace(self.low, 0.42 / Ts, self.count).tolist():
            cycles = max(math.ceil(self.seconds * hertz), 1)
            samples = round(cycles / (hertz * Ts))
            exact = cycles / (samples * Ts)
            omega = math.tau * exact
            moved = abs(loop.winding.at(omega) / (1.0 + loop.opened.at(omega)))
            volts = min(self.amplitude / moved, _MOST_VOLTS * axis.inverter.v_max)
            found[exact] = (exact, samples, volts)
        return [found[f] for f in sorted(found)]

    def _loop(self, axis: Axis) -> CurrentLoop:
        if self.axis_name not in ("d", "q"):
            raise InputError(f"cannot sweep {self.axis_name}", place=self.name)
        return loops_with(axis, gains_for(axis))[0 if self.axis_name == "d" else 1]

    def plan(self, axis: Axis) -> Plan:
        """Return the steps, limits and gains for this axis.

        Raises
        ------
        InputError : no gains in use yet, or settings without sense

        """
        Ts = axis.inverter.Ts
        target = Target.V_D if self.axis_name == "d" else Target.V_Q
        i_d, i_q = (self.bias, 0.0) if self.axis_name == "d" else (0.0, self.bias)
        held = Step(duration=0.2, i_d=i_d, i_q=i_q, record=False)
        steps = [held]
        for hertz, samples, volts in self.lines(axis):
            wave = Wave(shape=Shape.SINE, target=target, amplitude=volts, frequency=hertz)
            settle = math.ceil(0.01 / (samples * Ts)) * samples
            steps.append(replace(held, duration=settle * Ts, wave=wave))
            steps += [replace(held, duration=samples * Ts, wave=wave, sums=True)] * _PARTS
        most = abs(self.bias) + 1.5 * self.amplitude
        seconds = sum(step.duration for step in steps)
        return Plan(
            name=self.name,
            steps=tuple(steps),
            channels=(f"v{self.axis_name}", f"i{self.axis_name}"),
            limits=limits_for(axis, 1.3 * most, seconds),
            gains=gains_for(axis),
        )

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""
        lines = self.lines(axis)
        high = lines[-1][0] / 1e3
        return f"sweep {lines[0][0]:.0f} Hz to {high:.2g} kHz, {self.axis_name} axis"

    def settings(self, axis: Axis) -> dict[str, Plain]:
        """Return what the reading must know, as plain values."""
        lines = self.lines(axis)
        return {**plain_settings(self), "parts": _PARTS,
                "frequencies": [hertz for hertz, _, _ in lines],
                "volts": [volts for _, _, volts in lines]}  # fmt: skip
