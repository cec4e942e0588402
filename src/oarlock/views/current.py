"""What the Current loop stage shows: sentences, curves, figures; pure functions of an axis."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.control.current import (
    BRISK,
    GOOD,
    LEAST_MARGIN,
    CurrentDesign,
    CurrentLoop,
    Plant,
    design_current,
    dominant,
    fastest_crossover,
    hold_correction,
    loops_with,
    verdict,
)
from oarlock.control.figures import StepFigures, largest_linear_step, step_figures
from oarlock.control.margins import Margins, margins
from oarlock.errors import InputError
from oarlock.machine import Axis, CurrentGains, CurrentTarget, TargetKind
from oarlock.machine.current_loop import USUAL_DAMPING
from oarlock.machine.loop import alike
from oarlock.machine.unknown import DESIGNED_ON, is_known, refuse_unknown
from oarlock.quantities.display import digits, whole_degrees
from oarlock.records.settings import number, table
from oarlock.views.snapshot import Snapshot
from oarlock.views.stage import BEING_READ, Stage, State
from oarlock.views.typed_gains import typed

Array = NDArray[np.float64]
UNSTABLE = "This loop is unstable"
LOWEST = 100.0  # Hz, where the frequency plots begin
_POINTS = 72


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class CurrentPicture:
    """One state of the current loop, ready to be drawn; frequencies in Hz, angles in degrees."""

    axis_name: str
    loop: CurrentLoop
    gains: CurrentGains
    follows: bool  # the gains are those that the target asks for
    margins: Margins
    crossover: float
    bandwidth: float
    phase_margin: float
    gain_margin: float  # dB
    phase_crossover: float
    nyquist: float
    t: Array  # s
    current: Array  # A, from 0, without the bias
    band: tuple[Array, Array]  # A, how far the estimates' uncertainty moves it
    voltage: Array  # V
    amplitude: float  # A
    v_max: float
    linear_up_to: float  # A
    figures: StepFigures
    f: Array  # Hz
    open_gain: Array  # dB
    closed_gain: Array  # dB
    phase: Array  # degrees

    @property
    def poles(self) -> tuple[float, float]:
        """Natural frequency (rad/s) and damping of the closed loop's slowest poles."""
        return dominant(self.loop)

    @property
    def verdict(self) -> str:
        """Good, brisk, risky or refused."""
        return verdict(math.radians(self.phase_margin)) if self.margins.stable else "unstable"

    @property
    def answer(self) -> str:
        """The stage's answer in a few words."""
        hertz = f"{self.crossover:.0f} Hz"
        if not self.margins.stable:
            return f"{hertz} is unstable" if math.isfinite(self.crossover) else UNSTABLE
        left = f"{whole_degrees(self.phase_margin)}°"
        return {
            "good": f"{hertz}, with {left} to spare",
            "brisk": f"{hertz} is brisk: {left} left",
            "risky": f"{hertz} is risky: {left} left",
            "refused": f"{hertz} is too fast: {left} left",
        }[self.verdict]

    @property
    def reason(self) -> tuple[str, str]:
        """Why it is so, in two lines."""
        delay = 1.5e6 * self.loop.plant.Ts
        cut = self.amplitude > self.linear_up_to
        first = f"The delay of {delay:.0f} µs sets the limit;"
        if cut:
            return (
                first,
                f"the bus cuts {self.amplitude:.3g} A: it allows {self.linear_up_to:.2g} A.",
            )
        return first, f"the bus allows steps to {self.linear_up_to:.2g} A."

    @property
    def cut(self) -> bool:
        """Whether the bus would shape this step."""
        return self.amplitude > self.linear_up_to


def picture(axis: Axis, axis_name: str, amplitude: float, seconds: float) -> CurrentPicture:
    """Return the picture of the loop along `axis_name` with the gains in use.

    Parameters
    ----------
    amplitude : A, of the step that is drawn
    seconds : how long the step is drawn

    """
    design = _designed(axis)
    if design is None:
        refuse_unknown(axis, DESIGNED_ON, "current loop")
    gains = axis.gains or (design.gains if design else None)
    if gains is None:
        raise InputError("the target cannot be met", place="current loop")
    follows = design is not None and alike(gains, design.gains)
    if follows and design is not None:
        loop, found = design.loop(axis_name), design.margins_of(axis_name)
    else:
        loop = loops_with(axis, gains)[0 if axis_name == "d" else 1]
        found = margins(loop.opened)
    Ts = loop.plant.Ts
    samples = max(int(seconds / Ts) + 1, 16)
    (current, *extremes), voltage = loop.steps(samples, *_extremes(axis, axis_name, loop.plant))
    t = np.arange(samples, dtype=np.float64) * Ts
    nyquist = 0.5 / Ts
    low = math.tau * min(LOWEST, nyquist / 10)
    omega, opened, phase = loop.opened.on_grid(low, _POINTS)
    return CurrentPicture(
        axis_name=axis_name,
        loop=loop,
        gains=gains,
        follows=follows,
        margins=found,
        crossover=found.crossover / math.tau,
        bandwidth=found.bandwidth / math.tau,
        phase_margin=math.degrees(found.phase_margin),
        gain_margin=20.0 * math.log10(found.gain_margin)
        if math.isfinite(found.gain_margin)
        else math.inf,
        phase_crossover=found.phase_crossover / math.tau,
        nyquist=nyquist,
        t=t,
        current=amplitude * current,
        band=(amplitude * np.minimum(*extremes), amplitude * np.maximum(*extremes)),
        voltage=amplitude * voltage,
        amplitude=amplitude,
        v_max=axis.inverter.v_max,
        linear_up_to=largest_linear_step(voltage, axis.inverter.v_max),
        figures=step_figures(t, current),
        f=omega / math.tau,
        open_gain=20.0 * np.log10(np.abs(opened)),
        closed_gain=20.0 * np.log10(np.abs(loop.closed_on(opened, low, _POINTS))),
        phase=np.degrees(phase),
    )


