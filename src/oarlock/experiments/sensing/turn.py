"""One turn each way under a field that is turned by force: direction, pole pairs, zero, halls.

The rotor follows a held current whose angle turns slowly. Friction keeps it behind on both
ways by the same angle, which falls out of their mean; what is left over the turn is the
sensor's own error and cogging.

Halls tell the angle at their edges only, so cogging that stands alike at each edge does not fall
out. There the field turns so slowly that cogging does not excite the rotor's swing, and shakes
by a quarter of its strength, so that friction does not let the rotor stick and slip.
"""

import math
from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from oarlock.cancel import Cancel
from oarlock.drive.link import Link, Progress
from oarlock.drive.runner import QUIET, play
from oarlock.drive.steps import Frame, Plan, Shape, Step, Target, Wave
from oarlock.experiments.common.field import (
    damping_crossover,
    field_ramp,
    forcing_current,
    swing_frequency,
)
from oarlock.experiments.common.gentle import gentle_gains
from oarlock.experiments.common.movement import Movement, abort_limits
from oarlock.machine import Axis, CurrentGains, SensorKind
from oarlock.machine.unknown import guess
from oarlock.records import Plain, Record

_ROWS = 14000
_SHAKE = 0.25  # of the current, where halls are met
_SLOWEST = 20.0  # s for one turn of the shaft
_QUIET, _QUIET_HALL = 0.11, 0.03  # of the rotor's swing, of the field's frequency
_LEAST_TURN = math.radians(4.0)  # mechanical, of one that tells the pole pairs
_START_SWINGS = 3.0  # periods of the swing, in which the field comes to its speed


def with_pairs(axis: Axis, pairs: float) -> Axis:
    """Return the axis with so many pole pairs."""
    return axis.with_parameter("machine.pole_pairs", guess("machine.pole_pairs", pairs))


def _counted(record: Record) -> float:
    """Return the pole pairs by how far the shaft went under the field; 0: it does not tell."""
    commanded, theta_m = np.unwrap(record["theta_e"]), record["theta_m"]
    if record.rows < 20 or np.ptp(theta_m) < _LEAST_TURN:
        return 0.0
    falling = np.flatnonzero(np.diff(commanded) < 0.0)
    middle = int(falling[0]) + 1 if falling.size else record.rows
    slopes = [abs(float(np.polyfit(commanded[way], theta_m[way], 1)[0]))
              for way in (slice(0, middle), slice(middle, record.rows))
              if theta_m[way].size > 10]  # fmt: skip
    found = 1.0 / max(float(np.mean(slopes)), 1e-6)
    whole = round(found)
    return float(whole) if whole >= 1 and abs(found - whole) < max(0.2, 0.04 * whole) else 0.0


