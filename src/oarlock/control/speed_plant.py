"""What the speed controller sees: the closed current loop, the shaft and how speed is measured.

Exact at both rates: the current loop's sample is stepped with the voltage held, the speed's
sample is as many of those, the first of them still under the controller's last output. Nothing
is approximated but that the machine is linear, with no current along d.
"""

from dataclasses import dataclass
from functools import cached_property, lru_cache

import numpy as np
from numpy.typing import NDArray

from oarlock.control._steps import rows
from oarlock.control.current import CurrentLoop, Plant
from oarlock.control.discrete import Discrete, delay, from_matrices, from_z, times
from oarlock.control.margins import dense
from oarlock.control.shaft import Shaft
from oarlock.machine.hashed import hashed_once

Array = NDArray[np.float64]
Complex = NDArray[np.complex128]


@dataclass(frozen=True, slots=True, kw_only=True)
class Measuring:
    """How the drive gets its speed."""

    divider: int = 1  # samples of the current loop for each of the speed loop
    slope: int = 0  # samples of a least-squares slope; below 3: the difference over its own sample
    lag: float = 0.0  # s, of a first-order lag
    late: float = 0.0  # s by which the angle itself is late: halls wait for their next edge

    def weights(self, Ts: float) -> Array:
        """Return by what each increment of the angle counts, 1/s, the newest first."""
        n = self.slope
        if n < 3:
            return np.full(self.divider, 1.0 / (self.divider * Ts))
        at = np.arange(n) - 0.5 * (n - 1)
        by_angle = 12.0 * at / (n * (n * n - 1.0) * Ts)  # oldest first
        return np.cumsum(by_angle[:0:-1])

    def jumps(self, Ts: float) -> Array:
        """Return by what each angle counts, 1/s, the newest first; not to be changed."""
        return _jumps(self, Ts)

    def following(self, Ts: float) -> Discrete:
        """Return what the measured speed passes on its way: lateness and lag, at the speed's rate.

        A delay between two samples is shared between its neighbours.
        """
        T = self.divider * Ts
        whole, part = divmod(self.late / T, 1.0)
        made = delay(int(whole), T)
        if part > 1e-9:
            made = made.series(from_z((1.0 - part, part), (1.0, 0.0), T))
        share = min(T / self.lag, 1.0) if self.lag > 0.0 else 1.0
        if share < 1.0:
            made = made.series(from_z((share, 0.0), (1.0, share - 1.0), T))
        return made


@lru_cache(maxsize=16)
def _jumps(measuring: Measuring, Ts: float) -> Array:
    jumps: Array = -np.diff(np.concatenate([[0.0], measuring.weights(Ts), [0.0]]))
    return jumps


