"""The position loop: a P controller round the speed loop, which asks ahead for the move's speed.

It runs with the speed controller, on the same samples. What it asks for passes the speed loop's
set-point weight, what it asks ahead does not.
"""

import math
from dataclasses import dataclass
from functools import cached_property, lru_cache

import numpy as np
from numpy.typing import NDArray

from oarlock.control._figures import figures_of_move
from oarlock.control._steps import filtered, rows
from oarlock.control.discrete import Coefficients, Discrete, add, product, times
from oarlock.control.margins import Margins, margins
from oarlock.control.profile import Move
from oarlock.control.speed import SpeedLoop
from oarlock.errors import InputError
from oarlock.machine.position_loop import PositionGains

Array = NDArray[np.float64]
Complex = NDArray[np.complex128]
_SLIPS = 8.0  # times 1/Kp, over which the answer to a load is looked at
_QUIET = 1e-3  # overshoot of a plain step that counts as none
_HALVINGS = 30  # of three decades: kept gains are compared with what is found to 1e-9


@dataclass(frozen=True)
class PositionLoop:
    """A speed loop with a position controller round it, closed."""

    speed: SpeedLoop
    gains: PositionGains

    @cached_property
    def opened(self) -> Discrete:
        """The open loop, from the position's error to the position."""
        return _way(self.speed, _asked(self.speed)).scaled(self.gains.Kp)

    @cached_property
    def margins(self) -> Margins:
        """Of the open loop."""
        return margins(self.opened)

    @property
    def T(self) -> float:
        """Sample time, s."""
        return self.speed.plant.T

    @cached_property
    def _characteristic(self) -> Coefficients:
        return self.opened.feedback().den

    def _closed(self, num: Coefficients) -> Discrete:
        return Discrete(num, self._characteristic, self.T)

    @cached_property
    def closed(self) -> Discrete:
        """From the position asked for to the position, nothing asked ahead."""
        return self._closed(self.opened.num)

    @cached_property
    def by_load(self) -> Discrete:
        """From a current behind the controller (A), as friction takes it, to the position."""
        return self._closed(_way(self.speed, self.speed.ways.den).num)

    def slip(self, excess: float) -> float:
        """Return how far (rad) it may slip beyond its target where the shaft sticks about it.

        The integral pushes until the shaft breaks away; then friction falls at once by `excess`,
        which moves a shaft that holds its target by the most that such a step of load does. A shaft
        that came to rest beyond it starts on its way back from there, and less is left.

        Parameters
        ----------
        excess : A, by which breaking away takes more than turning

        """
        if not (self.speed.gains.Ki > 0.0 or self.speed.gains.observer > 0.0):
            return 0.0
        samples = int(min(max(_SLIPS / (self.gains.Kp * self.T), 400), 20000))
        slipped = self.by_load.step(samples)
        return excess * max(float(slipped.max()), -float(slipped.min()))

    @property
    def is_stable(self) -> bool:
        """Whether all poles of the closed loop lie inside the unit circle."""
        return self.margins.stable

    def moved(
        self, move: Move, seconds: float, *, start: float = 0.0, friction: float = 0.0
    ) -> "Moved":
        """Return how the axis follows a move.

        Friction holds against it from the first moment on, and stays when the shaft has come to
        rest: what the integral holds then is held by the shaft that sticks. What is asked ahead
        against friction ends with the profile, and so does its share of friction.

        Parameters
        ----------
        seconds : how long it is looked at
        start : s, into the move, of the first sample
        friction : A, of the current that overcomes it

        Raises
        ------
        InputError : the speed loop by itself is unstable: what it does alone cannot be told

        """
        _refuse_unstable(self.speed)
        led = _led(self.speed, self.gains.speed_share, move, start, int(seconds / self.T) + 1,
                   friction)  # fmt: skip
        pushing = times(_pushing(self.speed, _asked(self.speed)).num, (self.gains.Kp, 0.0))
        lag, push = filtered(
            rows(self._characteristic, self.opened.den, pushing)[1:],
            np.array(self._characteristic), led.asked - led.position,
        )  # fmt: skip
        position = led.asked - lag
        return Moved(t=led.t, asked=led.asked, position=position, speed_asked=led.speed,
                     speed=_slope(position, self.T), push=led.push + push)  # fmt: skip

    def on_grid(self, low: float, points: int) -> tuple[Array, Complex, Array]:
        """Return (rad/s, gain, unwrapped phase in rad) of the open loop, as `Discrete.on_grid`."""
        omega, gain, phase = _unit_on_grid(self.speed, low, points)
        return omega, self.gains.Kp * gain, phase


def _refuse_unstable(speed: SpeedLoop) -> None:
    if not speed.is_stable:
        raise InputError("the speed loop is unstable", place="position loop",
                         remedy="Mend the speed loop first")  # fmt: skip


def _asked(speed: SpeedLoop) -> Coefficients:
    """Return the speed controller's numerator for what the position controller asks for."""
    return speed.asked(speed.gains.weight)


@lru_cache(maxsize=32)  # kept while the position's gain is dragged, as those below
def _way(speed: SpeedLoop, controller: Coefficients) -> Discrete:
    """Return the way to the position, the speed loop closed, through a numerator of its own."""
    plant, opened = speed.plant, speed.opened
    num = times(controller, product(plant.following.den, plant.turned.num))
    return Discrete(num, times(add(opened.den, opened.num), (1.0, 0.0)), plant.T)


