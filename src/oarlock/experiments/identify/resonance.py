"""The shaft's resonance: sines of torque one after another on a slow turn, and a two-mass fit.

At each frequency the gain from torque to angle comes by least squares over whole periods
(sine, cosine, offset, drift); over all of them a rigid and a two-mass shaft are fitted,

    w/Te = (s²/wa² + d s + 1) / (J s (s²/wr² + d s + 1)) · exp(-s τ),  d = D/K,

with J of all that turns and τ by which the angle is sensed later than the current. Two masses are
believed where they explain far more. Peak and dip are then met again, finely and after a longer
wait: before that a sharp resonance has not settled.
"""

import math
from dataclasses import dataclass, replace
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from oarlock.cancel import Cancel
from oarlock.drive.link import Link, Progress
from oarlock.drive.runner import QUIET, play
from oarlock.drive.steps import Frame, Plan, Shape, Step, Target, Wave
from oarlock.errors import InputError
from oarlock.experiments.common.gentle import gentle_gains
from oarlock.experiments.common.movement import Movement, abort_limits
from oarlock.experiments.common.speed import (
    excursion,
    no_load_speed,
    ramp,
    speed_gains,
    within_travel,
)
from oarlock.machine import Axis, SensorKind
from oarlock.quantities import Estimate, Origin, measured
from oarlock.quantities.display import digits
from oarlock.records import Ask, Check, Finding, Record

Array = NDArray[np.float64]
_ROWS = 15500
_RIGID = 6.0  # by what factor two masses must fit better than one to be believed
_PEAK = tuple(np.linspace(-0.025, 0.025, 9))  # of the peak's frequency, met finely
_DIP = (-0.06, -0.03, 0.0, 0.03, 0.06)
_UNSETTLED = 0.15  # of the peak's frequency, where a point needs the longer wait
_GENTLE = 0.3  # of the amplitude, where the shaft answers many times over
_LATE = 1e-4  # s, what the lateness is counted in
_TRUSTED = 0.25  # of its size: what a point may be uncertain by


