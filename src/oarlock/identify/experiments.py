"""The experiments of the current loop: what to ask of the drive, and how to say it beforehand.

An experiment is frozen settings with `plan(axis)`. To add one, see docs/architecture.md.
"""

import math
from dataclasses import asdict, dataclass, replace
from typing import Any, ClassVar, Protocol

from oarlock.control.design import pi_for
from oarlock.control.loop import Plant
from oarlock.drive.steps import Frame, Limits, Plan, Shape, Step, Target, Wave
from oarlock.errors import InputError
from oarlock.machine import Axis, CurrentGains

_OVER_DEAD_TIME = 6.0  # of the inductance's voltage over the dead time's
_RECORDER = 16000  # rows


class Experiment(Protocol):
    """What the runner and the screens need of an experiment."""

    name: ClassVar[str]

    def plan(self, axis: Axis) -> Plan:
        """Return the steps, limits and gains for this axis."""

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""

    def settings(self, axis: Axis) -> dict[str, Any]:
        """Return what the estimator must know, as plain values."""


def gentle_gains(axis: Axis, crossover: float) -> CurrentGains:
    """Return gains for holding a current before anything is known.

    Designed on the smaller inductance, so that the true one can only make them slower; the
    integral is four times the cancelling one, so that the dead time's kick dies out soon.

    Parameters
    ----------
    crossover : rad/s

    """
    m = axis.machine
    plant = Plant(R=m.R.value, L=min(m.Ld.value, m.Lq.value), Ts=axis.inverter.Ts)
    pi = pi_for(plant, crossover)
    return CurrentGains(Kp_d=pi.Kp, Ki_d=4.0 * pi.Ki, Kp_q=pi.Kp, Ki_q=4.0 * pi.Ki)


def limits_for(axis: Axis, current: float, seconds: float) -> Limits:
    """Return abort limits a little above what an experiment at standstill needs."""
    # A free shaft aligns by half an electrical turn, then follows the directions round.
    travel = 3.4 * math.pi / axis.machine.pole_pairs.value
    if axis.mechanics.max_turns is not None:
        travel = min(travel, math.tau * axis.mechanics.max_turns.value)
    return Limits(
        current=min(1.3 * current + 0.05 * axis.machine.peak_current.value,
                    1.1 * axis.machine.peak_current.value),
        speed=0.25 * axis.machine.max_speed.value,
        travel=travel,
        time=seconds + 1.0,
    )  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class ResistanceHolds:
    """Direct current along six directions at falling levels: R and the dead time's share."""

    name: ClassVar[str] = "resistance"
    levels: tuple[float, ...] = (1.2, 1.0, 0.8, 0.6, 0.4, 0.25, 0.15, 0.08)  # of rated current
    directions: int = 6
    turn: float = 0.2  # s, after the direction changed
    settle: float = 0.06  # s, after the level changed
    hold: float = 0.025  # s, recorded

    def plan(self, axis: Axis) -> Plan:
        """Return the steps, limits and gains for this axis."""
        rated, steps = axis.machine.rated_current.value, []
        for n in range(self.directions):
            angle = n * math.tau / self.directions
            for i, level in enumerate(self.levels):
                wait = self.turn if i == 0 else self.settle
                current = level * rated
                for duration, record in ((wait, False), (self.hold, True)):
                    steps.append(
                        Step(
                            duration=duration,
                            i_d=current,
                            frame=Frame.FIXED,
                            angle=angle,
                            record=record,
                        )
                    )
        seconds = sum(step.duration for step in steps)
        return Plan(
            name=self.name,
            steps=tuple(steps),
            channels=("t", "id", "iq", "vd", "vq", "id_ref", "theta_e", "theta_m"),
            decimation=round(self.hold / 5 / axis.inverter.Ts),
            average=True,
            limits=limits_for(axis, max(self.levels) * rated, seconds),
            gains=gentle_gains(axis, math.tau * 120.0),
        )

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""
        most = max(self.levels) * axis.machine.rated_current.value
        return f"direct current to {most:.0f} A, {self.directions} ways"

    def settings(self, axis: Axis) -> dict[str, Any]:
        """Return what the estimator must know, as plain values."""
        return {**_plain(self), "rated_current": axis.machine.rated_current.value}


