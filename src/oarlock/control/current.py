"""The current loop: plant held over a sample, one sample of delay, PI; and its gains.

The user gives one figure. The PI zero is laid on the plant's pole, exactly, in z. What remains
is L(z) = k / (z (z - 1)), whatever R and L are, with phase -90° - 1.5·ω·Ts and gain
k / (2 sin(ω·Ts/2)) (derived from Holmes et al., IEEE Trans. Power Electron. 24(11), 2009,
p. 2417, with the hold kept instead of approximated).
"""

import math
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache

import numpy as np
from numpy.typing import NDArray

from oarlock.control._steps import rows, stepped
from oarlock.control.discrete import Coefficients, Discrete, add, times
from oarlock.control.margins import Margins, margins
from oarlock.errors import InputError
from oarlock.machine import Axis, CurrentGains, CurrentTarget, TargetKind
from oarlock.machine.current_loop import IntegralRule
from oarlock.machine.unknown import DESIGNED_ON, refuse_unknown

Array = NDArray[np.float64]
Complex = NDArray[np.complex128]
LEAST_MARGIN = math.radians(30.0)
BRISK, GOOD = math.radians(45.0), math.radians(60.0)
_HIDDEN = 0.02  # of a pole: how near the zero lies that hides it
HERTZ = math.tau  # rad/s for each Hz
_CURRENT_AND_VOLTAGE = np.array([(2, 1), (2, 0)])  # as `stepped` has ways
NEWEST = {IntegralRule.BACKWARD: 1.0, IntegralRule.FORWARD: 0.0, IntegralRule.TRAPEZOIDAL: 0.5}


@dataclass(frozen=True, slots=True, kw_only=True)
class Plant:
    """One winding axis behind the inverter."""

    R: float  # ohm
    L: float  # H
    Ts: float  # s

    @property
    def pole(self) -> float:
        """Where the electrical pole lies in z."""
        return math.exp(-self.R * self.Ts / self.L)

    @property
    def gain(self) -> float:
        """A for each V held over one sample: (1 - a)/R."""
        return -math.expm1(-self.R * self.Ts / self.L) / self.R

    def loop(self) -> Discrete:
        """Return it from the commanded voltage to the current, a sample of delay included."""
        gone = -math.expm1(-self.R * self.Ts / self.L)  # 1 - a, exactly
        return Discrete((gone / self.R,), (1.0, 1.0 + gone, gone), self.Ts)


@dataclass(frozen=True, slots=True, kw_only=True)
class PI:
    """Parallel PI controller."""

    Kp: float  # V/A
    Ki: float  # V/(A s)
    rule: IntegralRule = IntegralRule.BACKWARD
    weight: float = 1.0  # share of the reference in the proportional part

    @property
    def newest(self) -> float:
        """Share of the newest error that the integral holds when the voltage is worked out."""
        return NEWEST[self.rule]

    def loop(self, Ts: float) -> Discrete:
        """Return the controller, from the error to the voltage."""
        return self._part(Ts, 1.0)

    def asked(self, Ts: float) -> Discrete:
        """Return what the reference passes, its weight in it, to the voltage."""
        return self._part(Ts, self.weight)

    def _part(self, Ts: float, weight: float) -> Discrete:
        k = self.Ki * Ts
        return Discrete((weight * self.Kp + self.newest * k, k), (1.0, 0.0), Ts)


