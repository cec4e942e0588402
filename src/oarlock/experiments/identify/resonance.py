"""The shaft's resonance: sines of torque one after another on a slow turn, and a two-mass fit.

At each frequency the gain from torque to angle comes by least squares over whole periods
(sine, cosine, offset, drift); over all of them a rigid and a two-mass shaft are fitted,

    w/Te = (s²/wa² + d s + 1) / (J s (s²/wr² + d s + 1)) · exp(-s τ),  d = D/K,

with J of all that turns and τ by which the angle is sensed later than the current. Two masses are
believed where they explain far more. Peak and dip are then met again, finely and after a longer
wait: before that a sharp resonance has not settled.

At last a few frequencies, low ones and one on the peak's flank, are played at several amplitudes.
A shaft with play answers each of them differently, and where its resonance lies is then a matter of
amplitude: a little widens the uncertainty, more is refused.
"""

import math
from dataclasses import dataclass, replace
from typing import Any, ClassVar

import numpy as np

from oarlock.cancel import Cancel
from oarlock.drive.link import Link, Progress
from oarlock.drive.runner import QUIET, play
from oarlock.drive.steps import Frame, Plan, Shape, Step, Target, Wave
from oarlock.experiments.common.gentle import gentle_gains
from oarlock.experiments.common.movement import Movement, abort_limits
from oarlock.experiments.common.speed import (
    excursion,
    no_load_speed,
    ramp,
    speed_loop,
    within_travel,
)
from oarlock.experiments.identify.shaft_play import (
    AMPLITUDES,
    play_check,
    play_share,
    telling_play,
)
from oarlock.experiments.identify.two_mass import (
    LATE,
    PEAK,
    TRUSTED,
    Array,
    Points,
    TwoMass,
    fitted_masses,
    is_twisting,
    masses_response,
    measured_points,
)
from oarlock.machine import Axis, SensorKind
from oarlock.quantities import Estimate, Origin, measured
from oarlock.quantities.display import digits
from oarlock.records import Ask, Check, Finding, Plain, Record
from oarlock.records.evidence import Fitted, fitted
from oarlock.records.settings import number

