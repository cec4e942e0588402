"""Options of the speed controller: the load observer, and the lag of the speed asked for.

The observer follows the speed of a single inertia under the current that was asked for; what it
misses it takes for a load, and the controller asks for that much more. Both of its poles lie at
e^(−ωT) (Franklin, Powell and Workman, Digital Control of Dynamic Systems, 3rd ed., sections 8.2
and 8.5: a current estimator of a state and a constant disturbance).
"""

import math
from collections.abc import Callable
from dataclasses import dataclass

from oarlock.control.discrete import Coefficients, add, times
from oarlock.machine.speed_loop import SpeedGains

_ANGLES = tuple(1e-4 * 15000.0 ** (n / 63.0) for n in range(64))  # ω·T of observers that are tried
_HALVINGS = 46


@dataclass(frozen=True, slots=True, kw_only=True)
class LoadObserver:
    """The numbers that the firmware runs it with; all 0: it rests."""

    step: float = 0.0  # rad/s that one ampere makes in a sample
    speed: float = 0.0  # share of what is missed that the speed takes
    load: float = 0.0  # A s/rad, of what is missed, that the load takes


RESTING = LoadObserver()


def load_observer(gains: SpeedGains, T: float) -> LoadObserver:
    """Return the observer of these gains, sampled each `T` seconds."""
    if not gains.observer > 0.0:
        return RESTING
    pole, step = math.exp(-gains.observer * T), T / gains.inertia
    return LoadObserver(step=step, speed=1.0 - pole**2, load=(1.0 - pole) ** 2 / step)


def reference_share(gains: SpeedGains, T: float) -> float:
    """Return by what share the speed asked for moves in a sample; 1: at once."""
    return 1.0 - math.exp(-T / gains.reference) if gains.reference > 0.0 else 1.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Ways:
    """What the speed controller makes of each input, over one denominator; in δ = z − 1.

    With Q = `poles`, and the PI a numerator N over S, which is δ, or 1 of a P alone: of a speed
    asked for Q·N, of the measured speed Q·N + `extra`, of a current that is added before the limit
    Q·S.
    """

    den: Coefficients
    sums: Coefficients  # S
    poles: Coefficients = (1.0,)
    extra: Coefficients = (0.0,)

    def asked(self, pi: Coefficients) -> Coefficients:
        """Return the way of a speed asked for, through a PI's numerator."""
        return times(self.poles, pi)

    def seen(self, pi: Coefficients) -> Coefficients:
        """Return the way of the measured speed, its sign turned."""
        asked = self.asked(pi)
        return add(asked, self.extra) if any(self.extra) else asked

    @property
    def ahead(self) -> Coefficients:
        """The way of a current that is added before the limit."""
        return times(self.poles, self.sums)


def pi_of(gains: SpeedGains, T: float, weight: float) -> Coefficients:
    """Return the PI's numerator for a speed that counts by a weight in its proportional part."""
    each = gains.Ki * T
    return (weight * gains.Kp + each, each) if each else (weight * gains.Kp,)


def ways(gains: SpeedGains, T: float) -> Ways:
    """Return the controller's ways: of a PI or P alone, or with the load observer in it.

    With D = 1 − z⁻¹ the observer's load is l = Λ·(D·y − z⁻¹·b·u)/(1 − p·z⁻¹)². u = PI − l is
    solved for u: u·D·(1 − p²·z⁻¹) = (1 − p·z⁻¹)²·PI − Λ·D·y, all times z²·S.
    """
    sums: Coefficients = (1.0, 0.0) if gains.Ki else (1.0,)
    if not gains.observer > 0.0:
        return Ways(den=sums, sums=sums)
    load, pole = load_observer(gains, T).load, math.exp(-gains.observer * T)
    return Ways(
        den=times((1.0, 1.0 - pole**2, 0.0), sums),
        sums=sums,
        poles=times((1.0, 1.0 - pole), (1.0, 1.0 - pole)),
        extra=times(times((load, 0.0), (1.0, 1.0)), sums),
    )


def p_and_observer(
    wanted: complex, delta: complex, inertia: float, T: float
) -> tuple[float, float] | None:
    """Return (Kp, observer in rad/s) of a P beside an observer that is `wanted` at a δ, or None.

    For each pole p of the observer C = (Q·Kp + Λ·δ·z)/(δ·(z − p²)) gives one Kp, which is a real
    number where both fit. Of several the slowest observer is taken: its loop is the stiffest.

    Parameters
    ----------
    wanted : A s/rad, of the controller
    delta : e^(jωT) − 1 of the frequency where it is wanted
    inertia : A s²/rad, that the observer goes by
    T : s

    """

    def proportional(p: float) -> complex:
        load = (1.0 - p) ** 2 * inertia / T
        rest = wanted * delta * (delta + 1.0 - p * p) - load * delta * (delta + 1.0)
        return rest / (delta + 1.0 - p) ** 2

    poles = [math.exp(-angle) for angle in _ANGLES]
    off = [proportional(p).imag for p in poles]
    for n in range(len(poles) - 1):
        if off[n] * off[n + 1] >= 0.0:
            continue
        found = _root(lambda p: proportional(p).imag, poles[n], poles[n + 1], off[n])
        gain = proportional(found).real
        if gain > 0.0:
            return gain, -math.log(found) / T
    return None


def _root(f: Callable[[float], float], low: float, high: float, at_low: float) -> float:
    """Return where a function turns its sign, by bisection."""
    for _ in range(_HALVINGS):
        middle = 0.5 * (low + high)
        if f(middle) * at_low > 0.0:
            low = middle
        else:
            high = middle
    return 0.5 * (low + high)