@dataclass(frozen=True, slots=True, kw_only=True)
class InductanceSine:
    """A sine of voltage along d or q on a held current: the incremental inductance there."""

    name: ClassVar[str] = "inductance"
    axis_name: str  # "d" or "q"
    frequency: float = 1000.0  # Hz, at least; half of it is tried as well
    amplitude: float = 0.12  # of rated current
    bias: float = 0.3  # of rated current, along d
    q_biases: tuple[float, ...] = ()  # of peak current, along q: maps saturation; brake needed
    d_biases: tuple[float, ...] = ()  # of peak current, along d: maps saturation
    fast: tuple[float, ...] = ()  # of the sampling: sines whose phase tells the loop's delay
    seconds: float = 0.14  # recorded for each sine
    aligned: bool = False  # the bias pulls a free rotor along a fixed angle, instead of following

    def sine(self, axis: Axis) -> float:
        """Return the frequency, Hz: so high that the dead time's voltage is small beside L's."""
        m = axis.machine
        L = m.Ld.value if self.axis_name == "d" else m.Lq.value
        amperes = self.amplitude * m.rated_current.value
        needed = _OVER_DEAD_TIME * axis.inverter.dead_voltage.value / (math.tau * L * amperes)
        return max(self.frequency, min(needed, 0.15 / axis.inverter.Ts))

    def recorded(self, axis: Axis) -> float:
        """Return how long each sine is recorded, s: as long as the recorder has room."""
        room = _RECORDER * axis.inverter.Ts / len(self.segments(axis))
        return min(self.seconds, math.floor(room / 0.002) * 0.002)

    def segments(self, axis: Axis) -> list[tuple[float, float, float]]:
        """Return (frequency Hz, i_d A, i_q A) of each sine, in order."""
        m = axis.machine
        i_d = self.bias * m.rated_current.value
        f = self.sine(axis)
        plain = [(f, i_d, 0.0), (0.5 * f, i_d, 0.0)]
        peak = m.peak_current.value
        far = [(f, 0.0, b * peak) for b in self.q_biases]
        far += [(f, b * peak, 0.0) for b in self.d_biases]
        return plain + [(f / axis.inverter.Ts, i_d, 0.0) for f in self.fast] + far

    def plan(self, axis: Axis) -> Plan:
        """Return the steps, limits and gains for this axis."""
        m = axis.machine
        L = m.Ld.value if self.axis_name == "d" else m.Lq.value
        wanted = self.amplitude * m.rated_current.value
        target = Target.V_D if self.axis_name == "d" else Target.V_Q
        most = max(math.hypot(i_d, i_q) for _, i_d, i_q in self.segments(axis))
        steps: list[Step] = []
        for f, i_d, i_q in self.segments(axis):
            volts = min(wanted * math.tau * f * L, 0.75 * axis.inverter.v_max)
            wave = Wave(shape=Shape.SINE, target=target, amplitude=volts, frequency=f)
            frame = Frame.FIXED if self.aligned else Frame.ROTOR
            held = Step(duration=self.recorded(axis), i_d=i_d, i_q=i_q, wave=wave, frame=frame)
            wait = 1.2 if self.aligned and not steps else 0.1
            steps.append(replace(held, duration=wait, record=False, wave=None))
            steps.append(replace(held, duration=0.04, record=False))
            steps.append(held)
        seconds = sum(step.duration for step in steps)
        return Plan(
            name=self.name,
            steps=tuple(steps),
            channels=("t", "id", "iq", "vd", "vq", "theta_e", "theta_m"),
            limits=limits_for(axis, most + 2.0 * wanted, seconds),
            gains=gentle_gains(axis, math.tau * 60.0),
        )

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""
        current = self.amplitude * axis.machine.rated_current.value
        return f"sine {self.sine(axis) / 1e3:.3g} kHz, {current:.2g} A, {self.axis_name} axis"

    def settings(self, axis: Axis) -> dict[str, Any]:
        """Return what the estimator must know, as plain values."""
        rows = round(self.recorded(axis) / axis.inverter.Ts)
        segments = [
            {"frequency": f, "i_d": i_d, "i_q": i_q, "rows": rows}
            for f, i_d, i_q in self.segments(axis)
        ]
        return {"axis_name": self.axis_name, "segments": segments}


@dataclass(frozen=True, slots=True, kw_only=True)
class CurrentStep:
    """The test signal of the current loop: a step of current, repeated and averaged."""

    name: ClassVar[str] = "current step"
    axis_name: str  # "d" or "q"
    amplitude: float  # A
    bias: float  # A, held before: away from zero, where the dead time bends the step
    repeats: int = 48
    seconds: float = 0.004  # recorded after the step

    def plan(self, axis: Axis) -> Plan:
        """Return the steps, limits and gains for this axis.

        Raises
        ------
        InputError : no gains in use yet, or settings without sense

        """
        if axis.gains is None:
            remedy = "Take the designed gains first"
            raise InputError("no gains are in use", place="current step", remedy=remedy)
        if self.axis_name not in ("d", "q") or not 1 <= self.repeats <= 128:
            raise InputError(f"cannot step {self.axis_name}, {self.repeats} times")
        target = Target.I_D if self.axis_name == "d" else Target.I_Q
        wave = Wave(shape=Shape.STEP, target=target, amplitude=self.amplitude)
        i_d, i_q = (self.bias, 0.0) if self.axis_name == "d" else (0.0, self.bias)
        held = Step(duration=2.0 * axis.inverter.Ts, i_d=i_d, i_q=i_q)
        once = (
            replace(held, duration=0.012, record=False),
            held,
            replace(held, duration=self.seconds, wave=wave),
        )
        settle = replace(held, duration=0.2, record=False)
        seconds = settle.duration + self.repeats * sum(step.duration for step in once)
        most = abs(self.bias) + abs(self.amplitude)
        axis_now = f"i{self.axis_name}"
        return Plan(
            name=self.name,
            steps=(settle, *(once * self.repeats)),
            channels=("t", f"{axis_now}_ref", "id", "iq", "vd", "vq", "vdc", "theta_m"),
            limits=limits_for(axis, 1.3 * most, seconds),
            gains=axis.gains,
        )

    def title(self, axis: Axis) -> str:
        """Return what is asked, for the logbook."""
        return f"current step {self.amplitude:.3g} A, {self.axis_name} axis"

    def settings(self, axis: Axis) -> dict[str, Any]:
        """Return what the estimator must know, as plain values."""
        rows = round(self.seconds / axis.inverter.Ts)
        return {**_plain(self), "rows_before": 2, "rows_after": rows}


def _plain(experiment: Any) -> dict[str, Any]:
    """Return an experiment's settings as TOML can hold them."""
    return {
        key: list(value) if isinstance(value, tuple) else value
        for key, value in asdict(experiment).items()
    }


def announcement(plan: Plan, *, braked: bool) -> str:
    """Return what will move, how far, how fast, with what current and for how long."""
    shaft = "Shaft stays still if its brake holds" if braked else "Shaft may turn"
    turn = f"stops if it turns {math.degrees(plan.limits.travel):.0f}°"
    return f"{shaft}; {turn}. At most {plan.largest_current:.1f} A for {plan.duration:.1f} s."