@dataclass(frozen=True, slots=True, kw_only=True)
class TorqueSines:
    """Sines of q current from low to high, on a slow turn that keeps friction one-sided."""

    name: ClassVar[str] = "resonance"
    may_grow: ClassVar[bool] = True
    low: float = 8.0  # Hz
    high: float = 400.0
    count: int = 28
    fine: tuple[float, ...] = ()  # Hz, instead of the whole range
    amplitude: float = 0.25  # of rated current
    speed: float = 0.08  # of the no-load speed
    way: float = 1.0  # forward; the fine pass goes back by what the first one went
    settle: float = 0.1  # s
    seconds: float = 0.14  # recorded, at least; whole periods
    crossover: float = math.tau * 1.5  # rad/s, of the speed controller

    def frequencies(self, axis: Axis) -> list[float]:
        """Return the frequencies, Hz: none above a twentieth of the sampling.

        Halls tell the angle at their edges only: a sixth of those a second.
        """
        if self.fine:
            return list(self.fine)
        high = min(self.high, 0.05 / axis.inverter.Ts)
        if axis.sensor.kind is SensorKind.HALL:
            full = self.speed * min(no_load_speed(axis), axis.machine.max_speed.value)
            high = min(high, full / math.tau * axis.machine.pole_pairs.value)
        return [float(f) for f in np.geomspace(self.low, high, self.count)]

    def turning(self, axis: Axis) -> float:
        """Return the speed, rad/s, its sign the way."""
        full = self.speed * min(no_load_speed(axis), axis.machine.max_speed.value)
        return self.way * full * within_travel(axis, excursion(self.steps(axis, full)))

    def steps(self, axis: Axis, speed: float) -> list[Step]:
        """Return the steps at a speed of turning, rad/s mechanical."""
        turning = Step(duration=0.3, frame=Frame.SPEED, release=True, speed=speed, record=False)
        steps = [*ramp(turning, 0.0, speed, 0.3), turning]
        amplitude = self.amplitude * axis.machine.rated_current.value
        Ts = axis.inverter.Ts
        for f in self.frequencies(axis):
            wave = Wave(shape=Shape.SINE, target=Target.I_Q, amplitude=amplitude, frequency=f)
            wait = round(max(self.settle, 1.0 / f) / Ts) * Ts
            seconds = round(math.ceil(self.seconds * f) / f / Ts) * Ts
            on = replace(wave, phase=math.tau * ((f * wait) % 1.0))  # no jump between the two
            steps += [
                replace(turning, duration=wait, wave=wave),
                replace(turning, duration=seconds, wave=on, record=True),
            ]
        return [*steps, *ramp(turning, speed, 0.0, 0.2)]

    def scaled(self, factor: float) -> "TorqueSines":
        """Return it at another amplitude."""
        return replace(self, amplitude=factor * self.amplitude)

    def plan(self, axis: Axis) -> Plan:
        """Return the steps, limits and gains for this axis."""
        speed = self.turning(axis)
        steps = self.steps(axis, speed)
        seconds = sum(step.duration for step in steps)
        recorded = sum(step.duration for step in steps if step.record) / axis.inverter.Ts
        rated = axis.machine.rated_current.value
        return Plan(
            name=self.name,
            steps=tuple(steps),
            channels=("t", "theta_m", "iq"),
            decimation=max(math.ceil(recorded / _ROWS), 1),
            average=True,
            limits=abort_limits(
                axis, current=rated, turns=1.5 * excursion(steps) + 3.0,
                speed=6.0 * abs(speed) + 20.0, seconds=seconds,
            ),
            gains=gentle_gains(axis, min(math.tau * 600.0, 0.1 / axis.inverter.Ts)),
            speed_gains=speed_gains(axis, self.crossover),
            decouple=True,
        )  # fmt: skip

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""
        f = self.frequencies(axis)
        amperes = self.amplitude * axis.machine.rated_current.value
        return f"sines {f[0]:.0f} to {f[-1]:.0f} Hz, {digits(amperes, 2)} A"

    def movement(self, axis: Axis) -> Movement:
        """Return what will move."""
        speed = self.turning(axis)
        steps = self.steps(axis, speed)
        fine = self._fine(100.0, 200.0)  # as long, whatever the frequencies
        back = fine.steps(axis, fine.turning(axis))
        seconds = sum(step.duration for step in (*steps, *back))
        return Movement(
            what=f"turns {excursion(steps):.1f} turns one way, {excursion(back):.1f} back, "
            "and trembles",
            speed=3.0 * speed,
            current=2.0 * self.amplitude * axis.machine.rated_current.value,
            seconds=seconds,
        )

    def _fine(self, dip: float, peak: float) -> "TorqueSines":
        """Return the second pass: round dip and peak (Hz), gently, patiently, the other way."""
        near = (*(dip * (1 + off) for off in _DIP), *(peak * (1 + off) for off in _PEAK))
        return replace(self, settle=0.3, seconds=0.25, amplitude=_GENTLE * self.amplitude,
                       fine=near, way=-self.way)  # fmt: skip

    def perform(self, axis: Axis, link: Link, cancel: Cancel, progress: Progress = QUIET) -> Record:
        """Play the whole range, then peak and dip again finely; return both as one record."""
        settings = self.settings(axis)
        coarse = play(self.plan(axis), axis, link, settings=settings, cancel=cancel,
                      progress=lambda f, doing: progress(0.5 * f, doing))  # fmt: skip
        if coarse.ended != "done":
            return coarse
        points = _points(coarse, axis)
        trusted = points.std < _TRUSTED
        if np.count_nonzero(trusted) < 8:
            return coarse
        fit = _fit(_Points(points.f[trusted], points.gain[trusted], points.std[trusted]), axis)
        if not _twists(fit, points.f[trusted]):
            return coarse
        peak, dip = fit.resonance / math.tau, fit.anti / math.tau
        fine = self._fine(dip, peak)
        more = play(fine.plan(axis), axis, link, settings=settings, cancel=cancel,
                    progress=lambda f, doing: progress(0.5 + 0.5 * f, doing))  # fmt: skip
        if more.ended != "done":
            return replace(coarse, ended=more.ended)
        later = coarse["t"][-1] + 1.0
        columns = {
            name: np.concatenate([coarse[name], more[name] + (later if name == "t" else 0.0)])
            for name in coarse.columns
        }
        together = [*settings["frequencies"], *fine.fine]
        settings |= {"frequencies": together, "coarse": len(settings["frequencies"])}
        return replace(coarse, columns=columns, settings=settings)

    def settings(self, axis: Axis) -> dict[str, Any]:
        """Return what the estimator must know, as plain values."""
        amperes = self.amplitude * axis.machine.rated_current.value
        return {"frequencies": self.frequencies(axis), "amplitude": amperes}


