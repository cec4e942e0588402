"""Stepped sines at a speed: the plant of the speed loop, measured with the loop closed.

Below the crossover the speed asked for is moved, above it the torque: each where the loop lets the
plant answer. A drive adds up whole cycles by itself, so that neither recorder nor line sets the
range. The loop is never opened.
"""

import math
from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from oarlock.control.measured_loop import volts_response
from oarlock.control.speed import SpeedLoop
from oarlock.control.speed_design import Turning, loop_in_use, volts_left
from oarlock.drive.steps import Plan, Shape, Target, Wave
from oarlock.experiments.common.experiment import plain_settings
from oarlock.experiments.common.movement import Movement
from oarlock.experiments.loops.at_speed import movement_at, plan_at, way_to
from oarlock.experiments.loops.speed_test import current_limit
from oarlock.machine import Axis
from oarlock.quantities.kinds import RPM
from oarlock.records import Plain

_MOST_SWING = 0.3  # of the speed: it never comes near standstill
_MOST_VOLTS = 0.75  # of what the bus leaves: a sine that meets it is none any more
_PARTS = 3  # stretches of each frequency, whose scatter tells its trust
_AROUND = (-0.12, -0.06, -0.02, 0.02, 0.06, 0.12)  # of dip and peak, met finely


@dataclass(frozen=True, slots=True, kw_only=True)
class Line:
    """One frequency: whole cycles in a whole number of samples."""

    hertz: float
    samples: int  # of one stretch
    settle: int
    target: Target
    amplitude: float  # rad/s or N·m


@dataclass(frozen=True, slots=True, kw_only=True)
class SpeedSweep:
    """The plant's response from low to high, at a speed."""

    name: ClassVar[str] = "speed sweep"
    may_grow: ClassVar[bool] = False
    speed: float  # rad/s
    torque: float  # N·m, peak, about what each line moves the torque by
    count: int = 44
    low: float = 2.0  # Hz
    high: float = 0.0  # Hz; 0: up to nearly half the speed's sampling
    seconds: float = 0.08  # of one stretch, at least

    def scaled(self, factor: float) -> "SpeedSweep":
        """Return it at another amplitude."""
        return replace(self, torque=factor * self.torque)

    def lines(self, axis: Axis) -> list[Line]:
        """Return every frequency with its stretches, rising.

        Raises
        ------
        InputError : no gains, or no inertia

        """
        loop = loop_in_use(axis, turning=Turning(speed=self.speed))
        high = self.high or 0.42 / loop.plant.T
        wanted = list(np.geomspace(self.low, high, self.count))
        shaft = loop.plant.shaft
        for at in (shaft.anti_resonance, shaft.resonance):
            wanted += [at / math.tau * (1.0 + off) for off in _AROUND if at]
        Ts = axis.inverter.Ts
        found: dict[float, Line] = {}
        for hertz in sorted(f for f in wanted if self.low <= f <= high):
            cycles = max(math.ceil(self.seconds * hertz), 1)
            samples = round(cycles / (hertz * Ts))
            exact = cycles / (samples * Ts)
            settle = math.ceil(max(0.08, 1.0 / exact) / (samples * Ts)) * samples
            target, size = self.size(axis, loop, exact)
            found[exact] = Line(hertz=exact, samples=samples, settle=settle, target=target,
                                amplitude=size)  # fmt: skip
        return [found[f] for f in sorted(found)]

    def size(self, axis: Axis, loop: SpeedLoop, hertz: float) -> tuple[Target, float]:
        """Return what a line moves, and by how much: about `torque` at the machine."""
        omega = math.tau * hertz
        amperes = self.torque / axis.machine.torque_constant
        if omega < loop.margins.crossover:
            swing = amperes / max(abs(loop.effort.at(omega)), 1e-9)
            most = _MOST_SWING * abs(self.speed) / max(abs(loop.closed.at(omega)), 0.3)
            return Target.SPEED, min(swing, most)
        opened = loop.opened.at(omega)
        left = 1.0 / max(abs(1.0 + opened), 0.3)
        room = _MOST_VOLTS * max(volts_left(axis, Turning(speed=self.speed)), 0.0)
        most = room / _volts(loop, omega, left, abs(opened)) * axis.machine.torque_constant
        return Target.TORQUE, min(self.torque / max(left, 1.0), most)

    def plan(self, axis: Axis) -> Plan:
        """Return the steps, limits and gains for this axis.

        Raises
        ------
        InputError : no gains in use, no inertia, or settings without sense

        """
        Ts, steps = axis.inverter.Ts, []
        at = replace(way_to(axis, self.speed), acceleration=0.0)
        for one in self.lines(axis):
            wave = Wave(shape=Shape.SINE, target=one.target, amplitude=one.amplitude,
                        frequency=one.hertz)  # fmt: skip
            steps.append(replace(at, duration=one.settle * Ts, wave=wave))
            steps += [replace(at, duration=one.samples * Ts, wave=wave, sums=True)] * _PARTS
        return plan_at(axis, self.name, self.speed, steps, ("iq_ref", "dtheta", "speed", "iq"))

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""
        lines = self.lines(axis)
        return f"sweep {lines[0].hertz:.2g} to {lines[-1].hertz:.0f} Hz, {self.speed / RPM:.0f} rpm"

    def movement(self, axis: Axis) -> Movement:
        """Return what will move."""
        return movement_at(axis, self.speed, self.torque, self.plan(axis).duration)

    def settings(self, axis: Axis) -> dict[str, Plain]:
        """Return what the reading must know, as plain values."""
        lines = self.lines(axis)
        return {**plain_settings(self), "parts": _PARTS, "limit": current_limit(axis),
                "frequencies": [line.hertz for line in lines]}  # fmt: skip


def _volts(loop: SpeedLoop, omega: float, left: float, opened: float) -> float:
    """Return the most voltage (V) for each ampere added behind the filters.

    The sine's own, and what the current controller makes of the speed controller's next step.

    Parameters
    ----------
    left : ratio of what is left of it, with the loop closed
    opened : ratio, of the open loop

    """
    own = abs(volts_response(loop.plant, np.array([omega]))[0])
    stepped = opened * 2.0 * abs(math.sin(0.5 * omega * loop.plant.T))
    return float(left * (own + stepped * loop.plant.current.pi.Kp))
