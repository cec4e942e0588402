"""The timescales strip: every corner frequency of the design, in lanes, on one axis."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from oarlock.machine import Axis
from oarlock.machine.filters import FilterKind
from oarlock.machine.unknown import WINDING, is_known
from oarlock.quantities.display import digits
from oarlock.views.current import CurrentPicture, speed_limits

LOW, HIGH = 1.0, 24000.0  # Hz
BEYOND = 1e6  # Hz, past the strip's end
_ELSEWHERE = 0.01  # of a crossover, by which another one is told apart
_CROWDED = 0.5  # decades between two labels


@dataclass(frozen=True, slots=True, kw_only=True)
class Marker:
    """One frequency on the strip."""

    lane: str  # loops, machine, drive
    label: str  # marked-up text
    hertz: float
    kind: str  # "loop", "pole_d", "pole_q", "line", "limit", "dip", "peak"
    measured: bool = False
    handle: bool = False
    rings: tuple[float, ...] = ()  # Hz, where the drive has it, and where it would go back to
    saved: float = 0.0  # Hz, where a restart of the drive would put the loop; 0: here, or not known
    filter: int = -1  # its number among the filters of the loop whose handle is shown


@dataclass(frozen=True, slots=True, kw_only=True)
class LoopMark:
    """Where a loop crosses over, and how fast it may become."""

    key: str
    crossover: float  # Hz
    verified: bool
    limits: tuple[float, float, float]  # Hz that leave 60°, 45°, 30°
    end: float  # Hz, to which its forbidden range reaches


@dataclass(frozen=True, slots=True, kw_only=True)
class Strip:
    """All that the strip shows."""

    markers: tuple[Marker, ...]
    limits: tuple[float, float, float]  # Hz that leave 60°, 45°, 30°, of the loop with the handle
    end: float  # Hz, to which what is forbidden reaches
    nyquist: float  # Hz

    @property
    def loops(self) -> tuple[Marker, ...]:
        """The loops' markers, the slowest first."""
        return tuple(sorted((m for m in self.markers if m.lane == "loops"), key=lambda m: m.hertz))


def _shaft(axis: Axis) -> list[Marker]:
    """Return dip and peak of a shaft that twists."""
    m = axis.mechanics
    dip, peak = m.anti_resonance.value / math.tau, m.resonance.value / math.tau
    if not (m.resonance.adopted and LOW < dip < peak < HIGH):
        return []
    return [
        Marker(lane="machine", label=f"{dip:.0f}", hertz=dip, kind="dip", measured=True),
        Marker(lane="machine", label=f"{peak:.0f} shaft", hertz=peak, kind="peak", measured=True),
    ]


def current_mark(shown: CurrentPicture, axis: Axis, *, verified: bool) -> LoopMark:
    """Return where the current loop stands."""
    nyquist = 0.5 / axis.inverter.Ts
    return LoopMark(key="current", crossover=shown.crossover, verified=verified,
                    limits=speed_limits(axis.inverter.Ts), end=nyquist)  # fmt: skip


def strip(
    axis: Axis, loops: Sequence[LoopMark], *, handle: str = "current",
    rings: tuple[float, ...] = (), saved: Mapping[str, float] = {},
) -> Strip:  # fmt: skip
    """Return the strip of an axis.

    Parameters
    ----------
    loops : those that have gains
    handle : key of the loop that may be dragged
    rings : Hz, where the drive has that loop while it is tuned by hand
    saved : rad/s by loop, where a restart of the drive would put them

    """
    nyquist = 0.5 / axis.inverter.Ts
    markers = [*_machine(axis), *_drive(axis), *_filters(axis, handle)]
    markers += [
        Marker(
            lane="loops",
            label=f"{one.key} **{_hertz(one.crossover)} Hz**",
            hertz=one.crossover,
            kind="loop",
            measured=one.verified,
            handle=one.key == handle,
            rings=rings if one.key == handle else (),
            saved=_apart(saved.get(one.key, 0.0) / math.tau, one.crossover),
        )
        for one in loops
        if LOW <= one.crossover <= HIGH
    ]
    if not axis.inverter.control_frequency.is_known:  # nobody knows what its clock allows
        return Strip(markers=tuple(markers), limits=(BEYOND,) * 3, end=BEYOND, nyquist=BEYOND)
    held = next((one for one in loops if one.key == handle), None)
    return Strip(
        markers=tuple(markers),
        limits=held.limits if held else speed_limits(axis.inverter.Ts),
        end=held.end if held else nyquist,
        nyquist=nyquist,
    )


def _machine(axis: Axis) -> list[Marker]:
    """Return poles of the windings, the shaft's dip and peak, and the top speed."""
    m = axis.machine
    found = [] if not all(is_known(axis, path) for path in WINDING) else [
        Marker(lane="machine", label=f"R/L~{name}~ {hertz:.1f}", hertz=hertz, kind=f"pole_{name}",
               measured=m.R.best.is_measured and inductance.best.is_measured)
        for name, inductance in (("q", m.Lq), ("d", m.Ld))
        for hertz in (m.R.value / (math.tau * inductance.value),)
    ]  # fmt: skip
    shaft = _shaft(axis)
    top = axis.top_speed * m.pole_pairs.value / math.tau
    found += shaft
    if not (m.max_speed.is_known and m.pole_pairs.is_known):
        return found
    if not shaft or abs(math.log10(top / shaft[-1].hertz)) > _CROWDED:
        found.append(Marker(lane="machine", label=f"turns to {top:.0f}", hertz=top, kind="line"))
    return found


def _drive(axis: Axis) -> list[Marker]:
    """Return what the drive's clock sets."""
    inv = axis.inverter
    if not inv.control_frequency.is_known:
        return []
    clocks = [("Nyquist", 0.5 / inv.Ts), ("PWM", inv.pwm_frequency.value)]
    if inv.divider > 1:
        clocks.append(("speed sampled", 1.0 / (inv.divider * inv.Ts)))
    return [
        Marker(lane="drive", label=label, hertz=hertz, kind="line", measured=True)
        for label, hertz in clocks
    ]


def _filters(axis: Axis, handle: str) -> list[Marker]:
    """Return the filters of all loops; those of the loop with the handle can be dragged."""
    return [
        Marker(lane="drive", label="notch" if one.kind is FilterKind.NOTCH else "filter",
               hertz=one.frequency / math.tau, kind="notch" if one.kind is FilterKind.NOTCH
               else "line", measured=True, filter=number if key == handle else -1)
        for key, loop in axis.loops
        for number, one in enumerate(loop.filters)
    ]  # fmt: skip


def _apart(saved: float, crossover: float) -> float:
    """Return where the drive's memory has a loop (Hz) if that is plainly elsewhere, else 0."""
    return saved if abs(saved / crossover - 1.0) > _ELSEWHERE else 0.0


def _hertz(crossover: float) -> str:
    return f"{crossover:.0f}" if crossover >= 99.5 else digits(crossover, 2)