@hashed_once
@dataclass(frozen=True, kw_only=True)
class SpeedPlant:
    """From the controller's output to the measured speed, at the speed's own rate."""

    shaft: Shaft
    current: CurrentLoop
    torque_constant: float  # N·m/A
    back_emf: float  # V s/rad, mechanical
    measuring: Measuring
    torque_filters: tuple[Discrete, ...] = ()  # at the current's rate
    speed_filters: tuple[Discrete, ...] = ()  # at the speed's

    @property
    def T(self) -> float:
        """Sample time of the speed loop, s."""
        return self.measuring.divider * self.current.plant.Ts

    @cached_property
    def following(self) -> Discrete:
        """What the plain speed passes before the controller sees it."""
        made = self.measuring.following(self.current.plant.Ts)
        for one in self.speed_filters:
            made = made.series(one)
        return made

    @cached_property
    def push(self) -> Discrete:
        """From the controller's output (A) to the plain measured speed, rad/s."""
        return self._from(0)

    @cached_property
    def seen(self) -> Discrete:
        """From the controller's output (A) to the speed that the controller sees, rad/s."""
        return self.following.series(self.push)

    @cached_property
    def rows(self) -> Array:
        """What closed loops are made of, (6, order + 1), as `_steps.stepped` has a plant's rows.

        Denominator, and the numerator of what the controller sees; of the plain speed by the
        controller's output; of the plain speed by a current behind the filters, and what is seen of
        it; what is seen of an error of the plain speed.
        """
        push, load, f = self.push, self.load, self.following
        parts = ((f.den, push.den), (f.num, push.num), (f.den, push.num), (f.den, load.num),
                 (f.num, load.num), (f.num, push.den))  # fmt: skip
        return rows(*(times(*both) for both in parts))

    @cached_property
    def looked_at(self) -> tuple[Array, Complex]:
        """Frequencies, rad/s and δ, that resolve what a controller without light roots sees."""
        return dense(self.seen)

    @cached_property
    def jumps(self) -> tuple[float, Array]:
        """How the errors of the angles count in the speed: alone, 1/s², and what they share, 1/s.

        Angles that lie a whole sample of the speed apart are in more than one of them.
        """
        all_of_them = self.measuring.jumps(self.current.plant.Ts)
        shared = np.ascontiguousarray(all_of_them[:: self.measuring.divider])
        return max(float(all_of_them @ all_of_them - shared @ shared), 0.0), shared

    @cached_property
    def load(self) -> Discrete:
        """From a current that is added behind the filters (A) to the plain measured speed."""
        return self._from(1)

    @cached_property
    def pull(self) -> Discrete:
        """From a torque at the far end of the shaft (N·m) to the plain measured speed."""
        return self._from(2)

    @cached_property
    def turned(self) -> Discrete:
        """From the controller's output (A) to what the shaft turns until the next sample, rad."""
        a, b, _ = self.matrices
        row, push = self._turned
        return from_matrices(a - np.eye(a.shape[0]), b[:, 0], row, push, self.T)

    def _from(self, given: int) -> Discrete:
        a, b, c = self.matrices
        return from_matrices(a - np.eye(a.shape[0]), b[:, given], c, 0.0, self.T)

    @property
    def matrices(self) -> tuple[Array, Array, Array]:
        """State matrices (a, b, c) over one sample of the speed, (n, n), (n, 3) and (n,).

        The inputs are the controller's output, a current behind the filters, both A, and a torque
        at the far end, N·m; the output is the plain measured speed.
        """
        return self._stepped[0]

    @property
    def _turned(self) -> tuple[Array, float]:
        """What the shaft turns in one sample, by the state at its start and by the output."""
        return self._stepped[1]

    @cached_property
    def _stepped(self) -> tuple[tuple[Array, Array, Array], tuple[Array, float]]:
        """One sample of the speed loop: its matrices, and what the shaft turns in it."""
        step, given, angle, angle_given = self.fine
        N, n = self.measuring.divider, step.shape[0]
        weights = self.measuring.weights(self.current.plant.Ts)
        parts = -(-weights.size // N)
        h = np.zeros(parts * N)
        h[: weights.size] = weights
        last, sums = n, n + 1  # the output of before, then the sums of increments
        size = n + 1 + parts
        x = np.zeros((n, size + 3))  # the fine state over old state and inputs
        x[:, :n] = np.eye(n)
        total, whole_turn = np.zeros((parts, size + 3)), np.zeros(size + 3)
        inputs = np.zeros((2, 3, size + 3))  # in the first sample, and in each after it
        inputs[0, 0, last] = inputs[1, 0, size] = 1.0
        inputs[:, 1, size + 1] = inputs[:, 2, size + 2] = 1.0
        driven, driven_turn = given @ inputs, angle_given @ inputs
        for j in range(N):
            moved = angle @ x + driven_turn[min(j, 1)]
            whole_turn += moved
            for q in range(parts):
                total[q] += h[q * N + N - 1 - j] * moved
            x = step @ x + driven[min(j, 1)]
        whole = np.zeros((size, size + 3))
        whole[:n] = x
        whole[last, size] = 1.0
        for q in range(parts):
            whole[sums + q] = total[q]
            if q + 1 < parts:
                whole[sums + q, sums + q + 1] += 1.0
        c = np.zeros(size)
        c[sums] = 1.0
        turned = (whole_turn[:size], float(whole_turn[size]))
        return (whole[:, :size], whole[:, size:], c), turned

    @property
    def fine(self) -> tuple[Array, Array, Array, Array]:
        """One sample of the current loop: (state by state, by input), and the angle's increment.

        State: each torque filter's own, the current controller's integral, the voltage on its
        way, the current, the shaft.
        """
        filters = [one.matrices for one in self.torque_filters]
        sizes = [a.shape[0] for a, _, _, _ in filters]
        m = sum(sizes)
        total, volts, amps = m, m + 1, m + 2
        held, of_voltage, of_torque, turned, turned_voltage, turned_torque = _held(
            self.current.plant, self.shaft, self.torque_constant, self.back_emf
        )
        n = m + 2 + held.shape[0]
        step, given = np.zeros((n, n)), np.zeros((n, 3))
        asked, asked_given = np.zeros(n), np.array([1.0, 0.0, 0.0])
        at = 0
        for (a, b, c, d), size in zip(filters, sizes, strict=True):
            step[at : at + size] = np.outer(b, asked)
            step[at : at + size, at : at + size] += a + np.eye(size)
            given[at : at + size] += np.outer(b, asked_given)
            asked, asked_given = d * asked, d * asked_given
            asked[at : at + size] += c
            at += size
        pi, Ts = self.current.pi, self.current.plant.Ts
        reference, reference_given = asked.copy(), asked_given + np.array([0.0, 1.0, 0.0])
        error = reference.copy()
        error[amps] -= 1.0
        weighted = pi.weight * reference
        weighted[amps] -= 1.0
        step[total] = pi.Ki * Ts * error
        step[total, total] += 1.0
        given[total] = pi.Ki * Ts * reference_given
        step[volts] = pi.newest * pi.Ki * Ts * error + pi.Kp * weighted
        step[volts, total] += 1.0
        given[volts] = (pi.newest * pi.Ki * Ts + pi.Kp * pi.weight) * reference_given
        step[amps:, amps:] = held
        step[amps:, volts] = of_voltage
        given[amps:, 2] = of_torque
        angle, angle_given = np.zeros(n), np.array([0.0, 0.0, turned_torque])
        angle[amps:], angle[volts] = turned, turned_voltage
        return step, given, angle, angle_given


Held = tuple[Array, Array, Array, Array, float, float]


@lru_cache(maxsize=64)
def _held(plant: Plant, shaft: Shaft, torque_constant: float, back_emf: float) -> Held:
    """Return current and shaft over one sample with voltage and torque held, and the angle turned.

    Returns (state by state, by voltage, by torque), then the angle by each of these.
    """
    from scipy.linalg import expm

    a, torque, load = shaft.matrices()
    n = 1 + a.shape[0]
    whole = np.zeros((n + 3, n + 3))  # current, shaft, angle, voltage, torque
    whole[0, 0], whole[0, 1] = -plant.R / plant.L, -back_emf / plant.L
    whole[1:n, 1:n] = a
    whole[1:n, 0] = torque * torque_constant
    whole[n, 1] = 1.0
    whole[0, n + 1] = 1.0 / plant.L
    whole[1:n, n + 2] = load
    e = expm(whole * plant.Ts)
    return (
        e[:n, :n], e[:n, n + 1], e[:n, n + 2],
        e[n, :n], float(e[n, n + 1]), float(e[n, n + 2]),
    )  # fmt: skip
