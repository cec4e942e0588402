"""What a recorded step of speed or load says about the speed loop.

The repeats are averaged where the controller sampled; the same figures are read off the exact
loop with the gains that the run had.
"""

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from oarlock.control.dead_time import along_current
from oarlock.control.figures import StepFigures, step_figures
from oarlock.control.limited import DeadTime, limited_step
from oarlock.control.margins import Margins
from oarlock.control.speed import SHAPED, LoadFigures, SpeedLoop, largest_step, load_figures
from oarlock.control.speed_design import Turning, loop_in_use, room_of, speed_noise, volts_left
from oarlock.errors import InputError
from oarlock.experiments.common.checks import voltage_limit
from oarlock.experiments.loops.sampling import lasting, phase
from oarlock.experiments.loops.under_noise import (
    Beside,
    beside,
    noise_of,
    peak,
    seen_beside,
    smoothed,
    widest,
)
from oarlock.experiments.loops.verdict import Verdict
from oarlock.machine import Axis
from oarlock.quantities.display import signed
from oarlock.quantities.kinds import RPM
from oarlock.records import Check, Record
from oarlock.records.settings import number

Array = NDArray[np.float64]
# What may be asked for while nothing happens: of the current's limit, rms, and times what the
# sensor's steps shake it.
_HEIGHT, _SHARP = 0.04, 0.3  # of the step; of the rise, that a sharp one takes through it
_KNEE = 0.03  # of rated current: over which dead time turns its sign
_CALM, _SHAKEN = 0.05, 4.0
_LATER = 0.05  # of the rise, by which smoothing may lengthen it
_LOWER = 0.02  # of step or dip, by which smoothing may lower it
_COMMON = 0.10  # of step or dip, that counts which keep time with the step may add to all repeats
_EARLY = 0.2  # of the rise: what rises so much earlier is sharper than its plan
_NEAR, _WIDEST = 0.25, 2.0  # rises, over which is smoothed in any case, and at most
_LIMITED = 0.985  # of the current limit


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class SpeedResult(Verdict):
    """An averaged response of the speed, beside what the exact loop gives."""

    t: Array  # s from where the controller first saw the step
    speed: Array  # rad/s, deviation from before
    current: Array  # A asked for, deviation from before
    predicted: Array  # rad/s, at the same times
    margins: Margins
    start: float  # rad/s, before
    limited: bool  # the current limit shaped it
    numbers: Mapping[str, float]
    step: StepFigures | None = None  # of a step of the speed asked for
    load: LoadFigures | None = None  # of a step of load
    step_predicted: StepFigures | None = None
    load_predicted: LoadFigures | None = None

    @property
    def figures(self) -> Mapping[str, float]:
        """What the logbook shows and compares."""
        return {
            **self.numbers,
            "speed_crossover": self.margins.crossover,
            "phase_margin": self.margins.phase_margin,
            "agrees": float(self.holds),
        }

    @property
    def curve(self) -> Array:
        """The averaged response."""
        return self.speed


@dataclass(frozen=True, slots=True, eq=False)
class Averaged:
    """Repeats laid over one another, at the controller's own samples."""

    t: Array
    speed: Array  # rad/s
    current: Array  # A
    start: float  # rad/s
    calm: float  # A asked for before
    noise: float  # rad/s rms of the averaged speed
    shaken: Array  # rad/s, samples of that noise, (samples, n)
    swing: tuple[float, float]  # A rms and Hz of the current asked for before the step
    asked: Array  # rad/s, from before
    loop: SpeedLoop