_ROWS = 15500
_DIP = (-0.06, -0.03, 0.0, 0.03, 0.06)
_UNSETTLED = 0.15  # of the peak's frequency, where a point needs the longer wait
_GENTLE = 0.3  # of the amplitude, where the shaft answers many times over


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
    shares: tuple[float, ...] = ()  # of the amplitude, for each of the fine; empty: all of it
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
            full = self.speed * min(no_load_speed(axis), axis.top_speed)
            high = min(high, full / math.tau * axis.machine.pole_pairs.value)
        return [float(f) for f in np.geomspace(self.low, high, self.count)]

    def turning(self, axis: Axis) -> float:
        """Return the speed, rad/s, its sign the way."""
        full = self.speed * min(no_load_speed(axis), axis.top_speed)
        return self.way * full * within_travel(axis, excursion(self.steps(axis, full)))

    def steps(self, axis: Axis, speed: float) -> list[Step]:
        """Return the steps at a speed of turning, rad/s mechanical."""
        turning = Step(duration=0.3, frame=Frame.SPEED, release=True, speed=speed, record=False)
        steps = [*ramp(turning, 0.0, speed, 0.3), turning]
        amplitude = self.amplitude * axis.rated
        Ts = axis.inverter.Ts
        frequencies = self.frequencies(axis)
        for f, share in zip(frequencies, self.shares or (1.0,) * len(frequencies), strict=True):
            wave = Wave(shape=Shape.SINE, target=Target.I_Q, amplitude=share * amplitude,
                        frequency=f)  # fmt: skip
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
        rated = axis.rated
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
            speed=speed_loop(axis, self.crossover),
            decouple=True,
        )  # fmt: skip

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""
        f = self.frequencies(axis)
        amperes = self.amplitude * axis.rated
        return f"sines {f[0]:.0f} to {f[-1]:.0f} Hz, {digits(amperes, 2)} A"

    def movement(self, axis: Axis) -> Movement:
        """Return what will move."""
        speed = self.turning(axis)
        steps = self.steps(axis, speed)
        fine = self._fine(100.0, 200.0)  # as long, whatever the frequencies; play below both
        back = fine.steps(axis, fine.turning(axis))
        seconds = sum(step.duration for step in (*steps, *back))
        return Movement(
            what=f"turns {excursion(steps):.1f} turns one way, {excursion(back):.1f} back, "
            "and trembles",
            speed=3.0 * speed,
            current=2.0 * self.amplitude * axis.rated,
            seconds=seconds,
        )

    def _fine(self, dip: float, peak: float) -> "TorqueSines":
        """Return the second pass: round dip and peak (Hz), gently, patiently, the other way."""
        near = (*(dip * (1 + off) for off in _DIP), *(peak * (1 + off) for off in PEAK))
        return self._later(near, (_GENTLE,) * len(near), telling_play(dip, peak))

    def _later(
        self, near: tuple[float, ...], shares: tuple[float, ...], play: tuple[float, ...]
    ) -> "TorqueSines":
        """Return a second pass, the other way: given frequencies, then those that tell play."""
        return replace(self, settle=0.3, seconds=0.25, way=-self.way,
                       fine=(*near, *(f for f in play for _ in AMPLITUDES)),
                       shares=(*shares, *AMPLITUDES * len(play)))  # fmt: skip

    def perform(self, axis: Axis, link: Link, cancel: Cancel, progress: Progress = QUIET) -> Record:
        """Play the whole range, then peak and dip again finely; return both as one record."""
        settings = self.settings(axis)
        coarse = play(self.plan(axis), axis, link, settings=settings, cancel=cancel,
                      progress=lambda f, doing: progress(0.5 * f, doing))  # fmt: skip
        if coarse.ended != "done":
            return coarse
        points = measured_points(coarse, axis)
        trusted = points.std < TRUSTED
        if np.count_nonzero(trusted) < 8:
            return coarse
        clear = Points(points.f[trusted], points.gain[trusted], points.std[trusted])
        fit = fitted_masses(clear, axis)
        if is_twisting(fit, points.f[trusted]):
            fine = self._fine(fit.anti / math.tau, fit.resonance / math.tau)
        else:
            fine = self._later((), (), telling_play(float(points.f[-1])))
        more = play(fine.plan(axis), axis, link, settings=settings, cancel=cancel,
                    progress=lambda f, doing: progress(0.5 + 0.5 * f, doing))  # fmt: skip
        if more.ended != "done":
            return replace(coarse, ended=more.ended)
        later = coarse["t"][-1] + 1.0
        columns = {
            name: np.concatenate([coarse[name], more[name] + (later if name == "t" else 0.0)])
            for name in coarse.columns
        }
        first = self.frequencies(axis)
        settings |= {"frequencies": [*first, *fine.fine], "coarse": len(first),
                     "play": len(fine.fine) - sum(s == _GENTLE for s in fine.shares)}  # fmt: skip
        return replace(coarse, columns=columns, settings=settings)

    def settings(self, axis: Axis) -> dict[str, Plain]:
        """Return what the estimator must know, as plain values."""
        amperes = self.amplitude * axis.rated
        return {"frequencies": self.frequencies(axis), "amplitude": amperes}


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
    every = measured_points(record, axis)
    alike = int(number(record.settings, "play", 0.0))
    points, played = every.parted(every.f.size - alike)
    trusted = points.std < TRUSTED
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
    coarse = int(number(record.settings, "coarse", points.f.size))
    if coarse + len(PEAK) <= points.f.size:  # what had not settled yet was met again
        peak = float(np.mean(points.f[-len(PEAK) :]))
        late = np.arange(points.f.size) < coarse
        trusted &= ~(late & (np.abs(points.f / peak - 1.0) < _UNSETTLED))
    order = np.flatnonzero(trusted)[np.argsort(points.f[trusted])]
    used = Points(points.f[order], points.gain[order], points.std[order])
    fit = fitted_masses(used, axis)
    twists = is_twisting(fit, used.f)
    estimates: dict[str, Estimate] = {}
    extra = {"inertia": measured(fit.J, fit.J * _std(fit, 0), "kg m2")}
    if twists:
        estimates, more = _twist(fit, play_share(played))
        extra |= more
    else:
        rigid = Estimate(value=0.0, std=None, unit="rad/s", origin=Origin.MEASURED)
        estimates = {"mechanics.resonance": rigid, "mechanics.anti_resonance": rigid}
    return Finding(
        quantity="resonance",
        estimates=estimates,
        extra=extra,
        checks=(
            *play_check(played, _torque(record, axis)),
            *_checks(points, used, fit, axis, twists=twists),
        ),
        remark=_remark(fit, twists=twists, top=float(used.f[-1])),
        evidence=_evidence(points, fit if twists else None),
    )