@dataclass(frozen=True, slots=True)
class _Points:
    """Gain from torque to acceleration's inverse at each frequency."""

    f: Array  # Hz
    gain: Array  # complex, rad/s per N m
    std: Array  # ratio, of one real part


@dataclass(frozen=True, slots=True)
class _TwoMass:
    J: float
    anti: float  # rad/s
    resonance: float
    d: float  # s, D/K
    late: float  # s, the angle after the current
    covariance: Array  # of ln J, ln anti, ln(resonance/anti), ln d, late
    cost: float
    rigid_cost: float


def estimate_resonance(record: Record, axis: Axis) -> Finding:
    """Return anti-resonance, resonance and damping of the shaft, or that it is rigid.

    Parameters
    ----------
    record : columns t, theta_m, iq; settings with frequencies, one stretch of rows for each
    axis : for the torque constant and a first inertia

    Raises
    ------
    InputError : stretches that do not fit the frequencies

    """
    points = _points(record, axis)
    trusted = points.std < _TRUSTED
    if np.count_nonzero(trusted) < 8:
        check = Check(
            code="excitation",
            passed=False,
            sentence=f"Only {np.count_nonzero(trusted)} of {points.f.size} frequencies answer "
            "clearly (8 needed): raise the amplitude; is the shaft locked?",
            ask=Ask.STRONGER,
        )
        return Finding(quantity="resonance", estimates={}, checks=(check,), remark="too weak",
                       evidence=_evidence(points, None))  # fmt: skip
    coarse = int(record.settings.get("coarse", points.f.size))
    if coarse < points.f.size:  # what had not settled yet was met again
        peak = float(np.mean(points.f[-len(_PEAK) :]))
        late = np.arange(points.f.size) < coarse
        trusted &= ~(late & (np.abs(points.f / peak - 1.0) < _UNSETTLED))
    order = np.flatnonzero(trusted)[np.argsort(points.f[trusted])]
    used = _Points(points.f[order], points.gain[order], points.std[order])
    fit = _fit(used, axis)
    twists = _twists(fit, used.f)
    estimates: dict[str, Estimate] = {}
    extra = {"inertia": measured(fit.J, fit.J * _std(fit, 0), "kg m2")}
    if twists:
        estimates, more = _twist(fit)
        extra |= more
    else:
        rigid = Estimate(value=0.0, std=None, unit="rad/s", origin=Origin.MEASURED)
        estimates = {"mechanics.resonance": rigid, "mechanics.anti_resonance": rigid}
    return Finding(
        quantity="resonance",
        estimates=estimates,
        extra=extra,
        checks=tuple(_checks(points, used, fit, axis, twists=twists)),
        remark=_remark(fit, twists=twists, top=float(used.f[-1])),
        evidence=_evidence(points, fit if twists else None),
    )


def _twists(fit: _TwoMass, f: Array) -> bool:
    """Return whether two masses are believed: far better than one, with the dip in range."""
    better = fit.rigid_cost / max(fit.cost, 1e-12)
    return better > _RIGID and bool(f.min() < fit.anti / math.tau < f.max())


def _std(fit: _TwoMass, i: int) -> float:
    return math.sqrt(max(float(fit.covariance[i, i]), 0.0))


def _twist(fit: _TwoMass) -> tuple[dict[str, Estimate], dict[str, Estimate]]:
    """Return what is adopted of a twisting shaft, and what follows for the load."""
    ratio = (fit.resonance / fit.anti) ** 2 - 1.0  # load over motor
    load = fit.J * ratio / (1.0 + ratio)
    stiffness = fit.anti**2 * load
    anti_std = math.hypot(_std(fit, 1), 0.002)
    both = fit.covariance[1, 1] + fit.covariance[2, 2] + 2.0 * fit.covariance[1, 2]
    res_std = math.hypot(math.sqrt(max(float(both), 0.0)), 0.0003)
    damping = fit.d * stiffness
    d_std = math.hypot(_std(fit, 3), 0.05)
    zeta = 0.5 * fit.d * fit.resonance
    return {
        "mechanics.resonance": measured(fit.resonance, fit.resonance * res_std, "rad/s"),
        "mechanics.anti_resonance": measured(fit.anti, fit.anti * anti_std, "rad/s"),
        "mechanics.shaft_damping": measured(damping, damping * d_std, "N m s/rad"),
    }, {
        "load inertia": measured(load, load * math.hypot(_std(fit, 0), 2 * anti_std), "kg m2"),
        "motor inertia": measured(fit.J - load, None, "kg m2"),
        "stiffness": measured(stiffness, stiffness * math.hypot(_std(fit, 0), 3 * anti_std),
                           "N m/rad"),
        "damping ratio": measured(zeta, zeta * d_std, "1"),
    }  # fmt: skip


