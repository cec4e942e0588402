"""What a recorded move says about the position loop, beside what the exact loop gives."""

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.control.margins import Margins
from oarlock.control.position import MoveFigures, PositionLoop, move_figures
from oarlock.control.position_design import friction_of, position_gains
from oarlock.control.profile import Move
from oarlock.control.speed_design import loop_in_use
from oarlock.errors import InputError
from oarlock.experiments.common.checks import voltage_limit
from oarlock.experiments.loops.sampling import lasting, phase
from oarlock.experiments.loops.verdict import Verdict
from oarlock.machine import Axis
from oarlock.quantities.display import digits
from oarlock.records import Check, Record
from oarlock.records.settings import number

Array = NDArray[np.float64]
_LIMITED = 0.985


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class MoveResult(Verdict):
    """A measured move, there and back averaged, beside its prediction; from where it began."""

    t: Array  # s from the move's start
    asked: Array  # rad
    position: Array
    predicted: Array
    speed: Array  # rad/s
    current: Array  # A asked for
    measured: MoveFigures
    expected: MoveFigures
    margins: Margins
    move: Move

    @property
    def figures(self) -> Mapping[str, float]:
        """What the logbook shows and compares."""
        return {
            "following": self.measured.following,
            "beyond": self.measured.overshoot,
            "settling": self.measured.settling,
            "position_crossover": self.margins.crossover,
            "phase_margin": self.margins.phase_margin,
            "agrees": float(self.holds),
        }

    @property
    def curve(self) -> Array:
        """The following error."""
        return self.asked - self.position


def read_position_move(record: Record, axis: Axis) -> MoveResult:
    """Hold a recorded move against the loop.

    Parameters
    ----------
    axis : as it was then, with the gains that the run had

    Raises
    ------
    InputError : no gains, or rows that do not fit the settings

    """
    s, gains = record.settings, position_gains(axis)
    rows, every = int(number(s, "rows")), int(number(s, "decimation"))
    moves = record.rows // rows if rows > 0 else 0
    if moves < 2 or gains is None:
        cause = f"{record.rows} rows, two moves need {2 * rows}" if gains else "no gains"
        raise InputError(cause, place=record.experiment, remedy="The record is not complete")
    names = ("distance", "speed", "acceleration", "jerk_time")
    move = Move(**{name: number(s, name) for name in names})
    sides = np.where(np.arange(moves) % 2, -1.0, 1.0)[:, None]

    def over(name: str) -> Array:
        laid = record[name][: moves * rows].reshape(moves, rows)
        return np.asarray((sides * (laid - laid[:, :1])).mean(axis=0))

    stride = max(int(number(s, "divider")) // max(every, 1), 1)
    first = phase(record["speed"][: moves * rows].reshape(moves, rows), 0, stride)
    at = np.arange(first, rows, stride)
    row = every * record.sample_time
    t = (first + stride * np.arange(at.size, dtype=np.float64)) * row
    position = over("theta_m")[at]
    loop = PositionLoop(loop_in_use(axis), gains)
    model = loop.moved(
        move, t[-1] - t[0] + 0.5 * loop.T, start=float(t[0]), friction=friction_of(axis)
    )
    size = min(t.size, model.t.size)
    asked, _, _ = move.at(t)
    window = number(s, "window")
    measured = move_figures(t[:size], asked[:size], position[:size], move.duration, window)
    expected = move_figures(t[:size], asked[:size], model.position[:size], move.duration, window)
    return MoveResult(
        t=t[:size], asked=asked[:size], position=position[:size], predicted=model.position[:size],
        speed=over("speed")[at][:size], current=over("iq_ref")[at][:size],
        measured=measured, expected=expected, margins=loop.margins, move=move,
        checks=tuple(_checks(record, axis, loop, measured, expected, window)),
    )  # fmt: skip


def _checks(
    record: Record, axis: Axis, loop: PositionLoop, measured: MoveFigures, expected: MoveFigures,
    window: float,
) -> list[Check]:  # fmt: skip
    most = number(record.settings, "limit")
    limited = bool(np.mean(np.abs(record["iq_ref"]) >= _LIMITED * most) > 2e-3)
    # Friction and cogging hold the shaft back by what the loops give way to rated torque.
    plain = number(record.settings, "speed") / loop.gains.Kp
    allowed = 0.15 * expected.following + 0.05 * plain + 0.3 * window
    off = measured.following - expected.following
    beyond = measured.overshoot - expected.overshoot
    return [
        Check(
            code="linear",
            passed=not limited,
            sentence=f"The current limit of {most:.3g} A shaped it: ask for less acceleration"
            if limited
            else f"The current stayed below its limit of {most:.3g} A",
        ),
        voltage_limit(record, axis, lasting=lasting(record)),
        Check(
            code="following",
            passed=abs(off) <= allowed,
            sentence=f"The following error is {_degrees(measured.following)}, "
            f"{_degrees(expected.following)} were predicted",
        ),
        Check(
            code="overshoot",
            passed=abs(beyond) <= 0.1 * plain + window,
            sentence=f"It went {_degrees(measured.overshoot)} beyond, "
            f"{_degrees(expected.overshoot)} were predicted",
        ),
        Check(
            code="settled",
            passed=math.isfinite(measured.settling),
            sentence=f"It settled within {_degrees(window)}"
            if math.isfinite(measured.settling)
            else f"It did not settle within {_degrees(window)}",
        ),
    ]


def _degrees(angle: float) -> str:
    return f"{digits(math.degrees(angle), 2)}°"
