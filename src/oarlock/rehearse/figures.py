"""What is read off a rehearsal: peaks, effective values, following error, losses, voltage."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.machine import Axis
from oarlock.machine.heat import winding_at
from oarlock.rehearse.events import Happening
from oarlock.rehearse.run import Rehearsal
from oarlock.rehearse.scenario import Control

Array = NDArray[np.float64]
_APART = math.radians(0.5)
_UNREAD = 0.03  # of the top speed, by which shaft and sensor differ noticeably


@dataclass(frozen=True, slots=True, kw_only=True)
class PointFigures:
    """What came of one point."""

    at: float  # s
    asked: float  # A, rad/s, or rad that it was to go
    reached: float  # likewise, mean of its last tenth
    overshoot: float  # of the step from what was asked before, ratio; NaN without a step


@dataclass(frozen=True, slots=True, kw_only=True)
class RehearsalFigures:
    """Figures of a whole run; SI."""

    ended: str
    trip: int  # number of the trip that ended it; 0: none
    seconds: float  # s
    top_speed: float  # rad/s
    peak_current: float  # A
    rms_current: float  # A, of the phase current's vector, over √2: what a winding heats by
    copper_loss: float  # W, mean
    winding: float  # °C, where it is repeated for long; NaN: what it may reach is not entered
    voltage: float  # largest, share of what the bus gives
    saturated: float  # share of the time at that limit
    following_peak: float  # rad; NaN without a position loop
    following_rms: float
    behind: float  # by the means of bins, at most: rad of a position, rad/s of a speed; 0: neither
    ripple: float  # A rms of a phase that switching adds; NaN on an averaged bridge
    distortion: float  # of that, over the current without it, both rms; NaN likewise
    drawn: float  # J, from the bus, bin by bin
    returned: float  # J, to the bus
    bus_least: float  # V
    bus_most: float
    burnt: float  # J, in the brake resistor
    points: tuple[PointFigures, ...]


def behind(run: Rehearsal) -> float:
    """Return how far a run falls behind at most: rad of a position, rad/s of a speed, else 0."""
    if not run.t.size:
        return 0.0
    if run.scenario.control is Control.POSITION:
        return float(np.max(np.abs(run.mean["following"])))
    if run.scenario.control is Control.SPEED:
        return float(np.max(np.abs(run.mean["speed_ref"] - run.mean["speed"])))
    return 0.0


def figures_of(run: Rehearsal, axis: Axis) -> RehearsalFigures:
    """Return the figures of a run."""
    positioned = run.scenario.control is Control.POSITION
    most, least, seconds = run.most, run.least, run.samples * axis.inverter.Ts
    joules = run.mean["power"] * np.diff(run.t, append=seconds)
    rms = math.sqrt(run.squares["current"] / 2.0)
    ripple = math.sqrt(run.squares["ripple"] / 2.0) if run.plant.switches else math.nan
    whole = math.hypot(rms, 0.0 if math.isnan(ripple) else ripple)
    return RehearsalFigures(
        ended=run.ended,
        trip=run.trip,
        seconds=seconds,
        top_speed=_peak(most["shaft"], least["shaft"]),
        peak_current=float(np.max(most["amperes"], initial=0.0)),
        rms_current=whole,
        winding=winding_at(axis, whole),
        copper_loss=1.5 * run.resistance * (run.squares["current"] + run.squares["ripple"]),
        voltage=float(np.max(most["volts"] / run.limits, initial=0.0)),
        saturated=run.saturated,
        following_peak=_peak(most["following"], least["following"]) if positioned else math.nan,
        following_rms=math.sqrt(run.squares["following"]) if positioned else math.nan,
        behind=behind(run),
        ripple=ripple,
        distortion=ripple / rms if rms > 0.0 else math.nan,
        drawn=float(np.sum(np.maximum(joules, 0.0))),
        returned=-float(np.sum(np.minimum(joules, 0.0))),
        bus_least=float(np.min(least["bus"], initial=math.inf)),
        bus_most=float(np.max(most["bus"], initial=0.0)),
        burnt=run.burnt,
        points=() if run.scenario.is_tabled else tuple(_points(run)),
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class Unread:
    """Where the shaft turns otherwise than its sensor says, by the most."""

    at: float  # s
    shaft: float  # rad/s
    told: float  # rad/s


def unread_of(run: Rehearsal, axis: Axis) -> Unread | None:
    """Return where a sensor that was lost tells otherwise than the shaft; None: nowhere."""
    lost = [one.at for one in run.scenario.events if one.what is Happening.SENSOR]
    apart = np.abs(run.mean["shaft"] - run.mean["speed"])
    if not lost or not apart.size:
        return None
    most = int(np.argmax(np.where(run.t >= lost[0], apart, 0.0)))
    if run.t[most] < lost[0] or apart[most] < _UNREAD * axis.top_speed:
        return None
    return Unread(at=float(run.t[most]), shaft=float(run.mean["shaft"][most]),
                  told=float(run.mean["speed"][most]))  # fmt: skip


def shaft_way(run: Rehearsal, axis: Axis) -> Array:
    """Return where the shaft itself stands in the middle of each bin, rad from where it began.

    The sensor's word for it is the channel `position`.
    """
    turned = run.mean["shaft"] * np.diff(run.t, append=run.samples * axis.inverter.Ts)
    found: Array = np.cumsum(turned) - 0.5 * turned
    return found


def apart_of(run: Rehearsal, axis: Axis) -> float | None:
    """Return by how much the shaft stands ahead of what its sensor says at the end, rad.

    None where nothing happened to the sensor, or it is not worth a word.
    """
    events = {one.what for one in run.scenario.events}
    if not events & {Happening.SENSOR, Happening.SLIP} or not run.t.size:
        return None
    off = float(shaft_way(run, axis)[-1] - run.mean["position"][-1])
    return off if abs(off) > _APART else None


def _peak(most: Array, least: Array) -> float:
    return float(max(np.max(most, initial=0.0), -np.min(least, initial=0.0)))


def _points(run: Rehearsal) -> list[PointFigures]:
    scenario, found = run.scenario, []
    name = {Control.CURRENT: "iq", Control.SPEED: "speed", Control.POSITION: "position"}[
        scenario.control
    ]
    ends = [*(point.at for point in scenario.points[1:]), scenario.duration]
    before = 0.0
    for point, end in zip(scenario.points, ends, strict=True):
        part = (run.t >= point.at) & (run.t < end)
        if not np.any(part):
            break  # it ended before
        asked = point.value + (before if scenario.control is Control.POSITION else 0.0)
        tail = run.mean[name][part][-max(int(0.1 * np.count_nonzero(part)), 1) :]
        step = asked - before
        extreme = run.most[name][part].max() if step > 0.0 else run.least[name][part].min()
        past = (extreme - asked) / step if step else math.nan
        start = before if scenario.control is Control.POSITION else 0.0
        over = max(float(past), 0.0) if step else math.nan
        reached = float(np.mean(tail)) - start
        found.append(PointFigures(at=point.at, asked=point.value, reached=reached, overshoot=over))
        before = asked
    return found
