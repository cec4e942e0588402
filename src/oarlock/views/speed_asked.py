"""What the user gives for the speed loop: figures as text and back, aims, filters."""

import math
from collections.abc import Sequence
from dataclasses import replace

from oarlock.control.position_design import friction_of
from oarlock.control.speed_design import MARGIN, known_inertia, speed_target
from oarlock.control.speed_gains import AIMS
from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.machine.filters import Filter, FilterKind
from oarlock.machine.speed_loop import FAST, KEY, SpeedGains, SpeedTarget
from oarlock.quantities.display import digits, whole_degrees
from oarlock.quantities.shown import Scale, typed_in
from oarlock.views.speed import SpeedPicture, designed, farthest
from oarlock.views.typed_gains import typed

TARGET_LABELS = {
    "crossover": ("Crossover", "Hz", math.tau),
    "bandwidth": ("Bandwidth", "Hz", math.tau),
    "dip": ("Dip, rated", "", 1.0),  # a speed, in the unit that was chosen
    "phase_margin": ("Phase margin", "°", math.pi / 180.0),
}


# Options of the controller: name, unit, SI for each unit, and what it does.
OPTION_LABELS = {
    "observer": ("Observer", "Hz", math.tau,
                 "Load observer: it asks for what a load takes. In place of Ki it overshoots\n"
                 "less, and is as stiff at the same margin."),
    "reference": ("Reference", "ms lag", 1e-3,
                  "Lag of the speed asked for: less overshoot, a slower rise;\n"
                  "margins and stiffness stay. A move passes it by."),
    "friction": ("Friction", "A ahead", 1.0,
                 "Current added on the side of the speed that is asked for:\n"
                 "the integral need not turn round with the friction."),
}  # fmt: skip
OFF = "off"


def option_texts(gains: SpeedGains) -> dict[str, str]:
    """Return each option as text, in the unit of `OPTION_LABELS`."""
    found = {name: getattr(gains, name) / one[2] for name, one in OPTION_LABELS.items()}
    return {name: digits(value, 3) if value else OFF for name, value in found.items()}


def with_option(axis: Axis, gains: SpeedGains, name: str, text: str) -> Axis:
    """Return the axis with an option of its speed controller as it was typed; 0 or 'off' ends it.

    An observer that is new takes the place of the integral.

    Raises
    ------
    InputError : no number that it can be, or no inertia for an observer to go by

    """
    label, unit, scale, _ = OPTION_LABELS[name]
    value = 0.0 if text.strip().lower() == OFF else scale * typed(text, *unit.split())
    if value < 0.0:
        raise InputError(f"{text} is below zero", place=label, remedy=f"Write a number, or '{OFF}'")
    most = {"reference": 1.0, "friction": axis.peak,
            "observer": 0.5 / (axis.inverter.divider * axis.inverter.Ts)}[name]  # fmt: skip
    if value > most:
        raise InputError(f"{text} is too much", place=label,
                         remedy=f"It may be {digits(most / scale, 3)} {unit} at most")  # fmt: skip
    changed = {name: value}
    if name == "observer":
        if not value and not gains.Ki:
            raise InputError("without Ki and observer nothing holds a load", place=label,
                             remedy="Use 'Ki in place of the observer'")  # fmt: skip
        changed["inertia"] = known_inertia(axis) if value else 0.0
        changed["Ki"] = gains.Ki if gains.observer else 0.0
        changed["weight"] = gains.weight if changed["Ki"] else 1.0
    return axis.with_loop_gains(KEY, replace(gains, **changed))


def with_observer(axis: Axis, gains: SpeedGains, on: bool, speed: float) -> Axis:
    """Return the axis with a load observer in place of the integral, or the other way round.

    Both are designed for the target that there is.

    Parameters
    ----------
    speed : rad/s, that it is looked at

    Raises
    ------
    InputError : no inertia is known, or no such gains keep what is asked

    """
    inertia = known_inertia(axis) if on else 0.0
    seeded = replace(gains, observer=float(on), inertia=inertia)
    axis = axis.with_loop_gains(KEY, seeded)
    return axis.with_loop_gains(KEY, designed(axis, speed_target(axis), speed))


def offered_friction(axis: Axis, gains: SpeedGains) -> float:
    """Return the friction (A) that was identified, where it is not what is asked ahead; or 0."""
    known = friction_of(axis)
    return known if abs(known - gains.friction) > 0.02 * known else 0.0


