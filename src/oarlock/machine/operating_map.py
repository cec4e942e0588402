"""What the machine can do on its bus: torque over speed, and where in the id-iq plane.

Currents obey i_d² + i_q² ≤ I²; voltages obey the ellipse |v| ≤ Vdc/√3 with R kept
(Morimoto et al., IEEE Trans. Ind. Appl. 26(5), 1990, p. 866).
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.machine.axis import Axis
from oarlock.quantities.kinds import RPM

Array = NDArray[np.float64]
_PASSES = (240, 32, 32)  # points over the border, then twice around the best one
_SPEEDS = 161


@dataclass(frozen=True, slots=True, kw_only=True)
class Limits:
    """The plain numbers that bound the map; SI, phase, peak."""

    p: float
    R: float
    Ld: float
    Lq: float
    psi: float
    i_max: float
    v_max: float
    omega_max: float  # mechanical rad/s

    def torque(self, i_d: Array, i_q: Array) -> Array:
        """N·m at the given currents."""
        return 1.5 * self.p * (self.psi * i_q + (self.Ld - self.Lq) * i_d * i_q)

    def voltage(self, i_d: Array, i_q: Array, omega: Array) -> Array:
        """Phase voltage, V peak, in steady state at mechanical speed `omega`."""
        w = self.p * omega
        v_d = self.R * i_d - w * self.Lq * i_q
        v_q = self.R * i_q + w * (self.Ld * i_d + self.psi)
        return np.hypot(v_d, v_q)


@dataclass(frozen=True, slots=True, kw_only=True)
class Envelope:
    """The most torque at each speed, and the currents that give it."""

    omega: Array  # mechanical rad/s
    torque: Array  # N·m
    i_d: Array  # A, peak
    i_q: Array
    base_speed: float  # rad/s: from here on the bus binds

    @property
    def power(self) -> Array:
        """Shaft power, W."""
        return self.omega * self.torque

    def at(self, omega: float) -> tuple[float, float, float]:
        """Return (torque, i_d, i_q) at a mechanical speed."""
        columns = (self.torque, self.i_d, self.i_q)
        torque, i_d, i_q = (float(np.interp(omega, self.omega, c)) for c in columns)
        return torque, i_d, i_q


def limits_of(axis: Axis, *, printed: bool = False) -> Limits:
    """Return the numbers that bound the axis, of the best estimates or of the printed ones."""
    m, inv = axis.machine, axis.inverter

    def pick(name: str) -> float:
        parameter = getattr(m, name)
        return float(parameter.printed.value if printed else parameter.value)

    return Limits(
        p=pick("pole_pairs"),
        R=pick("R"),
        Ld=pick("Ld"),
        Lq=pick("Lq"),
        psi=pick("psi"),
        i_max=pick("peak_current") if printed else axis.peak,
        v_max=inv.v_max,
        omega_max=pick("max_speed") if printed else axis.top_speed,
    )


def mtpa(limits: Limits, points: int = 60) -> tuple[Array, Array]:
    """Return (i_d, i_q) of most torque per ampere, from zero to the current limit."""
    amplitude = np.linspace(0.0, limits.i_max, points)
    saliency = limits.Lq - limits.Ld
    if abs(saliency) < 1e-4 * limits.Ld:
        return np.zeros(points), amplitude
    a = limits.psi / (4.0 * saliency)
    i_d = a - np.sign(a) * np.sqrt(a * a + 0.5 * amplitude**2)
    return i_d, np.sqrt(np.maximum(amplitude**2 - i_d**2, 0.0))


def ellipse(limits: Limits, omega: float, points: int = 181) -> tuple[Array, Array]:
    """Return (i_d, i_q) where the phase voltage is at its limit at speed `omega`."""
    return _on_ellipse(limits, np.array([[omega]]), np.linspace(0, 2 * np.pi, points)[None, :])


def _on_ellipse(limits: Limits, omega: Array, angle: Array) -> tuple[Array, Array]:
    w = limits.p * omega
    v_d, v_q = limits.v_max * np.cos(angle), limits.v_max * np.sin(angle) - w * limits.psi
    det = limits.R**2 + w**2 * limits.Ld * limits.Lq
    i_d = (limits.R * v_d + w * limits.Lq * v_q) / det
    i_q = (limits.R * v_q - w * limits.Ld * v_d) / det
    return (i_d[0], i_q[0]) if omega.size == 1 else (i_d, i_q)


def envelope(limits: Limits, speeds: int = _SPEEDS) -> Envelope:
    """Return the most motoring torque at each speed up to the top speed.

    The optimum lies on the current circle or on the voltage ellipse; both are searched, and
    searched again close to the best point.
    """
    omega = np.linspace(0.0, limits.omega_max, speeds)
    circle = _best(limits, omega, on_circle=True)
    border = _best(limits, omega, on_circle=False)
    better = border[0] > circle[0]
    torque, i_d, i_q = (np.where(better, b, c) for b, c in zip(border, circle, strict=True))
    torque = np.maximum(torque, 0.0)
    m_d, m_q = mtpa(limits, 2)
    most = limits.torque(m_d[1:], m_q[1:])[0]
    free = limits.voltage(m_d[1:], m_q[1:], omega) <= limits.v_max
    torque, i_d, i_q = (
        np.where(free, best, found)
        for best, found in ((most, torque), (m_d[1], i_d), (m_q[1], i_q))
    )
    base = _base_speed(limits, float(m_d[1]), float(m_q[1]))
    return Envelope(omega=omega, torque=torque, i_d=i_d, i_q=i_q, base_speed=base)


def _best(limits: Limits, omega: Array, *, on_circle: bool) -> tuple[Array, Array, Array]:
    """Return (torque, i_d, i_q) of the best feasible point on one border, for each speed."""
    middle, half = np.full((omega.size, 1), np.pi), np.pi
    column = omega[:, None]
    pick = np.arange(omega.size)
    for points in _PASSES:
        angle = middle + np.linspace(-half, half, points)[None, :]
        if on_circle:
            i_d, i_q = limits.i_max * np.cos(angle), limits.i_max * np.sin(angle)
            feasible = limits.voltage(i_d, i_q, column) <= limits.v_max * (1 + 1e-9)
        else:
            i_d, i_q = _on_ellipse(limits, column, angle)
            feasible = np.hypot(i_d, i_q) <= limits.i_max * (1 + 1e-9)
        torque = np.where(feasible, limits.torque(i_d, i_q), -np.inf)
        best = np.argmax(torque, axis=1)
        middle = angle[pick, best][:, None]
        half = 3.0 * half / points
    return torque[pick, best], i_d[pick, best], i_q[pick, best]


def _base_speed(limits: Limits, i_d: float, i_q: float) -> float:
    """Return where the most torque per ampere at full current meets the voltage limit."""
    low, high = 0.0, limits.omega_max
    one = np.ones(1)
    if limits.voltage(i_d * one, i_q * one, high * one)[0] <= limits.v_max:
        return high
    for _ in range(60):
        middle = 0.5 * (low + high)
        inside = limits.voltage(i_d * one, i_q * one, middle * one)[0] <= limits.v_max
        low, high = (middle, high) if inside else (low, middle)
    return low


def rpm(omega: float) -> float:
    """Return a mechanical speed in revolutions a minute."""
    return omega / RPM
