"""What a scenario's course becomes over many machines: how far it reaches, who falls out, a remedy.

A machine falls out where it does not come to the end, or where it falls behind by far more than the
machine as it is believed does.
"""

import math
import threading
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from oarlock.cancel import Cancel
from oarlock.machine import Axis
from oarlock.rehearse.figures import behind
from oarlock.rehearse.run import Rehearsal, rehearse
from oarlock.rehearse.scenario import Control, Scenario
from oarlock.rehearse.vary import Study
from oarlock.simulate.plant_parameters import Modulation, PlantParameters

Array = NDArray[np.float64]
CHANNELS = ("position", "following", "speed", "speed_ref", "iq", "id", "volts")
_MOST_BINS = 20_000  # of a course: of a long one they are made coarser
MOST_FALLEN = 8  # whose courses are kept
_FAR = 3.0  # times as far behind as the machine that is believed
_OF_TOP, _ANGLE = 0.03, math.radians(1.0)  # and at least so far: of the top speed, rad
_GENTLER = (0.8, 0.6, 0.45, 0.3)  # of the accelerations, that are tried


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Fallen:
    """A machine that falls out."""

    t: Array  # s
    course: Mapping[str, Array]  # mean of each bin, by channel


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Spread:
    """The courses of many machines."""

    t: Array  # s, (n,)
    least: Mapping[str, Array]  # of all that do not fall out, of their means, by channel
    most: Mapping[str, Array]
    fallen: tuple[Fallen, ...]  # the first of them
    out: tuple[int, ...]  # the numbers of all that fall out


def _far(believed: float, scenario: Scenario, axis: Axis) -> float:
    """Return how far behind is too far, where the machine that is believed is so far behind."""
    least = {Control.POSITION: _ANGLE, Control.SPEED: _OF_TOP * axis.top_speed}
    return max(_FAR * believed, least.get(scenario.control, math.inf))


def out_of(study: Study, scenario: Scenario, axis: Axis) -> tuple[int, ...]:
    """Return the numbers of the machines of a study that fall out, by their figures."""
    far = _far(study.figures[0].behind, scenario, axis)
    return tuple(n for n, one in enumerate(study.figures)
                 if one.ended != "done" or one.behind > far)  # fmt: skip


class Gathering:
    """Takes run after run, from any thread, each with its number."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._runs: dict[int, tuple[str, float, Array, dict[str, Array]]] = {}

    def take(self, number: int, run: Rehearsal) -> None:
        """Keep what is drawn of a run."""
        stride = max(math.ceil(run.t.size / _MOST_BINS), 1)
        course = {name: _coarser(run.mean[name], stride) for name in CHANNELS}
        with self._lock:
            self._runs[number] = run.ended, behind(run), _coarser(run.t, stride), course

    def spread(self, scenario: Scenario, axis: Axis) -> Spread:
        """Return how far they reach; the first is the machine as it is believed."""
        first = self._runs[min(self._runs)]
        far = _far(first[1], scenario, axis)
        out: list[int] = []
        whole: list[dict[str, Array]] = []
        fallen: list[Fallen] = []
        for number, (ended, most_behind, t, course) in sorted(self._runs.items()):
            if ended == "done" and most_behind <= far and t.size == first[2].size:
                whole.append(course)
                continue
            out.append(number)
            if len(fallen) < MOST_FALLEN:
                fallen.append(Fallen(t=t, course=course))
        stacks = {name: np.stack([one[name] for one in whole]) for name in CHANNELS if whole}
        return Spread(
            t=first[2] if whole else np.zeros(0),
            least={name: stack.min(axis=0) for name, stack in stacks.items()},
            most={name: stack.max(axis=0) for name, stack in stacks.items()},
            fallen=tuple(fallen), out=tuple(out),
        )  # fmt: skip


def _coarser(values: Array, stride: int) -> Array:
    """Return means over so many bins each; what is left over at the end is left out."""
    whole = values.size // stride * stride
    found: Array = values[:whole].reshape(-1, stride).mean(axis=1)
    return found


def gentler(scenario: Scenario, share: float) -> Scenario:
    """Return a scenario whose accelerations are a share of what they were."""
    points = tuple(replace(one, acceleration=share * one.acceleration) for one in scenario.points)
    return replace(scenario, points=points)


def remedy(
    scenario: Scenario, axis: Axis, plants: Sequence[PlantParameters], *,
    bridge: Modulation = Modulation.AVERAGED, cancel: Cancel | None = None,
) -> float | None:  # fmt: skip
    """Return the largest share of the accelerations with which none of some machines falls out.

    None where nothing is accelerated, the points come from a table, or a third of it is too much
    still. A machine's own lag at that share is what it is held against.

    Parameters
    ----------
    plants : those that fall out

    """
    if scenario.is_tabled or not any(one.acceleration > 0.0 for one in scenario.points):
        return None
    for share in _GENTLER:
        softer, gathering = gentler(scenario, share), Gathering()
        gathering.take(-1, rehearse(softer, axis, cancel=cancel, bridge=bridge))
        for number, plant in enumerate(plants):
            run = rehearse(softer, axis, plant=plant, cancel=cancel, bridge=bridge)
            gathering.take(number, run)
            if gathering.spread(softer, axis).out:
                break
        else:
            return share
    return None