def loop_picture(axis: Axis, axis_name: str) -> CurrentPicture | None:
    """Return a picture for those who only want its frequencies; None where there are no gains."""
    try:
        return picture(axis, axis_name, 1.0, 1e-3)
    except InputError:
        return None


def _designed(axis: Axis) -> CurrentDesign | None:
    try:
        return design_current(axis)
    except InputError:
        return None


def _extremes(axis: Axis, name: str, plant: Plant) -> tuple[Plant, Plant]:
    """Return the plants at both ends of ±2 standard uncertainties of R and L.

    A printed value without a stated uncertainty counts with a tolerance of ±10 %.
    """
    m = axis.machine
    inductance = m.Ld if name == "d" else m.Lq
    L = 2.0 * inductance.std if inductance.std else 0.10 * inductance.value
    R = 2.0 * m.R.std if m.R.std else 0.10 * m.R.value
    return (
        Plant(R=plant.R + R, L=plant.L - L, Ts=plant.Ts),
        Plant(R=plant.R - R, L=plant.L + L, Ts=plant.Ts),
    )


# What the user gives, as text and back

TARGET_LABELS = {
    TargetKind.CROSSOVER: ("Crossover", "Hz"),
    TargetKind.BANDWIDTH: ("Bandwidth", "Hz"),
    TargetKind.PHASE_MARGIN: ("Phase margin", "°"),
    TargetKind.TIME_CONSTANT: ("Time constant", "µs"),
    TargetKind.NATURAL_FREQUENCY: ("Natural freq.", "Hz"),
}
_SCALES = {
    TargetKind.CROSSOVER: math.tau,
    TargetKind.BANDWIDTH: math.tau,
    TargetKind.PHASE_MARGIN: math.pi / 180.0,
    TargetKind.TIME_CONSTANT: 1e-6,
    TargetKind.NATURAL_FREQUENCY: math.tau,
}


def target_texts(shown: CurrentPicture) -> dict[TargetKind, str]:
    """Return each figure that may be given, as text in the unit of `TARGET_LABELS`."""
    return {
        TargetKind.CROSSOVER: digits(shown.crossover, 4 if shown.crossover >= 1000 else 3),
        TargetKind.BANDWIDTH: digits(shown.bandwidth, 4 if shown.bandwidth >= 1000 else 3),
        TargetKind.PHASE_MARGIN: whole_degrees(shown.phase_margin, 1),
        TargetKind.TIME_CONSTANT: digits(1e6 / shown.margins.crossover, 3),
        TargetKind.NATURAL_FREQUENCY: digits(shown.poles[0] / math.tau, 3),
    }


def placed_from(shown: CurrentPicture, text: str, *, override: bool = False) -> CurrentTarget:
    """Return the target with a damping that was typed, at the natural frequency there is.

    Raises
    ------
    InputError : no damping between 0.1 and 5

    """
    value = typed(text)
    if not 0.1 <= value <= 5.0:
        raise InputError(f"a damping of {text}", place="Damping", remedy="It lies from 0.1 to 5")
    return CurrentTarget(kind=TargetKind.NATURAL_FREQUENCY, value=shown.poles[0], damping=value,
                         override_margin=override)  # fmt: skip


def target_from(
    kind: TargetKind, text: str, *, damping: float = USUAL_DAMPING, override: bool = False
) -> CurrentTarget:
    """Return the target that a typed number asks for; a natural frequency goes with a damping.

    Raises
    ------
    InputError : not a number above zero

    """
    label, unit = TARGET_LABELS[kind]
    cleaned = text.replace(unit, "").replace("us", "").replace("deg", "").strip()
    scale = 1e3 if cleaned.endswith("k") else 1.0
    try:
        value = float(cleaned.removesuffix("k")) * scale
    except ValueError as error:
        remedy = f"Write it like '{ {'Hz': '850', '°': '60', 'µs': '190'}[unit] }'"
        raise InputError(f"'{text}' is not a number", place=label, remedy=remedy) from error
    if not (value > 0.0 and math.isfinite(value)):
        raise InputError(f"{text} must be above zero", place=label)
    return CurrentTarget(kind=kind, value=value * _SCALES[kind], damping=damping,
                         override_margin=override)  # fmt: skip


