"""Currents at rest: what the current sense says while nothing flows.

Gates off first, then the zero vector: what differs between them is a current that flows.
"""

import math
from dataclasses import dataclass
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from oarlock.drive.steps import Frame, Plan, Step
from oarlock.experiments.common.gentle import gentle_gains
from oarlock.experiments.common.movement import Movement, abort_limits
from oarlock.experiments.sensing.evidence import PhasesAtRest
from oarlock.machine import Axis
from oarlock.quantities import Estimate, Origin
from oarlock.records import Check, Finding, Plain, Record
from oarlock.records.settings import number, numbers

Array = NDArray[np.float64]
MOST_OFFSET = 0.02  # of full scale
MOST_NOISE = 6.0  # counts rms
_MOST_DIFFERENCE = 1.5  # counts, between gates off and zero vector
_MOVED = math.radians(0.5)


@dataclass(frozen=True, slots=True, kw_only=True)
class CurrentsAtRest:
    """Gates off, then the zero vector, everything recorded."""

    name: ClassVar[str] = "currents at rest"
    off: float = 0.1  # s
    zero_vector: float = 0.4  # s

    def plan(self, axis: Axis) -> Plan:
        """Return the steps, limits and gains for this axis."""
        seconds = self.off + self.zero_vector
        return Plan(
            name=self.name,
            steps=(
                Step(duration=self.off, frame=Frame.OFF),
                Step(duration=self.zero_vector, frame=Frame.VOLTAGE),
            ),
            channels=("t", "ia", "ib", "ic", "theta_m", "vdc"),
            limits=abort_limits(axis, current=0.0, turns=0.25, speed=10.0, seconds=seconds),
            gains=gentle_gains(axis, 100.0),
        )

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""
        del axis
        return "currents at rest, zero vector"

    def movement(self, axis: Axis) -> Movement:
        """Return what will move."""
        del axis
        return Movement(what="", speed=0.0, current=0.0, seconds=self.off + self.zero_vector)

    def settings(self, axis: Axis) -> dict[str, Plain]:
        """Return what the estimator must know, as plain values."""
        inv = axis.inverter
        return {
            "rows_off": round(self.off / inv.Ts),
            "offsets": [inv.offset_a.value, inv.offset_b.value, inv.offset_c.value],
        }


def read_rest(record: Record, axis: Axis) -> Finding:
    """Return the offset of each current sensor with its uncertainty, and the noise.

    Parameters
    ----------
    record : columns ia, ib, ic, theta_m; settings `rows_off` and the `offsets` (A) taken off
        while it was recorded
    axis : for the converter's count and full scale

    """
    inv = axis.inverter
    count = inv.current_count
    off = int(number(record.settings, "rows_off", 0))
    taken_off = numbers(record.settings, "offsets") or (0.0, 0.0, 0.0)
    estimates, noise, shift, rails = {}, {}, {}, []
    for n, phase in enumerate("abc"):
        if phase == inv.unsensed:
            continue
        rest = record[f"i{phase}"][off:]
        rest = rest if rest.size else record[f"i{phase}"]  # it tripped when it was energised
        mean = float(np.mean(rest))
        noise[phase] = float(np.std(rest))
        before = record[f"i{phase}"][:off]
        shift[phase] = abs(mean - float(np.mean(before))) if before.size else 0.0
        # The floor is the converter's own step: noise below it leaves part of it in the mean.
        std = math.hypot(noise[phase] / math.sqrt(rest.size), 0.02 * count)
        estimates[f"inverter.offset_{phase}"] = Estimate(
            value=mean + float(taken_off[n]), std=std, unit="A", origin=Origin.MEASURED
        )
        if np.mean(np.abs(rest + float(taken_off[n])) > 0.98 * inv.current_full_scale.value) > 0.5:
            rails.append(phase)
    return Finding(
        quantity=CurrentsAtRest.name,
        estimates=estimates,
        extra={
            f"noise {p}": Estimate(value=v, std=None, unit="A", origin=Origin.MEASURED)
            for p, v in noise.items()
        },
        checks=tuple(_checks(record, axis, estimates, noise, shift, rails)),
        remark=f"noise {max(noise.values()) / count:.1f} counts",
        evidence=PhasesAtRest(
            curve=record[f"i{next(iter(noise))}"][-80:],
            phases={p: record[f"i{p}"][-min(record.rows, 8000) :] for p in noise},
        ),
    )


def _checks(
    record: Record,
    axis: Axis,
    estimates: dict[str, Estimate],
    noise: dict[str, float],
    shift: dict[str, float],
    rails: list[str],
) -> list[Check]:
    count, scale = axis.inverter.current_count, axis.inverter.current_full_scale.value
    path, worst = max(estimates.items(), key=lambda item: abs(item[1].value))
    share = abs(worst.value) / scale
    loud, most = max(noise.items(), key=lambda item: item[1])
    silent = [phase for phase, value in noise.items() if value == 0.0]
    moved = float(np.ptp(record["theta_m"]))
    differs, by = max(shift.items(), key=lambda item: item[1])
    return [
        Check(
            code="sensor at its end",
            passed=not rails,
            sentence=f"Sensor of phase {rails[0]} sits at the end of its range: is it supplied?"
            if rails
            else "No sensor sits at the end of its range",
        ),
        Check(
            code="offset",
            passed=share <= MOST_OFFSET,
            sentence=f"Largest offset {abs(worst.value) / count:.1f} counts, phase {path[-1]} "
            f"({MOST_OFFSET * scale / count:.0f} allowed)",
        ),
        Check(
            code="noise",
            passed=most <= MOST_NOISE * count,
            sentence=f"Largest noise {most / count:.1f} counts rms, phase {loud} "
            f"({MOST_NOISE:.0f} allowed)",
        ),
        Check(
            code="alive",
            passed=not silent,
            sentence=f"Sensor of phase {silent[0]} gives one and the same number: is it connected?"
            if silent
            else "Every sensor's reading lives",
        ),
        Check(
            code="shaft at rest",
            passed=moved <= _MOVED,
            sentence="The shaft stood still"
            if moved <= _MOVED
            else f"The shaft moved {math.degrees(moved):.1f}°: something drives it",
        ),
        Check(
            code="no current",
            passed=by <= _MOST_DIFFERENCE * count,
            sentence=f"Gates off and zero vector differ by {by / count:.1f} counts, "
            f"phase {differs} ({_MOST_DIFFERENCE:g} allowed)",
        ),
    ]
