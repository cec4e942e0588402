"""The ways round a shaft's resonance that the Speed loop stage sets side by side."""

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from oarlock.control.speed_design import MARGIN, Turning, plant_of, speed_target, wanted_of
from oarlock.control.speed_ways import Way, proposed_notches, slower, stiffer_shaft
from oarlock.machine import Axis
from oarlock.machine.loop import Loop
from oarlock.machine.speed_loop import KEY
from oarlock.quantities.display import digits, whole_degrees
from oarlock.quantities.shown import Scale
from oarlock.views.screen import SpeedSettings
from oarlock.views.speed import SpeedPicture, settled
from oarlock.views.speed_asked import filter_title

Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Question:
    """What the ways are worked out for: an axis without filters, where it turns, the margin."""

    axis: Axis
    speed: float  # rad/s
    margin: float  # rad


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Card:
    """One way as it is shown, under the load that is set."""

    way: Way
    title: str
    hint: str
    dip: str  # "26 rpm, 51 ms"
    margins: str
    bears: str
    may_use: bool
    t: Array  # s
    sag: Array  # rad/s


_KEPT = 8
_remembered: dict[Question, tuple[Way, ...]] = {}  # the oldest first


def question(axis: Axis, settings: SpeedSettings) -> Question | None:
    """Return what to work out, or None where the shaft does not twist."""
    if not axis.mechanics.resonance.value or axis.gains is None or axis.machine.inertia is None:
        return None
    inner = axis.loops.only(("current",)).having(KEY, Loop())
    margin = speed_target(axis).phase_margin or MARGIN
    return Question(replace(axis, loops=inner), settled(settings, axis)[0], margin)


def ways(asked: Question, check: Callable[[], None] = lambda: None) -> tuple[Way, ...]:
    """Return the ways; a second of work, for a job. What `check` raises ends it.

    Those of the newest questions are remembered: a stage that is opened again does not wait.
    """
    found = _remembered.get(asked)
    if found is None:
        found = _worked_out(asked, check)
        while len(_remembered) >= _KEPT:
            _remembered.pop(next(iter(_remembered)), None)
        _remembered[asked] = found
    return found


def _worked_out(asked: Question, check: Callable[[], None]) -> tuple[Way, ...]:
    bare = plant_of(asked.axis, turning=Turning(speed=asked.speed), filters=())
    if not bare.shaft.twists:
        return ()
    wanted = wanted_of(asked.axis, asked.margin, Turning(speed=asked.speed))
    notch = proposed_notches(bare, wanted, check=check)
    check()
    plain = slower(bare, wanted)
    target = notch or plain
    shaft = stiffer_shaft(bare, wanted, target.load.dip, check=check) if target else None
    return tuple(way for way in (notch, plain, shaft) if way is not None)


def against_best(found: tuple[Way, ...], shown: SpeedPicture, axis: Axis) -> str:
    """Return how stiff a loop is beside the best that gains and notches allow; empty: not known."""
    areas = [way.loop.dip_area for way in found if way.stiffer == 1.0]
    if not areas or not shown.margins.stable or shown.shakes:
        return ""
    share = 100.0 * min(min(areas) / shown.loop.dip_area, 1.0)
    margin = math.degrees(speed_target(axis).phase_margin or MARGIN)
    return f"It gives {share:.0f} % of the stiffness that the best notches allow at {margin:.0f}°."


def cards(found: tuple[Way, ...], torque: float, axis: Axis, speed: Scale) -> tuple[Card, ...]:
    """Return the ways as they are shown.

    Parameters
    ----------
    torque : N·m, of the load that is set
    speed : in what a dip is told

    """
    amperes = torque / axis.machine.torque_constant
    return tuple(_card(way, amperes, speed) for way in found)


def _card(way: Way, amperes: float, speed: Scale) -> Card:
    m, load = way.loop.margins, way.load
    back = f", {1e3 * load.recovery:.0f} ms" if math.isfinite(load.recovery) else ""
    gain = 20.0 * math.log10(m.gain_margin) if math.isfinite(m.gain_margin) else math.inf
    hint = f"× {way.stiffer:g}" if way.stiffer > 1.0 else ""
    if way.filters:
        hint = filter_title(way.filters[0]).removeprefix("notch ")
    if len(way.filters) > 1:
        hint = " and ".join(f"{one.frequency / math.tau:.0f}" for one in way.filters) + " Hz"
    samples = min(int(4.0 * (load.recovery if math.isfinite(load.recovery) else 0.5)
                      / way.loop.plant.T), way.sag.size)  # fmt: skip
    return Card(
        way=way, title=way.title, hint=hint,
        dip=f"{digits(amperes * load.dip / speed.per, 2)} {speed.unit}{back}",
        margins=f"{digits(m.crossover / math.tau, 2)} Hz, "
                f"{whole_degrees(math.degrees(m.phase_margin))}°, {gain:.1f} dB",
        bears=_bears(way),
        may_use=way.stiffer == 1.0,
        t=np.arange(samples, dtype=np.float64) * way.loop.plant.T,
        sag=-amperes * way.sag[:samples],
    )  # fmt: skip


def _bears(way: Way) -> str:
    """Return where the resonance may lie, in words."""
    if way.stiffer > 1.0:
        return f"a resonance at {way.loop.plant.shaft.resonance / math.tau:.0f} Hz"
    low, high = (edge / math.tau for edge in way.bears)
    if low <= 0.0 and not math.isfinite(high):
        return "holds at any resonance"
    if low <= 0.0:
        return f"holds up to {high:.0f} Hz"
    if not math.isfinite(high):
        return f"holds from {low:.0f} Hz up"
    return f"holds {low:.0f} to {high:.0f} Hz"