@dataclass(frozen=True, slots=True, kw_only=True)
class ForcedTurn:
    """A held current turned one mechanical turn forward and back."""

    name: ClassVar[str] = "forced turn"
    frequency: float = 1.0  # Hz, electrical, at most
    rise: float = 0.5  # s, of the current, and again at a second angle
    start: float = 0.4  # s, from rest to full speed, at least
    patience: float = 1.0  # times slower than usual

    def longer(self) -> "ForcedTurn":
        """Return it so slow that a rotor follows which swings more slowly than was thought."""
        return replace(self, patience=3.0 * self.patience)

    def plan(self, axis: Axis) -> Plan:
        """Return the steps, limits and gains for this axis."""
        current, fast = forcing_current(axis), math.tau * self.turning_frequency(axis)
        gains = gentle_gains(axis, damping_crossover(axis, current))
        wave = self._shake(axis, gains)
        each = self.rise / 10.0
        hold = Step(duration=each, frame=Frame.FIXED, release=True, record=False)
        # The field turns while the current rises: a rotor that stands opposite is soon off it,
        # and moves while the current is still weak.
        steps = [
            replace(hold, i_d=current * (n + 1) / 10.0, angle=0.05 * math.pi * (n - 10))
            for n in range(10)
        ]
        carried = replace(hold, i_d=current, frame=Frame.CARRIED, wave=wave)
        for way in (1.0, -1.0):
            steps += field_ramp(carried, 0.0, way * fast, self._start(axis))
            seconds = self._recorded(axis) / fast
            steps.append(replace(carried, duration=seconds, turning=way * fast, record=True))
            steps += field_ramp(carried, way * fast, 0.0, self._start(axis))
            steps.append(replace(carried, duration=0.3))
        seconds = sum(step.duration for step in steps)
        return Plan(
            name=self.name,
            steps=tuple(steps),
            channels=("t", "theta_e", "theta_m", "hall", "id", "ia", "ib", "ic"),
            decimation=max(round(seconds / axis.inverter.Ts / _ROWS), 1),
            average=True,
            limits=abort_limits(
                axis,
                current=current,
                turns=self._turns(axis) + 0.5,
                seconds=seconds,
                speed=12.0 * fast / axis.machine.pole_pairs.value + 0.12 * axis.top_speed,
            ),
            gains=gains,
        )

    def turning_frequency(self, axis: Axis) -> float:
        """Return how fast the field turns, Hz electrical: far below the rotor's swing.

        Cogging and the start would excite the swing; halls, met at their edges only, are shifted
        by it far more than an angle that is averaged over the turn.
        """
        share = _QUIET_HALL if axis.sensor.kind is SensorKind.HALL else _QUIET
        quiet = share * swing_frequency(axis, forcing_current(axis))
        slowest = axis.machine.pole_pairs.value / _SLOWEST
        return min(max(quiet, slowest), self.frequency) / self.patience

    def _start(self, axis: Axis) -> float:
        """Return how long the field takes to its speed, s: so gently that the rotor follows."""
        if axis.sensor.kind is SensorKind.HALL:
            return self.start
        swing = swing_frequency(axis, forcing_current(axis))
        return self.patience * max(self.start, _START_SWINGS / swing)

    def _shake(self, axis: Axis, gains: CurrentGains) -> Wave | None:
        """Return what shakes the rotor along q while halls are met, well above its swing."""
        if axis.sensor.kind is not SensorKind.HALL:
            return None
        m, current = axis.machine, forcing_current(axis)
        f = min(3.0 * swing_frequency(axis, current), 200.0)
        volts = _SHAKE * current * abs(m.R.value + gains.Kp_q + 1j * math.tau * f * m.Lq.value)
        volts = min(volts, 0.5 * axis.inverter.v_max)
        return Wave(shape=Shape.SINE, target=Target.V_Q, amplitude=volts, frequency=f)

    def _recorded(self, axis: Axis) -> float:
        """Return how far the field turns while it is recorded, rad: a turn, and half to settle."""
        return math.tau * axis.machine.pole_pairs.value + math.pi

    def _turns(self, axis: Axis) -> float:
        """Return how far the shaft goes each way, turns."""
        ramps = math.tau * self.turning_frequency(axis) * self._start(axis) + 0.5 * math.pi
        return (self._recorded(axis) + ramps) / (math.tau * axis.machine.pole_pairs.value)

    def perform(self, axis: Axis, link: Link, cancel: Cancel, progress: Progress = QUIET) -> Record:
        """Turn, and where the pole pairs are not known count them first by half a turn or less.

        Raises
        ------
        LinkError, Cancelled : as `play`

        """
        settings: dict[str, Plain] = {}
        if not axis.machine.pole_pairs.is_known:
            progress(0.0, "counting the pole pairs")
            one = with_pairs(axis, 1.0)
            plan = self.plan(one)
            record = play(plan, one, link, settings={}, cancel=cancel)
            if record.ended != "done":
                return replace(record, settings={**self.settings(axis), "pole_pairs": 0.0})
            found = _counted(record)
            settings = {"pole_pairs": found}
            axis = with_pairs(axis, found) if found else axis
        return play(self.plan(axis), axis, link, settings={**self.settings(axis), **settings},
                    cancel=cancel, progress=progress)  # fmt: skip

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""
        del axis
        return "forced turn, both ways"

    def movement(self, axis: Axis) -> Movement:
        """Return what will move."""
        if not axis.machine.pole_pairs.is_known:
            axis = with_pairs(axis, 1.0)  # with one it goes farthest
        return Movement(
            what=f"turns {self._turns(axis):.1f} turns and back",
            speed=math.tau * self.turning_frequency(axis) / axis.machine.pole_pairs.value,
            current=forcing_current(axis),
            seconds=self.plan(axis).duration,
        )  # fmt: skip

    def settings(self, axis: Axis) -> dict[str, Plain]:
        """Return what the estimator must know, as plain values."""
        wave = self._shake(axis, gentle_gains(axis, damping_crossover(axis, forcing_current(axis))))
        return {
            "current": forcing_current(axis),
            "frequency": self.turning_frequency(axis),
            "shake": wave.frequency if wave else 0.0,
            "side": axis.sensor.side.value,
            "kind": axis.sensor.kind.value,
        }
