"""The curves of a scenario that was simulated, as they are drawn, in the units chosen; pure."""

import math
from collections.abc import Mapping

import numpy as np

from oarlock.quantities.shown import USUAL, Scale, Units
from oarlock.rehearse.envelope import Spread
from oarlock.rehearse.figures import shaft_way
from oarlock.rehearse.run import Array
from oarlock.rehearse.scenario import Control
from oarlock.views.rehearsal import RehearsePicture, unread

Curve = tuple[Array, Array, Array]
Bands = list[tuple[Array, Array]]
Told = tuple[tuple[str, float], ...]  # text and height of each point at the cursor
_TURN = Scale(math.tau, "turns")


def asked_as(control: Control, units: Units = USUAL) -> tuple[str, Scale]:
    """Return which channel follows what is asked, and the unit that it is drawn in."""
    return {
        Control.POSITION: ("position", _TURN),
        Control.SPEED: ("speed", units["rpm"]),
        Control.CURRENT: ("iq", units["A"]),
    }[control]


def behind_in(control: Control, units: Units = USUAL) -> Scale:
    """Return the unit that what lies behind is drawn in."""
    return Scale(math.radians(1.0), "°") if control is Control.POSITION else units["rpm"]


def _behind(course: Mapping[str, Array], control: Control, units: Units) -> Array:
    """Return how far it is behind, as it is drawn."""
    off = course["following"]
    if control is not Control.POSITION:
        off = course["speed_ref"] - course["speed"]
    return np.asarray(off / behind_in(control, units).per, dtype=np.float64)


def asked_of(shown: RehearsePicture, units: Units = USUAL) -> Array | None:
    """Return what is asked, as it is drawn; None where that is not recorded."""
    run, control = shown.run, shown.run.scenario.control
    per = asked_as(control, units)[1].per
    if control is Control.SPEED:
        return np.asarray(run.mean["speed_ref"] / per, dtype=np.float64)
    if control is Control.POSITION:
        return np.asarray((run.mean["position"] + run.mean["following"]) / per, dtype=np.float64)
    return None


def curves_of(shown: RehearsePicture, units: Units = USUAL) -> dict[str, list[Curve]]:
    """Return (mean, least, most) of the curves of each plot, as they are drawn.

    Of what is asked the second curve is the shaft itself, where the sensor tells otherwise.
    """
    run, control = shown.run, shown.run.scenario.control
    (name, scale), amps = asked_as(control, units), units["A"].per
    parts = (run.mean, run.least, run.most)
    mean, *sides = (_behind(part, control, units) for part in parts)
    off = unread(run, shown.axis)
    asked = [name, "shaft"] if name == "speed" and off else [name]
    drawn = [_of(parts, channel, scale.per) for channel in asked]
    if name == "position" and off:
        drawn.append((shaft_way(run, shown.axis) / scale.per,) * 3)
    return {
        "asked": drawn,
        "behind": [(mean, np.minimum(*sides), np.maximum(*sides))],
        "current": [_of(parts, channel, amps) for channel in ("iq", "id")],
        "volts": [_of(parts, "volts", 1.0)],
    }


def _of(parts: tuple[Mapping[str, Array], ...], channel: str, per: float) -> Curve:
    mean, least, most = (part[channel] / per for part in parts)
    return mean, least, most


def many_courses(
    spread: Spread, control: Control, units: Units = USUAL
) -> dict[str, tuple[Bands, Bands]]:
    """Return what is drawn of many machines in each plot.

    First (least, most) of each of its curves, of those that follow; then (s, course) of each that
    falls out.
    """
    (name, scale), amps = asked_as(control, units), units["A"].per

    def drawn(channel: str, per: float = 1.0) -> tuple[Bands, Bands]:
        out = [(f.t, f.course[channel] / per) for f in spread.fallen]
        if not spread.t.size:
            return [], out
        return [(spread.least[channel] / per, spread.most[channel] / per)], out

    least, most, behind = spread.least, spread.most, []
    if spread.t.size:
        if control is not Control.POSITION:  # the speed asked for is the same on each
            least, most = {**most, "speed": most["speed"]}, {**most, "speed": least["speed"]}
        behind = [(_behind(least, control, units), _behind(most, control, units))]
    return {
        "asked": drawn(name, scale.per),
        "behind": (behind, [(f.t, _behind(f.course, control, units)) for f in spread.fallen]),
        "current": (drawn("iq", amps)[0] + drawn("id", amps)[0], drawn("iq", amps)[1]),
        "volts": drawn("volts"),
    }


def picked(shown: RehearsePicture, at: float) -> dict[str, float]:
    """Return each channel's mean at a time, SI."""
    n = int(np.clip(np.searchsorted(shown.run.t, at, side="right") - 1, 0, shown.run.t.size - 1))
    return {name: float(column[n]) for name, column in shown.run.mean.items()}


def at_cursor(shown: RehearsePicture, at: float, units: Units = USUAL) -> dict[str, Told]:
    """Return what stands at the cursor in each plot."""
    here, control = picked(shown, at), shown.run.scenario.control
    (name, scale), off, amps = asked_as(control, units), behind_in(control, units), units["A"]
    followed = here[name] / scale.per
    behind = here["following"] / off.per
    if control is not Control.POSITION:
        behind = (here["speed_ref"] - here["speed"]) / off.per
    currents = ((channel, here[channel] / amps.per) for channel in ("iq", "id"))
    return {
        "asked": ((f"{at:.3f} s: {told(followed, 4)} {scale.unit}", followed),),
        "behind": ((f"{told(behind)} {off.unit}".replace(" °", "°"), behind),),
        "current": tuple((f"{name} {told(value)} {amps.unit}", value) for name, value in currents),
        "volts": ((f"{here['volts']:.3g} V", here["volts"]),),
    }


def told(value: float, figures: int = 3) -> str:
    """Return a number as it stands at the cursor."""
    return f"{value:.{figures}g}".replace("-", "−")