def averaged(record: Record, axis: Axis, *, asked: bool) -> Averaged:
    """Return the mean of all repeats from where the controller acts on what came.

    Parameters
    ----------
    asked : the step is one of the speed asked for, which a controller that samples together with
        it sees at its next sample; a load acts at once

    Raises
    ------
    InputError : rows that do not fit the settings, or no gains

    """
    s = record.settings
    before, after = int(number(s, "rows_before")), int(number(s, "rows_after"))
    every = int(number(s, "decimation"))
    stride = max(int(number(s, "divider")) // max(every, 1), 1)
    rows = before + after
    repeats = record.rows // rows if rows > 0 else 0
    if repeats < 1 or before < 2 or after < 8 * stride:
        cause = f"{record.rows} rows, one step needs {rows}"
        raise InputError(cause, place=record.experiment, remedy="The record is not complete")
    keep = repeats * rows
    speed = _rows(record, "speed", keep, rows)
    # What was played to and fro is laid over one another in one direction.
    ways = np.sign(speed[:, :before].mean(axis=1)) * np.sign(number(s, "speed"))
    sides = np.where(ways < 0.0, -1.0, 1.0)[:, None]
    speed = sides * speed
    amperes = sides * _rows(record, "iq_ref", keep, rows)
    late = phase(speed, before, stride)
    first = before + (late or stride * asked)
    mean, asked_for = speed.mean(axis=0), (sides * _rows(record, "speed_ref", keep, rows)).mean(0)
    start = float(mean[:before].mean())
    at = np.arange(first, rows, stride)
    calm = float(amperes[:, :before].mean())
    return Averaged(
        t=np.arange(at.size, dtype=np.float64) * (stride * record.sample_time * every),
        speed=mean[at] - start,
        current=amperes.mean(axis=0)[at] - calm,
        start=start,
        calm=calm,
        noise=_noise(speed, mean, before),
        shaken=noise_of(speed, slice(before))[:, at],
        swing=_swing(amperes[:, :before], record.sample_time * every, stride),
        asked=asked_for[at] - float(asked_for[:before].mean()),
        loop=loop_in_use(axis, turning=Turning(speed=start)),
    )


def _rows(record: Record, name: str, keep: int, rows: int) -> Array:
    """Return a channel, (repeats, rows)."""
    return record[name][:keep].reshape(-1, rows)


def _swing(calm: Array, sample: float, stride: int) -> tuple[float, float]:
    """Return (A rms, Hz) of what the current does while nothing is asked.

    Parameters
    ----------
    calm : A, (repeats, rows)
    sample : s, from row to row
    stride : rows from one sample of the controller to the next

    """
    off = calm - calm.mean(axis=1, keepdims=True)
    power = np.sum(np.abs(np.fft.rfft(off, axis=1)) ** 2, axis=0)
    hertz = np.fft.rfftfreq(calm.shape[1], sample)
    return float(np.std(off)), float(hertz[int(np.argmax(power[hertz <= 0.5 / (stride * sample)]))])


def _noise(speed: Array, mean: Array, before: int) -> float:
    """Return by how much (rad/s rms) the mean of repeats is noisy; of one alone, by its calm part.

    Parameters
    ----------
    speed : rad/s, (repeats, rows)
    mean : rad/s, (rows,)

    """
    repeats = speed.shape[0]
    if repeats == 1:
        return float(np.std(speed[:, :before]))
    return float(np.std(speed - mean)) / math.sqrt(repeats - 1)


def _unsharp(t: Array, y: Array, rise: float) -> float:
    """Return by what share a rise may differ because the response dwells near nine tenths.

    Where it swings there, a little more or less height moves the time by a whole swing.
    """
    first, last = (int(np.argmax(y >= 0.9 + side * _HEIGHT)) for side in (-1.0, 1.0))
    if last <= first or rise <= 0.0:
        return 0.0
    return max(float(t[last] - t[first]) / rise - _SHARP, 0.0)


def _dead_time(axis: Axis, calm: float) -> DeadTime:
    """Return what the inverter loses about the current that held the speed before."""
    volts = along_current(axis.inverter.dead_voltage.value)
    return DeadTime(volts=volts, bias=calm, knee=_KNEE * axis.rated)


def _size(y: Array) -> float:
    """Return how far a deviation goes to either side."""
    return float(np.max(np.abs(y)))


def was_limited(record: Record) -> bool:
    """Return whether the current that was asked for stood at its limit."""
    most = number(record.settings, "limit")
    return bool(np.mean(np.abs(record["iq_ref"]) >= _LIMITED * most) > 2e-3)


def common_checks(record: Record, axis: Axis, found: Averaged, limited: bool) -> list[Check]:
    """Return what is checked of every test at a speed: calm, below its limits, at that speed."""
    most, asked = number(record.settings, "limit"), number(record.settings, "speed")
    swing, hertz = found.swing
    shaken = found.loop.gains.Kp * speed_noise(axis, Turning(speed=found.start))
    calm = swing <= _CALM * most + _SHAKEN * shaken
    followed = abs(found.start - asked) <= 0.05 * abs(asked) + 4.0 * found.noise
    return [
        Check(
            code="calm",
            passed=calm,
            sentence=f"It stood calm before, {swing:.2g} A rms"
            if calm
            else f"It swings by {swing:.2g} A rms at {hertz:.0f} Hz though nothing is asked: play "
            "in coupling or gear, or a resonance that lies elsewhere than the axis says",
        ),
        Check(
            code="linear",
            passed=not limited,
            sentence=f"The current limit of {most:.3g} A shaped it: it says little about the gains"
            if limited
            else f"The current stayed below its limit of {most:.3g} A",
        ),
        voltage_limit(record, axis, lasting=lasting(record)),
        Check(
            code="followed",
            passed=followed,
            sentence=f"It turned at {found.start / RPM:.0f} rpm before, "
            f"{asked / RPM:.0f} were asked for",
        ),
    ]


def _held_against(
    found: Averaged, model: Array, amplitude: float, expected: StepFigures
) -> tuple[Beside, float, float]:
    """Return how far a step goes higher and rises later than the plan, and how much later it may.

    Parameters
    ----------
    model : of the step, as the plan has it
    amplitude : of the step, rad/s
    expected : the model's figures

    """
    sharp, shaken = found.speed / amplitude, found.shaken / amplitude
    samples = expected.rise / found.loop.plant.T
    most = round(_WIDEST * samples)

    def rising(y: Array) -> float:
        return step_figures(found.t, y).rise / expected.rise

    wide = widest(rising, model, _LATER, most)
    risen = beside(rising, sharp, model, shaken, wide)
    later = risen.off + risen.lift  # noise makes a crossing neither earlier nor later
    unsharp = _unsharp(found.t, smoothed(model, wide), expected.rise)
    apart = _LOWER if later < -_EARLY else _COMMON
    high = seen_beside(peak, sharp, model, shaken, change=_LOWER, apart=apart,
                       near=round(_NEAR * samples), most=most)  # fmt: skip
    return high, later, 0.10 + 2.0 * risen.std + unsharp


def read_speed_step(record: Record, axis: Axis) -> SpeedResult:
    """Hold a recorded step of the speed asked for against the loop.

    Parameters
    ----------
    axis : as it was then, with the gains and filters that the run had

    Raises
    ------
    InputError : as `averaged`, or no step

    """
    found, amplitude = averaged(record, axis, asked=True), number(record.settings, "amplitude")
    if amplitude == 0.0:
        raise InputError("a step of nothing", place=record.experiment)
    turning = Turning(speed=found.start)
    room = room_of(axis, turning, number(record.settings, "limit"))
    model = limited_step(found.loop, room, found.t.size, reference=amplitude,
                         dead=_dead_time(axis, found.calm))[0] / amplitude  # fmt: skip
    expected, limited = step_figures(found.t, model), was_limited(record)
    high, rise, late = _held_against(found, model, amplitude, expected)
    quarter = max(round(_NEAR * expected.rise / found.loop.plant.T), 1)
    measured = replace(
        step_figures(found.t, smoothed(found.speed / amplitude, quarter)),
        rise=expected.rise * (1.0 + rise),
        overshoot=max(expected.overshoot + high.off, 0.0),
    )
    points, spread = 100.0 * high.off, 200.0 * high.std
    linear = largest_step(found.loop, number(record.settings, "limit"), volts_left(axis, turning))
    checks = [
        *common_checks(record, axis, found, limited),
        Check(
            code="bus",
            passed=abs(amplitude) <= SHAPED * linear,
            sentence=f"The bus shapes steps above {linear / RPM:.2g} rpm; "
            f"this one was {abs(amplitude) / RPM:.2g}",
        ),
        Check(
            code="rise", passed=abs(rise) <= late,
              sentence=f"Rise differs by {signed(100 * rise, 1)} % from the plan "
            f"({100 * late:.2g} % allowed)"),
        Check(code="overshoot", passed=abs(points) <= 2.0 + spread,
              sentence=f"Overshoot differs by {signed(points, 1)} points "
                       f"({2.0 + spread:.2g} allowed)"),
    ]  # fmt: skip
    return SpeedResult(
        t=found.t, speed=found.speed, current=found.current, predicted=amplitude * model,
        margins=found.loop.margins, start=found.start, limited=limited, checks=tuple(checks),
        numbers={"rise": measured.rise, "overshoot": measured.overshoot,
                 "settling": measured.settling, "step": amplitude},
        step=measured, step_predicted=expected,
    )  # fmt: skip


def read_load_step(record: Record, axis: Axis) -> SpeedResult:
    """Hold a recorded step of load against the loop.

    Parameters
    ----------
    axis : as it was then, with the gains and filters that the run had

    Raises
    ------
    InputError : as `averaged`

    """
    found, amperes = averaged(record, axis, asked=False), number(record.settings, "amperes")
    way = -math.copysign(1.0, number(record.settings, "speed"))
    model = way * amperes * found.loop.loaded.step(found.t.size)
    expected, limited = load_figures(found.t, model), was_limited(record)
    near, most = (round(share * expected.dip_at / found.loop.plant.T)
                  for share in (_NEAR, _WIDEST))  # fmt: skip
    wide = widest(_size, model, _LOWER * expected.dip, most)
    dip = seen_beside(_size, found.speed, model, found.shaken, change=_LOWER * expected.dip,
                      apart=_COMMON * expected.dip, near=near, most=most)  # fmt: skip
    area = beside(lambda y: load_figures(found.t, y).IAE, found.speed, model, found.shaken, wide)
    measured = replace(
        load_figures(found.t, smoothed(found.speed, wide)),
        dip=expected.dip + dip.off,
        IAE=expected.IAE + area.off,
    )
    off, more = dip.off / expected.dip, area.off / expected.IAE
    allowed = 0.10 + 2.0 * dip.std / expected.dip
    wrong = 0.3 + 2.0 * area.std / expected.IAE + 2.0 * dip.std / expected.dip
    checks = [
        *common_checks(record, axis, found, limited),
        Check(code="dip", passed=abs(off) <= allowed,
              sentence=f"The dip differs by {signed(100 * off, 1)} % from the plan "
                       f"({100 * allowed:.0f} % allowed)"),
        Check(code="area", passed=abs(more) <= wrong,
              sentence=f"The area of the dip differs by {signed(100 * more, 0)} % from the plan"),
    ]  # fmt: skip
    return SpeedResult(
        t=found.t, speed=found.speed,
        current=found.current - way * amperes,  # what the controller adds, without the load
        predicted=model,
        margins=found.loop.margins, start=found.start, limited=limited, checks=tuple(checks),
        numbers={"dip": measured.dip, "recovery": measured.recovery, "IAE": measured.IAE,
                 "load": number(record.settings, "torque")},
        load=measured, load_predicted=expected,
    )  # fmt: skip