def _torque(record: Record, axis: Axis) -> float:
    """Return the torque of the sines, N·m."""
    return number(record.settings, "amplitude", 0.0) * axis.machine.torque_constant


def _std(fit: TwoMass, i: int) -> float:
    return math.sqrt(max(float(fit.covariance[i, i]), 0.0))


def _twist(fit: TwoMass, play: float) -> tuple[dict[str, Estimate], dict[str, Estimate]]:
    """Return what is adopted of a twisting shaft, and what follows for the load.

    `play` is the share by which amplitude may have moved its frequencies.
    """
    ratio = (fit.resonance / fit.anti) ** 2 - 1.0  # load over motor
    load = fit.J * ratio / (1.0 + ratio)
    stiffness = fit.anti**2 * load
    anti_std = math.hypot(_std(fit, 1), 0.0015 + 2.0 * play)
    both = fit.covariance[1, 1] + fit.covariance[2, 2] + 2.0 * fit.covariance[1, 2]
    res_std = math.hypot(math.sqrt(max(float(both), 0.0)), 0.0003 + play)
    damping = fit.d * stiffness
    d_std = math.hypot(_std(fit, 3), 0.015)
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


def _shape(fit: TwoMass, w: Array) -> Array:
    numbers = [*np.log([fit.J, fit.anti, fit.resonance / fit.anti - 1.0, fit.d]), fit.late / LATE]
    return masses_response(np.array(numbers), w)


def _remark(fit: TwoMass, *, twists: bool, top: float) -> str:
    if not twists:
        return f"rigid up to {top:.0f} Hz"
    return f"dip at {fit.anti / math.tau:.0f} Hz, Q {1.0 / (fit.d * fit.resonance):.0f}"


def _checks(points: Points, used: Points, fit: TwoMass, axis: Axis, *, twists: bool) -> list[Check]:
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
            f"{'two-mass' if twists else 'rigid'} model (15 allowed)"
            + (": play, or more masses than two?" if typical > 0.15 else ""),
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


def _evidence(points: Points, fit: TwoMass | None) -> Fitted:
    """Return gain over frequency in dB, of what was measured and of the fit."""
    seen = (np.abs(points.gain) > 0.0) & (points.std < TRUSTED)
    if np.count_nonzero(seen) < 4:
        seen = np.abs(points.gain) > 0.0
    order = np.flatnonzero(seen)[np.argsort(points.f[seen])]
    f, gain = points.f[order], points.gain[order]
    grid = np.geomspace(points.f.min(), points.f.max(), 400)
    J = 1.0 / float(np.median(math.tau * f[:6] * np.abs(gain[:6]))) if f.size else 1.0

    def expected(at: Array) -> Array:
        w = math.tau * at
        size: Array = np.abs(1.0 / (J * 1j * w) if fit is None else _shape(fit, w))
        return size

    y, fit_y = 20.0 * np.log10(np.abs(gain)), 20.0 * np.log10(expected(grid))
    return fitted(f, y, grid, fit_y, y - 20.0 * np.log10(expected(f)))