def _points(record: Record, axis: Axis) -> _Points:
    t, theta = record["t"], record["theta_m"]
    m = axis.machine
    torque = 1.5 * m.pole_pairs.value * m.psi.value * record["iq"]
    frequencies = [float(f) for f in record.settings.get("frequencies", [])]
    step = float(np.median(np.diff(t))) if t.size > 2 else 0.0
    if not frequencies or step <= 0.0:
        remedy = "Give frequencies in its settings"
        raise InputError("no frequencies are named", place=record.experiment, remedy=remedy)
    cut = np.flatnonzero(np.diff(t) > 5.0 * step) + 1
    parts = [rows for rows in np.split(np.arange(t.size), cut) if rows.size > 12]
    if len(parts) != len(frequencies):
        cause = f"{len(parts)} stretches of rows for {len(frequencies)} frequencies"
        raise InputError(cause, place=record.experiment, remedy="The record is not complete")
    gains, stds = [], []
    for rows, f in zip(parts, frequencies, strict=True):
        gain, std = _gain(t[rows], theta[rows], torque[rows], f)
        gains.append(gain)
        stds.append(std)
    return _Points(np.array(frequencies), np.array(gains), np.array(stds))


def _gain(t: Array, theta: Array, torque: Array, f: float) -> tuple[complex, float]:
    """Return speed over torque at `f`, and the ratio by which it is uncertain."""
    u = (t - t[0]) / (t[-1] - t[0])
    w = math.tau * f
    basis = np.column_stack([np.cos(w * t), np.sin(w * t), np.ones_like(u), u, u**2, u**3])
    data = np.column_stack([theta, torque])
    found, *_ = np.linalg.lstsq(basis, data, rcond=None)
    left = data - basis @ found
    noise = left.std(axis=0, ddof=6) * math.sqrt(2.0 / t.size)
    angle, drive = (complex(found[0, i], -found[1, i]) for i in (0, 1))
    if abs(drive) < 1e-12 or abs(angle) < 1e-15:
        return 0j, math.inf
    return 1j * w * angle / drive, math.hypot(noise[0] / abs(angle), noise[1] / abs(drive))


def _model(p: Array, w: Array) -> Array:
    J, anti, ratio, d = np.exp(np.clip(p[:4], -30.0, 30.0))
    s, res = 1j * w, anti * (1.0 + ratio)
    out: Array = (s**2 / anti**2 + d * s + 1.0) / (J * s * (s**2 / res**2 + d * s + 1.0))
    return np.asarray(out * np.exp(-s * p[4] * _LATE))


def _shape(fit: _TwoMass, w: Array) -> Array:
    numbers = [*np.log([fit.J, fit.anti, fit.resonance / fit.anti - 1.0, fit.d]), fit.late / _LATE]
    return _model(np.array(numbers), w)


