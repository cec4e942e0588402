"""What the program proposes for a speed loop: filters and gains for the margin that is asked."""

from collections.abc import Sequence
from dataclasses import replace

from oarlock.control.speed_design import MARGIN, speed_gains, speed_target, with_pi
from oarlock.control.speed_ways import Way
from oarlock.machine import Axis
from oarlock.machine.speed_loop import KEY, SpeedTarget
from oarlock.views.speed import designed
from oarlock.views.speed_asked import with_filters


def with_way(axis: Axis, way: Way, speed: float) -> Axis:
    """Return an axis with a way's filters, and the stiffest gains with them that it found.

    A load observer stays: then the gains are designed anew beside it.

    Parameters
    ----------
    speed : rad/s, that it is looked at

    Raises
    ------
    InputError : no gains beside the observer keep the margin

    """
    target = SpeedTarget(phase_margin=speed_target(axis).phase_margin)
    old = speed_gains(axis) or way.loop.gains
    axis = with_filters(axis, way.filters)
    axis = replace(axis, loops=axis.loops.with_target(KEY, target))
    observes = old.observer > 0.0
    gains = designed(axis, target, speed) if observes else with_pi(old, way.loop.gains)
    return axis.with_loop_gains(KEY, gains)


def proposed(axis: Axis, ways: Sequence[Way], speed: float) -> Axis:
    """Return an axis with the best way's filters and gains; without ways the stiffest gains.

    Parameters
    ----------
    speed : rad/s, that it is looked at

    Raises
    ------
    InputError : nothing to design on, or no gains keep the margin

    """
    fit = [way for way in ways if way.stiffer == 1.0]
    if fit:
        return with_way(axis, min(fit, key=lambda way: way.load.IAE), speed)
    target = SpeedTarget(phase_margin=speed_target(axis).phase_margin or MARGIN)
    gains = designed(axis, target, speed)
    return replace(axis, loops=axis.loops.with_target(KEY, target).with_gains(KEY, gains))