@dataclass(frozen=True)
class CurrentLoop:
    """Plant and controller, closed over one sample of delay."""

    plant: Plant
    pi: PI

    @cached_property
    def controller(self) -> Discrete:
        """From the error to the voltage."""
        return self.pi.loop(self.plant.Ts)

    @cached_property
    def winding(self) -> Discrete:
        """From the commanded voltage to the current, a sample of delay included."""
        return self.plant.loop()

    @cached_property
    def opened(self) -> Discrete:
        """The open loop, whose margins count."""
        return self.controller.series(self.winding)

    @cached_property
    def closed(self) -> Discrete:
        """From the reference to the current."""
        return self._answer(self.winding.num)

    def closed_on(self, opened: Complex, low: float, points: int) -> Complex:
        """Return the closed loop's gain from the open one's on the grid of `Discrete.on_grid`."""
        closed = opened / (1.0 + opened)
        if self.pi.weight == 1.0:
            return closed
        Ts = self.plant.Ts
        share = Discrete(self.pi.asked(Ts).num, self.controller.num, Ts)
        return closed * share.on_grid(low, points)[1]

    @cached_property
    def effort(self) -> Discrete:
        """From the reference to the voltage."""
        return self._answer(self.winding.den)

    def _answer(self, part: Coefficients) -> Discrete:
        asked, loop = self.pi.asked(self.plant.Ts), self.opened
        return Discrete(times(asked.num, part), add(loop.den, loop.num), self.plant.Ts)

    def step(self, samples: int) -> tuple[Array, Array]:
        """Return (current, voltage) for a reference step of 1 A at sample 0."""
        (current,), voltage = self.steps(samples)
        return current, voltage

    def steps(self, samples: int, *others: Plant) -> tuple[Array, Array]:
        """Return what a reference step of 1 A at sample 0 makes.

        Returns
        -------
        A, of this plant and of others under the same gains, (1 + others, samples);
        V, of this plant, (samples,)

        """
        windings = [self.winding, *[one.loop() for one in others]]
        controller, asked = self.controller, self.pi.asked(self.plant.Ts)
        answers = stepped(
            rows(controller.den, controller.num, asked.num),
            np.array([rows(one.den, one.num) for one in windings]), _CURRENT_AND_VOLTAGE, samples,
        )  # fmt: skip
        return answers[:, 0], answers[0, 1]

    def noise_gain(self, samples: int = 2000) -> tuple[float, float]:
        """Return (A, V) rms of current and voltage for 1 A rms of white sense noise."""
        voltage = self.controller.feedback(self.winding).pulse(samples)
        current = self.opened.feedback().pulse(samples)
        return float(np.sqrt(np.sum(current**2))), float(np.sqrt(np.sum(voltage**2)))


@dataclass(frozen=True, kw_only=True)
class CurrentDesign:
    """Gains for both axes with the loops they close; keeps what it was made from."""

    target: CurrentTarget
    d: CurrentLoop
    q: CurrentLoop
    gains: CurrentGains

    @cached_property
    def margins(self) -> Margins:
        """Of the q loop; the d loop shares them where both zeros cancel exactly."""
        return margins(self.q.opened)

    def margins_of(self, axis: str) -> Margins:
        """Return those of axis `d` or `q`."""
        placed = self.target.kind is TargetKind.NATURAL_FREQUENCY
        return margins(self.d.opened) if placed and axis == "d" else self.margins

    def loop(self, axis: str) -> CurrentLoop:
        """Return the loop of axis `d` or `q`."""
        return self.d if axis == "d" else self.q


def crossover_for(target: CurrentTarget, Ts: float) -> float:
    """Return the crossover (rad/s) that meets `target`.

    Parameters
    ----------
    target : exactly one figure, SI
    Ts : s, sample time of the loop

    Raises
    ------
    InputError : a figure that this delay cannot give, with the nearest one that it can

    """
    if not (math.isfinite(target.value) and target.value > 0.0):
        raise _refusal(f"{target.kind.value.replace('_', ' ')} must be above zero", Ts, target)
    if target.kind is TargetKind.PHASE_MARGIN:
        crossover = (math.pi / 2.0 - target.value) / (1.5 * Ts)
    elif target.kind is TargetKind.TIME_CONSTANT:
        crossover = 1.0 / target.value
    elif target.kind is TargetKind.BANDWIDTH:
        crossover = _crossover_for_bandwidth(target, Ts)
    else:
        crossover = target.value
    if not crossover > 0.0:
        cause = f"no crossover leaves {math.degrees(target.value):.3g}° of margin"
        raise InputError(cause, place="current loop", remedy="Ask for less than 90°")
    left = math.pi / 2.0 - 1.5 * crossover * Ts
    if left < 1e-6 or (left < LEAST_MARGIN - 1e-9 and not target.override_margin):
        shown = f"{crossover / HERTZ:.0f} Hz leaves {math.degrees(left):.0f}° of phase margin"
        raise _refusal(f"the delay forbids it: {shown}, 30° are wanted", Ts, target)
    return crossover


def fastest_crossover(Ts: float, margin: float = LEAST_MARGIN) -> float:
    """Return the highest crossover (rad/s) that keeps `margin` (rad)."""
    return (math.pi / 2.0 - margin) / (1.5 * Ts)