def _fit(points: _Points, axis: Axis) -> _TwoMass:
    """Fit two masses from several beginnings, in the logarithm of the gain."""
    from scipy.optimize import least_squares

    w = math.tau * points.f
    inertia = axis.machine.inertia
    low = points.gain[: max(points.f.size // 6, 2)]
    J = float(np.median(1.0 / (w[: low.size] * np.abs(low))))
    J = J if math.isfinite(J) and J > 0.0 else inertia.value if inertia else 1e-3
    weight = 1.0 / np.hypot(points.std, 0.01)

    def misfit(model: Array) -> Array:
        off = np.log(model / points.gain)
        return np.concatenate([weight * off.real, weight * off.imag])

    def cost(p: Array) -> Array:
        return misfit(_model(p, w))

    # Where to begin: the best of a coarse grid of dips and peaks.
    grid = [
        (a, r) for a in np.geomspace(1.3 * w[0], 0.8 * w[-1], 40) for r in (0.15, 0.4, 0.8, 1.6)
    ]
    begins = [np.append(np.log([J, anti, ratio, 0.03 / anti]), 0.0) for anti, ratio in grid]
    begins.sort(key=lambda p: float(np.sum(np.log1p(cost(p) ** 2))))
    best = None
    for begin in begins[:2]:
        found = least_squares(cost, begin, loss="soft_l1", max_nfev=60)
        if best is None or found.cost < best.cost:
            best = found
    assert best is not None
    rigid = least_squares(
        lambda p: misfit(np.exp(-1j * w * p[1] * _LATE) / (np.exp(p[0]) * 1j * w)),
        np.array([math.log(J), 0.0]), loss="soft_l1",
    )  # fmt: skip
    chi = float(np.median(cost(best.x) ** 2) / 0.455)
    covariance = np.linalg.pinv(best.jac.T @ best.jac) * max(chi, 0.05)
    J, anti, ratio, d = (float(v) for v in np.exp(best.x[:4]))
    # ln(res/anti) instead of ln(ratio), for the uncertainty
    chain = np.diag([1.0, 1.0, ratio / (1.0 + ratio), 1.0, _LATE])
    late = float(best.x[4]) * _LATE
    return _TwoMass(J, anti, anti * (1.0 + ratio), d, late, chain @ covariance @ chain,
                    float(best.cost), float(rigid.cost))  # fmt: skip


def _remark(fit: _TwoMass, *, twists: bool, top: float) -> str:
    if not twists:
        return f"rigid up to {top:.0f} Hz"
    return f"dip at {fit.anti / math.tau:.0f} Hz, Q {1.0 / (fit.d * fit.resonance):.0f}"


def _checks(
    points: _Points, used: _Points, fit: _TwoMass, axis: Axis, *, twists: bool
) -> list[Check]:
    model: Any = _shape(fit, math.tau * used.f)
    if not twists:
        model = 1.0 / (fit.J * 1j * math.tau * used.f)
    off = np.abs(np.abs(model / used.gain) - 1.0)
    typical = float(np.median(off))
    J = axis.machine.inertia.value if axis.machine.inertia else fit.J
    moved = fit.J / J
    near = int(np.count_nonzero(np.abs(np.log(math.tau * used.f / fit.resonance)) < 0.15))
    checks = [
        Check(
            code="excitation",
            passed=used.f.size >= 0.6 * points.f.size,
            sentence=f"{used.f.size} of {points.f.size} frequencies answer clearly "
            f"({0.6 * points.f.size:.0f} needed)",
            ask=Ask.STRONGER,
        ),
        Check(
            code="residual",
            passed=typical <= 0.15,
            sentence=f"Half of the points lie within {100 * typical:.1f} % of the "
            f"{'two-mass' if twists else 'rigid'} model (15 allowed)",
        ),
        Check(
            code="inertia agrees",
            passed=0.8 < moved < 1.25,
            sentence=f"The sines see {moved:.2f} times the inertia of the speed test "
            "(0.8 to 1.25 allowed)",
        ),
    ]
    if twists:
        checks.append(
            Check(
                code="peak covered",
                passed=near >= 3,
                sentence=f"{near} points lie at the peak of {fit.resonance / math.tau:.0f} Hz "
                "(3 needed)",
            )
        )
    return checks


def _evidence(points: _Points, fit: _TwoMass | None) -> dict[str, Array]:
    """Return gain over frequency in dB, of what was measured and of the fit."""
    seen = (np.abs(points.gain) > 0.0) & (points.std < _TRUSTED)
    if np.count_nonzero(seen) < 4:
        seen = np.abs(points.gain) > 0.0
    order = np.flatnonzero(seen)[np.argsort(points.f[seen])]
    f, gain = points.f[order], points.gain[order]
    grid = np.geomspace(points.f.min(), points.f.max(), 400)
    found: dict[str, Any] = {"x": f, "y": 20.0 * np.log10(np.abs(gain)), "std": points.std[order]}
    J = 1.0 / float(np.median(math.tau * f[:6] * np.abs(gain[:6]))) if f.size else 1.0

    def model(at: Array) -> Any:
        w = math.tau * at
        if fit is None:
            return 1.0 / (J * 1j * w)
        return _shape(fit, w)

    found |= {"fit_x": grid, "fitted": 20.0 * np.log10(np.abs(model(grid)))}
    return found | {"residual": found["y"] - 20.0 * np.log10(np.abs(model(f)))}