def crossover_target(hertz: float, Ts: float, *, override: bool = False) -> CurrentTarget:
    """Return the target of a dragged handle, held where the delay still leaves 30°."""
    limit = fastest_crossover(Ts, math.radians(2.0) if override else LEAST_MARGIN) / math.tau
    value = math.tau * min(max(hertz, 1.0), limit)
    return CurrentTarget(kind=TargetKind.CROSSOVER, value=value, override_margin=override)


@dataclass(frozen=True, slots=True, kw_only=True)
class Costs:
    """What the gains cost."""

    linear_up_to: float  # A
    current_noise: float  # A rms
    voltage_noise: float  # V rms
    Ms: float


def costs(shown: CurrentPicture, axis: Axis) -> Costs:
    """Return what the gains cost; noise of one converter count, evenly spread."""
    noise = axis.inverter.current_count / math.sqrt(12.0)
    current, voltage = shown.loop.noise_gain(400)
    return Costs(
        linear_up_to=shown.linear_up_to,
        current_noise=noise * current,
        voltage_noise=noise * voltage,
        Ms=shown.margins.Ms,
    )


def why_Kp(shown: CurrentPicture, *, placed: bool = False) -> tuple[str, str]:
    """Return the formula of Kp with its numbers, in two lines; `placed`: poles were asked for."""
    if not shown.follows:
        return "taken from a run, not", "computed from the target"
    if placed:
        return "with K~i~ lays two poles of the closed", "loop where they were asked for, exactly"
    L = shown.loop.plant.L
    factor = hold_correction(shown.loop, shown.margins.crossover)
    return (
        f"= ω~c~L~{shown.axis_name}~ × {factor:.3f}, the hold's correction",
        f"= {shown.margins.crossover:.0f} rad/s × {1e3 * L:.4g} mH × {factor:.3f}",
    )


def speed_limits(Ts: float) -> tuple[float, float, float]:
    """Return the crossovers (Hz) that leave 60°, 45° and 30°."""
    sixty, fortyfive, thirty = (
        fastest_crossover(Ts, margin) / math.tau for margin in (GOOD, BRISK, LEAST_MARGIN)
    )
    return sixty, fortyfive, thirty


def _waits(axis: Axis) -> str:
    """Return what the loop waits for, in few words."""
    return "after R and L" if axis.inverter.control_frequency.is_known else "after the drive"


def summary(now: Snapshot) -> Stage:
    """Return what the rail says of this stage."""
    axis = now.axis
    if axis.gains is None:
        known = all(is_known(axis, path) for path in DESIGNED_ON)
        return Stage(
            key="current",
            name="Current loop",
            line="no gains yet",
            basis="datasheet values" if known else _waits(axis),
            measured=False,
            state=State.EMPTY,
        )
    found = margins(loops_with(axis, axis.gains)[1].opened)
    stable = found.stable and margins(loops_with(axis, axis.gains)[0].opened).stable
    hertz, left = found.crossover / math.tau, whole_degrees(math.degrees(found.phase_margin))
    shown = f"{hertz:.0f} Hz" if hertz < 999.5 else f"{hertz / 1e3:.3g} kHz"
    line = f"{shown}, {left}° margin"
    proofs = [p for p in (now.verification("q"), now.verification("d")) if p]
    if not proofs and now.is_being_read("current step"):
        basis, state = BEING_READ, State.EMPTY
    elif not proofs:
        old = now.latest("current step")
        state = State.STALE if old else State.EMPTY
        basis = "stale: gains changed" if old else "not verified"
    elif not all(step.holds for _, step in proofs):
        state, basis = State.ATTENTION, "step differs from plan"
    elif _plant_moved(now):
        state, basis = State.STALE, "stale: new machine"
    else:
        state, basis = State.VALID, f"verified {proofs[0][0].started[11:16]}"
    if not stable:
        state, basis = State.ATTENTION, "q unstable" if not found.stable else "d unstable"
    return Stage(
        key="current",
        name="Current loop",
        line=line,
        basis=basis,
        measured=state is State.VALID,
        state=state,
    )


def _plant_moved(now: Snapshot) -> bool:
    found = now.verification("q") or now.verification("d")
    if not found:
        return False
    plant, m = table(found[0].settings, "plant"), now.axis.machine
    today = {"R": m.R.value, "Ld": m.Ld.value, "Lq": m.Lq.value}
    return any(
        abs(number(plant, key, value) - value) > 1e-9 * value for key, value in today.items()
    )