def closed_bandwidth(crossover: float, Ts: float) -> float:
    """Return the -3 dB bandwidth (rad/s) of the cancelled loop with this crossover.

    |T|² = 1/2 of T = k/(z² - z + k) is a quadratic in cos(ω·Ts):
    4k·c² - 2(1+k)·c + (1-k)² + 1 - 2k² = 0.
    """
    k = 2.0 * math.sin(0.5 * crossover * Ts)
    a, b, c = 4.0 * k, -2.0 * (1.0 + k), (1.0 - k) ** 2 + 1.0 - 2.0 * k * k
    root = b * b - 4.0 * a * c
    if root < 0.0:
        return math.pi / Ts
    cosine = (-b - math.sqrt(root)) / (2.0 * a)
    return math.acos(max(cosine, -1.0)) / Ts if cosine <= 1.0 else math.pi / Ts


def _crossover_for_bandwidth(target: CurrentTarget, Ts: float) -> float:
    low, high = 1e-6 / Ts, fastest_crossover(Ts, 1e-6)
    if target.value >= closed_bandwidth(high, Ts):
        cause = f"the delay forbids a bandwidth of {target.value / HERTZ:.0f} Hz"
        raise _refusal(cause, Ts, target)
    for _ in range(80):
        middle = 0.5 * (low + high)
        if closed_bandwidth(middle, Ts) < target.value:
            low = middle
        else:
            high = middle
    return 0.5 * (low + high)


def _refusal(cause: str, Ts: float, target: CurrentTarget) -> InputError:
    limit = fastest_crossover(Ts)
    remedy = {
        TargetKind.CROSSOVER: f"Ask for at most {limit / HERTZ:.0f} Hz",
        TargetKind.BANDWIDTH: f"Ask for at most {closed_bandwidth(limit, Ts) / HERTZ:.0f} Hz",
        TargetKind.PHASE_MARGIN: "Ask for 30° to 89°",
        TargetKind.TIME_CONSTANT: f"Ask for at least {1e6 / limit:.0f} µs",
    }.get(target.kind, "Ask for less")
    return InputError(cause, place="current loop", remedy=remedy)


def pi_for(plant: Plant, crossover: float, rule: IntegralRule = IntegralRule.BACKWARD) -> PI:
    """Return the PI whose zero cancels the plant's pole and whose loop crosses at `crossover`."""
    k = 2.0 * math.sin(0.5 * crossover * plant.Ts) / plant.gain  # leading coefficient of C(z)
    a = plant.pole
    if rule is IntegralRule.BACKWARD:
        return PI(Kp=k * a, Ki=k * (1.0 - a) / plant.Ts, rule=rule)
    if rule is IntegralRule.FORWARD:
        return PI(Kp=k, Ki=k * (1.0 - a) / plant.Ts, rule=rule)
    return PI(Kp=0.5 * k * (1.0 + a), Ki=k * (1.0 - a) / plant.Ts, rule=rule)


def pi_placed(
    plant: Plant, omega: float, damping: float, rule: IntegralRule = IntegralRule.BACKWARD
) -> PI:
    """Return the PI that gives the closed loop two poles of this frequency and damping.

    Exact in z: with P = g/(z(z − a)) and C = (c₀z − c₁)/(z − 1) the closed loop has three poles,
    of which two are laid where a continuous pair of `omega` and `damping` would be sampled, and
    the third follows (Åström and Wittenmark, Computer-Controlled Systems, 3rd ed., section 5).

    Parameters
    ----------
    omega : rad/s

    Raises
    ------
    InputError : the third pole would be slower than the two that were asked for

    """
    if not (omega > 0.0 and damping > 0.0 and math.isfinite(omega * damping)):
        raise InputError("natural frequency and damping must be above zero", place="current loop")
    Ts = plant.Ts
    one, two = (np.exp(Ts * omega * (-damping + side * np.emath.sqrt(damping**2 - 1.0)))
                for side in (1.0, -1.0))  # fmt: skip
    both, product = float((one + two).real), float((one * two).real)
    third = 1.0 + plant.pole - both
    if not abs(third) <= max(abs(one), abs(two)):
        remedy = "Ask for a lower natural frequency, or less damping"
        raise InputError("the delay forbids it: another pole would be slower", place="current loop",
                         remedy=remedy)  # fmt: skip
    c0 = (product + both * third - plant.pole) / plant.gain
    c1 = product * third / plant.gain
    k = c0 - c1  # what one sample adds to the integral
    if not (k > 0.0 and c0 - NEWEST[rule] * k > 0.0):
        raise InputError("no PI of positive gains has these poles", place="current loop",
                         remedy="Ask for a higher natural frequency, or more damping")  # fmt: skip
    return PI(Kp=c0 - NEWEST[rule] * k, Ki=k / Ts, rule=rule)