@lru_cache(maxsize=32)
def _pushing(speed: SpeedLoop, controller: Coefficients) -> Discrete:
    """Return the way to the current asked for, the speed loop closed."""
    plant, opened = speed.plant, speed.opened
    num = times(controller, product(plant.following.den, plant.push.den))
    return Discrete(num, add(opened.den, opened.num), plant.T)


def _slope(x: Array, T: float) -> Array:
    """Return the slope through each sample's neighbours, at the ends through the one there is."""
    steps = x[1:] - x[:-1]
    slope = np.empty_like(x)
    slope[0], slope[-1] = steps[0], steps[-1]
    slope[1:-1] = 0.5 * (steps[1:] + steps[:-1])
    return slope / T


@lru_cache(maxsize=16)
def loop_of(speed: SpeedLoop, gains: PositionGains) -> PositionLoop:
    """Return a loop; kept, since it works out itself what is asked of it again and again."""
    return PositionLoop(speed, gains)


@lru_cache(maxsize=8)
def _unit_on_grid(speed: SpeedLoop, low: float, points: int) -> tuple[Array, Complex, Array]:
    """Return what `PositionLoop.on_grid` does at a gain of 1; not to be changed."""
    return _way(speed, _asked(speed)).on_grid(low, points)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class _Led:
    """A move as it is asked for, and where the shaft goes by what is asked ahead alone."""

    t: Array  # s
    asked: Array  # rad
    speed: Array  # rad/s
    position: Array  # rad, no position loop about it
    push: Array  # A


@lru_cache(maxsize=4)
def _led(
    speed: SpeedLoop, share: float, move: Move, start: float, samples: int, friction: float
) -> _Led:
    t = start + np.arange(samples, dtype=np.float64) * speed.plant.T
    x, w, a = move.at(t)
    gains, side = speed.gains, math.copysign(1.0, move.distance)
    known = gains.friction * np.sign(w)
    rests = gains.friction * ((w == 0.0) & (t > 0.0))
    met = known - side * np.maximum(friction - rests, 0.0)
    position = _way(speed, speed.asked(1.0)).output(share * w)
    position += _way(speed, speed.ways.den).output(met)
    push = _pushing(speed, speed.asked(1.0)).output(share * w)
    push += known - speed.opened.feedback().output(met)
    if gains.acceleration:
        position += _way(speed, speed.ways.ahead).output(gains.acceleration * a)
        push += _pushing(speed, speed.ways.ahead).output(gains.acceleration * a)
    return _Led(t=t, asked=x, speed=w, position=position, push=push)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Moved:
    """A move as it is followed; rad and rad/s over s."""

    t: Array
    asked: Array
    position: Array
    speed_asked: Array
    speed: Array
    push: Array  # A

    @property
    def lag(self) -> Array:
        """The following error, rad."""
        return self.asked - self.position


@dataclass(frozen=True, slots=True, kw_only=True)
class MoveFigures:
    """What people read off a move."""

    following: float  # rad, the largest following error
    overshoot: float  # rad beyond the end
    settling: float  # s after the profile's end until it stays in the window; NaN: it does not
    late: float  # rad still missing where the profile ends


def move_figures(t: Array, asked: Array, position: Array, end: float, window: float) -> MoveFigures:
    """Return the figures of a move.

    Parameters
    ----------
    t : s from its start, rising; asked, position : rad, from where it began
    end : s, when the profile ends
    window : rad to each side of the target

    """
    following, overshoot, last, late = figures_of_move(t, asked, position, end, window)
    settled = math.nan if last == t.size - 1 else max(float(t[last + 1]) - end, 0.0)
    return MoveFigures(following=following, overshoot=overshoot, settling=settled, late=late)


def step_overshoot(loop: PositionLoop) -> float:
    """Return the overshoot of a plain step of position, ratio."""
    return _overshoot(loop.closed, loop.gains.Kp)


def _overshoot(closed: Discrete, Kp: float) -> float:
    slowest = 1.0 / max(Kp, 1e-6)
    samples = int(min(max(8.0 * slowest / closed.Ts, 200), 20000))
    return max(float(np.max(closed.step(samples))) - 1.0, 0.0)


@lru_cache(maxsize=32)
def quiet_gain(speed: SpeedLoop) -> float:
    """Return the largest gain (1/s) without overshoot of a plain step, by bisection.

    The rule of a quarter of the speed loop's crossover fails for a set-point weight below 1, so
    it is sought on the exact loop.

    Raises
    ------
    InputError : the speed loop is unstable

    """
    _refuse_unstable(speed)
    low, high = 1e-3 * speed.margins.crossover, speed.margins.crossover
    unit = PositionLoop(speed, PositionGains(Kp=1.0)).opened
    for _ in range(_HALVINGS):
        middle = math.sqrt(low * high)
        closed = unit.scaled(middle).feedback()
        if closed.is_stable and _overshoot(closed, middle) <= _QUIET:
            low = middle
        else:
            high = middle
    return low


def gain_for(speed: SpeedLoop, crossover: float) -> float:
    """Return the gain (1/s) of a crossover, rad/s.

    Raises
    ------
    InputError : it would be unstable

    """
    gain = 1.0 / abs(_way(speed, _asked(speed)).at(crossover))
    if not loop_of(speed, PositionGains(Kp=gain)).is_stable:
        cause = f"{crossover / math.tau:.3g} Hz would be unstable"
        raise InputError(cause, place="position loop",
                         remedy="Ask for a quarter of the speed loop's crossover")  # fmt: skip
    return gain
