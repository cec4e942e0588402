"""Standing pulses along twelve directions: phase order, polarity, gains, saliency, polarity of d.

A square wave of voltage with no mean, too short to turn anything. The three true currents add
up to zero whatever the machine is, so the left null vector of the map from voltage to readings
holds the sensors' inverse gains; a gain error that all three share stays unseen. With the
sensors put right, the admittance in the stator frame must be symmetric and positive: if it is
not, sensors and outputs are exchanged. Its longest axis is d wherever Lq > Ld; larger pulses
along both ends tell north from south, since only with the magnet the iron saturates
[Jang, Sul, Ha, Ide and Sawamura 2003; Nakashima, Inagaki and Miki 2000].
"""

import math
from dataclasses import dataclass, replace
from typing import ClassVar

from oarlock.cancel import Cancel
from oarlock.drive.link import Link, Progress
from oarlock.drive.runner import QUIET, play
from oarlock.drive.steps import MAX_STEPS, Frame, Plan, Shape, Step, Target, Wave
from oarlock.experiments.common.gentle import gentle_gains
from oarlock.experiments.common.movement import Movement, abort_limits
from oarlock.experiments.sensing.first_look import LOOKS, is_wanted, look
from oarlock.machine import Axis
from oarlock.records import Plain, Record

DIRECTIONS = 12


@dataclass(frozen=True, slots=True, kw_only=True)
class StandingPulses:
    """Square waves along twelve directions, then single larger pulses along each."""

    name: ClassVar[str] = "standing pulses"
    may_grow: ClassVar[bool] = False
    amplitude: float = 0.3  # of rated current, of the square wave
    peak: float = 0.6  # of rated current, of the single pulses
    half: int = 8  # samples of half a square wave
    periods: int = 50
    repeats: int = 12  # of the single pulses

    def scaled(self, factor: float) -> "StandingPulses":
        """Return it at another amplitude."""
        return replace(self, amplitude=factor * self.amplitude, peak=factor * self.peak)

    def _volts(self, axis: Axis) -> float:
        m = axis.machine
        L = min(m.Ld.value, m.Lq.value)
        wanted = self.amplitude * axis.rated * 2.0 * L / (self.half * axis.inverter.Ts)
        lost = 4.0 / 3.0 * axis.inverter.dead_voltage.value
        return min(wanted + lost, 0.6 * axis.inverter.v_max)

    def _pulse(self, axis: Axis) -> tuple[int, float]:
        """Return (samples, volts) of a single pulse."""
        m, Ts = axis.machine, axis.inverter.Ts
        flux = self.peak * axis.rated * min(m.Ld.value, m.Lq.value)
        most = 0.5 * axis.inverter.v_max
        samples = min(max(math.ceil(flux / (most * Ts)), 4), 40)
        lost = 4.0 / 3.0 * axis.inverter.dead_voltage.value
        return samples, min(flux / (samples * Ts) + lost, most)

    def plan(self, axis: Axis) -> Plan:
        """Return the steps, limits and gains for this axis."""
        Ts, volts = axis.inverter.Ts, self._volts(axis)
        wave = Wave(
            shape=Shape.SQUARE, target=Target.V_D, amplitude=volts, frequency=0.5 / (self.half * Ts)
        )
        steps = []
        for n in range(DIRECTIONS):
            angle = math.tau * n / DIRECTIONS
            here = {"frame": Frame.VOLTAGE, "angle": angle, "wave": wave}
            # A quarter of a period first, so that the current swings about zero.
            steps.append(
                Step(duration=0.5 * self.half * Ts, i_d=-volts, frame=Frame.VOLTAGE, angle=angle,
                     record=False)
            )  # fmt: skip
            steps.append(Step(duration=4 * 2 * self.half * Ts, record=False, **here))  # type: ignore[arg-type]
            steps.append(Step(duration=self.periods * 2 * self.half * Ts, **here))  # type: ignore[arg-type]
            steps.append(Step(duration=0.003, frame=Frame.VOLTAGE, record=False))
        samples, push = self._pulse(axis)
        rest = max(0.003, 4 * samples * Ts)
        for _ in range(self.repeats):
            for n in range(DIRECTIONS):
                angle = math.tau * _order(n) / DIRECTIONS
                up = Step(duration=samples * Ts, i_d=push, frame=Frame.VOLTAGE, angle=angle,
                          record=False)  # fmt: skip
                down = Step(duration=2 * Ts, i_d=-push, frame=Frame.VOLTAGE, angle=angle)
                back = Step(duration=max(samples - 2, 1) * Ts, i_d=-push, frame=Frame.VOLTAGE,
                            angle=angle, record=False)  # fmt: skip
                still = Step(duration=rest, frame=Frame.VOLTAGE, record=False)
                steps += [up, down, back, still]
        steps = steps[:MAX_STEPS]
        return Plan(
            name=self.name,
            steps=tuple(steps),
            channels=("t", "ia", "ib", "ic", "vd", "theta_e", "theta_m"),
            limits=abort_limits(
                axis,
                current=1.6 * self.peak * axis.rated,
                turns=0.25,
                speed=0.25 * axis.top_speed,
                seconds=sum(step.duration for step in steps),
            ),
            gains=gentle_gains(axis, 100.0),
        )

    def perform(self, axis: Axis, link: Link, cancel: Cancel, progress: Progress = QUIET) -> Record:
        """Play them; where nothing is known of the winding, after a first look at it."""
        settings: dict[str, Plain] = {}
        if is_wanted(axis):
            seen = look(axis, link, cancel, progress)
            axis = seen.on(axis)
            settings = {"look_R": seen.R, "look_Ld": seen.Ld, "look_Lq": seen.Lq}
        settings = {**self.settings(axis), **settings}
        return play(self.plan(axis), axis, link, settings=settings, cancel=cancel,
                    progress=progress)  # fmt: skip

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""
        del axis
        return f"standing pulses, {DIRECTIONS} directions"

    def movement(self, axis: Axis) -> Movement:
        """Return what will move."""
        current = self.peak * axis.rated
        seconds = self.plan(axis).duration + (LOOKS if is_wanted(axis) else 0.0)
        return Movement(what="", speed=0.0, current=current, seconds=seconds)

    def settings(self, axis: Axis) -> dict[str, Plain]:
        """Return what the estimator must know, as plain values."""
        samples, volts = self._pulse(axis)
        return {
            "half": self.half,
            "rows_wave": self.periods * 2 * self.half,
            "volts": self._volts(axis),
            "pulse_samples": samples,
            "pulse_volts": volts,
            "side": axis.sensor.side.value,
        }


def _order(n: int) -> int:
    """Return the n-th direction: opposite ends one after the other, so that pushes cancel."""
    return n // 2 + (DIRECTIONS // 2 if n % 2 else 0)