@lru_cache(maxsize=4)  # a drag asks twice for each position
def dominant(loop: CurrentLoop) -> tuple[float, float]:
    """Return (natural frequency in rad/s, damping) of the closed loop's slowest poles.

    A pole that a zero hides in the answer, as where the plant's pole is cancelled, is none of them.
    """
    closed = loop.opened.feedback()
    zeros = closed.zeros
    shown = [p for p in closed.poles if not np.any(np.abs(zeros - p) < _HIDDEN * np.abs(p))]
    z = 1.0 + np.array(shown if len(shown) > 1 else closed.poles)
    rates = np.log(z[np.abs(z) > 1e-6]) / loop.plant.Ts
    slowest = rates[np.argsort(-rates.real)]
    first = slowest[0]
    if abs(first.imag) < 1e-9 * abs(first) and slowest.size > 1:  # two real ones
        omega = float(np.sqrt(abs(slowest[0] * slowest[1])))
        return omega, float(-(slowest[0] + slowest[1]).real / (2.0 * omega))
    return float(abs(first)), float(-first.real / abs(first))


def plants(axis: Axis) -> tuple[Plant, Plant]:
    """Return the d and q plants of the axis's best estimates."""
    m, Ts = axis.machine, axis.inverter.Ts
    return (
        Plant(R=m.R.value, L=m.Ld.value, Ts=Ts),
        Plant(R=m.R.value, L=m.Lq.value, Ts=Ts),
    )


def design_current(axis: Axis, target: CurrentTarget | None = None) -> CurrentDesign:
    """Return gains and loops for the axis's target, or for another one.

    Raises
    ------
    InputError : a target that the delay forbids, or a winding that is not known yet

    """
    refuse_unknown(axis, DESIGNED_ON, "current loop")
    target = target or axis.target
    rule, weight = axis.inverter.integral, axis.gains.weight if axis.gains else 1.0
    of_d, of_q = plants(axis)
    if target.kind is TargetKind.NATURAL_FREQUENCY:
        d, q = _placed(of_d, target, rule), _placed(of_q, target, rule)
    else:
        crossover = crossover_for(target, axis.inverter.Ts)
        d, q = pi_for(of_d, crossover, rule), pi_for(of_q, crossover, rule)
    gains = CurrentGains(Kp_d=d.Kp, Ki_d=d.Ki, Kp_q=q.Kp, Ki_q=q.Ki, weight=weight)
    loops = [CurrentLoop(plant, replace(pi, weight=weight)) for plant, pi in ((of_d, d), (of_q, q))]
    return CurrentDesign(target=target, d=loops[0], q=loops[1], gains=gains)


def _placed(plant: Plant, target: CurrentTarget, rule: IntegralRule) -> PI:
    """Return the PI with the poles of a target, which leaves 30° of margin.

    Raises
    ------
    InputError : it does not, or no PI has these poles

    """
    made = pi_placed(plant, target.value, target.damping, rule)
    left = margins(CurrentLoop(plant, made).opened)
    if not left.stable or (left.phase_margin < LEAST_MARGIN - 1e-9 and not target.override_margin):
        cause = f"it would leave {math.degrees(left.phase_margin):.0f}° of margin, 30° are wanted"
        raise InputError(cause, place="current loop",
                         remedy="Ask for a lower natural frequency, or more damping")  # fmt: skip
    return made


def loops_with(axis: Axis, gains: CurrentGains) -> tuple[CurrentLoop, CurrentLoop]:
    """Return the d and q loops of given gains on the axis's best estimates."""
    d, q = plants(axis)
    rule, w = axis.inverter.integral, gains.weight
    return (
        CurrentLoop(d, PI(Kp=gains.Kp_d, Ki=gains.Ki_d, rule=rule, weight=w)),
        CurrentLoop(q, PI(Kp=gains.Kp_q, Ki=gains.Ki_q, rule=rule, weight=w)),
    )


def hold_correction(loop: CurrentLoop, crossover: float) -> float:
    """Return Kp over ωc·L: what the sampled hold changes in the textbook gain."""
    return loop.pi.Kp / (crossover * loop.plant.L)


def verdict(phase_margin: float) -> str:
    """Return the word for a phase margin (rad): good, brisk, risky or refused."""
    if phase_margin >= GOOD - 1e-9:
        return "good"
    if phase_margin >= BRISK:
        return "brisk"
    return "risky" if phase_margin >= LEAST_MARGIN - 1e-9 else "refused"
