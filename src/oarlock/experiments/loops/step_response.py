"""What a recorded current step says about the loop.

Averaged response, figures, and whether the bus rather than the gains shaped it.
"""

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from oarlock.control.current import CurrentLoop
from oarlock.control.figures import (
    SecondOrder,
    StepFigures,
    fit_second_order,
    largest_linear_step,
    step_figures,
)
from oarlock.control.margins import Margins, margins
from oarlock.errors import InputError
from oarlock.experiments.loops.under_noise import Beside, noise_of, peak, seen_beside
from oarlock.experiments.loops.verdict import Verdict
from oarlock.machine import Axis
from oarlock.quantities.display import signed
from oarlock.records import Check, Record
from oarlock.records.settings import number

Array = NDArray[np.float64]
_MOST_MOVED = 1.8  # degrees of the shaft
_LOWER = 0.01  # of the step, by which smoothing may lower the peak


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class StepResult(Verdict):
    """A measured step, averaged over its repeats, beside what was predicted."""

    axis_name: str  # "d" or "q"
    t: Array  # s from the step
    current: Array  # A
    voltage: Array  # V
    normal: Array  # 0 to 1
    bias: float  # A
    amplitude: float  # A
    response: StepFigures
    fitted: SecondOrder
    predicted: StepFigures
    predicted_fit: SecondOrder
    cut_by_bus: bool
    linear_up_to: float  # A
    margins: Margins  # of the loop that was stepped

    @property
    def figures(self) -> Mapping[str, float]:
        """What the logbook shows and compares."""
        return {
            "amplitude": self.amplitude,
            "rise": self.response.rise,
            "overshoot": self.response.overshoot,
            "settling": self.response.settling,
            "omega_n": self.fitted.natural_frequency,
            "zeta": self.fitted.damping,
            "crossover": self.margins.crossover,
            "phase_margin": self.margins.phase_margin,
            "agrees": float(self.holds),
            "cut": float(self.cut_by_bus),
        }

    @property
    def curve(self) -> Array:
        """The averaged response."""
        return self.normal


def axis_of(record: Record) -> str:
    """Return which current was stepped, "d" or "q".

    Raises
    ------
    InputError : the settings do not say

    """
    which = record.settings.get("axis_name")
    if isinstance(which, str) and which in ("d", "q"):
        return which
    raise InputError("the settings name no axis", place=record.experiment,
                     remedy='Write axis_name = "q" there')  # fmt: skip


def read_step(record: Record, axis: Axis, loop: CurrentLoop) -> StepResult:
    """Average the repeats of a recorded step and hold it against `loop`.

    Parameters
    ----------
    record : columns of the stepped current and voltage; settings as `CurrentStep` gives them
    axis : for the bus limit
    loop : the exact loop with the gains that the run had

    Raises
    ------
    InputError : rows that do not fit the settings

    """
    s = record.settings
    which = axis_of(record)
    bias, amplitude = number(s, "bias"), number(s, "amplitude")
    before, after = int(number(s, "rows_before")), int(number(s, "rows_after"))
    rows = before + after
    repeats = record.rows // rows
    if repeats < 1 or amplitude == 0.0:
        cause = f"{record.rows} rows, one step needs {rows}"
        raise InputError(cause, place=record.experiment, remedy="The record is not complete")
    keep = repeats * rows
    current = record[f"i{which}"][:keep].reshape(repeats, rows)
    volts = record[f"v{which}"][:keep].reshape(repeats, rows)
    mean = current.mean(axis=0)
    start = float(mean[: before + 1].mean())  # the sample at the step still shows the bias
    normal = (mean - start) / amplitude
    t = np.arange(-before, after, dtype=np.float64) * record.sample_time
    v_max = axis.inverter.v_max
    volts_used = np.hypot(record["vd"][:keep], record["vq"][:keep]).reshape(repeats, rows)
    cut = bool(np.mean(volts_used.max(axis=1) > 0.985 * v_max) > 0.1)
    i_model, u_model = loop.step(after)
    t_model = np.arange(after, dtype=np.float64) * record.sample_time
    found, expected = step_figures(t, normal), step_figures(t_model, i_model)
    ended = slice(-max(rows // 4, 2), None)  # too few rows stand before the step
    shaken = noise_of(current, ended)[:, before:] / amplitude
    high = seen_beside(peak, normal[before:], i_model, shaken, change=_LOWER, apart=_LOWER, near=1,
                       most=round(expected.rise / record.sample_time))  # fmt: skip
    found = replace(found, overshoot=max(expected.overshoot + high.off, 0.0))
    linear = largest_linear_step(u_model, v_max, axis.machine.R.value * bias)
    noise = float(np.std(shaken))
    return StepResult(
        axis_name=which,
        t=t,
        current=mean,
        voltage=volts.mean(axis=0),
        normal=normal,
        bias=start,
        amplitude=amplitude,
        response=found,
        margins=margins(loop.opened),
        fitted=fit_second_order(t, normal),
        predicted=expected,
        predicted_fit=fit_second_order(t_model, i_model),
        cut_by_bus=cut,
        linear_up_to=linear,
        checks=tuple(_checks(found, expected, high, cut, linear, noise, record)),
    )


def _checks(
    found: StepFigures,
    expected: StepFigures,
    high: Beside,
    cut: bool,
    linear: float,
    noise: float,
    record: Record,
) -> list[Check]:
    rise = found.rise / expected.rise - 1.0
    points, spread = 100.0 * high.off, 200.0 * high.std
    late = 0.10 + 2.0 * noise
    moved = math.degrees(float(np.ptp(record["theta_m"])))
    return [
        Check(
            code="linear",
            passed=not cut,
            sentence=f"The bus cut this step: its shape says nothing about the gains. "
            f"Up to {linear:.2g} A stays linear"
            if cut
            else f"The bus left room: linear up to {linear:.2g} A",
        ),
        Check(
            code="rise",
            passed=abs(rise) <= late,
            sentence=f"Rise differs by {signed(100 * rise, 1)} % from the plan "
            f"({100 * late:.2g} % allowed)",
        ),
        Check(
            code="overshoot",
            passed=abs(points) <= 2.0 + spread,
            sentence=f"Overshoot differs by {signed(points, 1)} points "
            f"({2.0 + spread:.2g} allowed)",
        ),
        Check(
            code="settled",
            passed=abs(found.final - 1.0) <= 0.02 + 3.0 * noise,
            sentence=f"It ends at {100 * found.final:.1f} % of the step",
        ),
        Check(
            code="rotor at rest",
            passed=moved <= _MOST_MOVED,
            sentence=f"The rotor moved {moved:.1f}° ({_MOST_MOVED:g} allowed)"
            + ("" if moved <= _MOST_MOVED else ": back-EMF bent the step, set the brake"),
        ),
    ]