def target_texts(shown: SpeedPicture, axis: Axis, speed: Scale) -> dict[str, str]:
    """Return each figure that may be given, as text in the unit of `TARGET_LABELS`.

    Parameters
    ----------
    speed : in what a dip is told

    """
    rated = axis.rated
    return {
        "crossover": digits(shown.crossover, 3),
        "bandwidth": digits(shown.bandwidth, 3),
        "dip": digits(shown.load.dip / shown.amperes * rated / speed.per, 3),
        "phase_margin": whole_degrees(shown.phase_margin, 1),
    }


def target_from(axis: Axis, name: str, text: str, speeds: Sequence[Scale]) -> SpeedTarget:
    """Return the target that a typed number asks for; what goes together with it is kept.

    Parameters
    ----------
    speeds : in which a dip may be typed, the one it is told in first

    Raises
    ------
    InputError : not a number above zero

    """
    label, unit, scale = TARGET_LABELS[name]
    if name == "dip":
        return with_figure(
            speed_target(axis), name, _above_zero(typed_in(text, speeds), text, label)
        )
    cleaned = text.replace(unit, "").replace("deg", "").strip()
    try:
        value = float(cleaned) * scale
    except ValueError as error:
        example = {"Hz": "35", "°": "55"}[unit]
        raise InputError(f"'{text}' is not a number", place=label,
                         remedy=f"Write it like '{example}'") from error  # fmt: skip
    return with_figure(speed_target(axis), name, _above_zero(value, text, label))


def _above_zero(value: float, text: str, label: str) -> float:
    if not (value > 0.0 and math.isfinite(value)):
        raise InputError(f"{text} must be above zero", place=label)
    return value


def with_figure(target: SpeedTarget, name: str, value: float) -> SpeedTarget:
    """Return a target with one figure given; of the fast ones it is the only one."""
    if name == "phase_margin":
        return replace(target, phase_margin=value)
    kept = target.phase_margin or MARGIN
    return SpeedTarget(**{name: value}, phase_margin=kept)


def aimed(name: str) -> SpeedTarget:
    """Return the target of an aim: calm, even or keen."""
    return SpeedTarget(phase_margin=AIMS[name].margin)


def aim_of(target: SpeedTarget) -> str:
    """Return which aim a target is, or nothing."""
    if any(getattr(target, name) is not None for name in FAST):
        return ""
    margin = target.phase_margin or MARGIN
    return next((n for n, a in AIMS.items() if abs(a.margin - margin) < 1e-9), "")


def dragged(axis: Axis, hertz: float, shown: SpeedPicture) -> SpeedTarget:
    """Return the target of a dragged handle, held where the delays still leave its margin."""
    margin = speed_target(axis).phase_margin or MARGIN
    most = 0.995 * farthest(axis, shown.turning, margin) / math.tau
    return SpeedTarget(crossover=math.tau * min(max(hertz, 0.3), most), phase_margin=margin)


MOST_FILTERS = 4  # in the torque path, as a drive has them


def new_notch(axis: Axis) -> Filter:
    """Return a notch for the shaft's resonance: a little below it, where it errs least."""
    at = axis.mechanics.resonance.value
    return Filter(path="torque", kind=FilterKind.NOTCH, frequency=0.95 * at or math.tau * 200.0,
                  width=1.0, depth=0.05)  # fmt: skip


def new_low_pass(shown: SpeedPicture) -> Filter:
    """Return a low pass far above the crossover."""
    hertz = min(10.0 * shown.crossover, 0.5 * shown.nyquist)
    return Filter(path="torque", kind=FilterKind.LOW_PASS, frequency=math.tau * hertz)


def with_filters(axis: Axis, filters: tuple[Filter, ...]) -> Axis:
    """Return the axis with other filters of its speed loop."""
    return replace(axis, loops=axis.loops.having(KEY, replace(axis.loops[KEY], filters=filters)))


def filter_title(one: Filter) -> str:
    """Return what a filter is, in a few words."""
    hertz = digits(one.frequency / math.tau, 3)
    if one.kind is FilterKind.NOTCH:
        depth = 20.0 * math.log10(max(one.depth, 1e-6))
        return f"notch {hertz} Hz, {depth:.0f} dB".replace("-", "−")
    return f"{'low pass' if one.kind is FilterKind.LOW_PASS else 'lead'} {hertz} Hz"
