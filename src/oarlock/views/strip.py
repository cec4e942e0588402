"""The timescales strip: every corner frequency of the design, in lanes, on one axis."""

import math
from dataclasses import dataclass

from oarlock.machine import Axis
from oarlock.views.current import CurrentPicture, speed_limits

LOW, HIGH = 1.0, 24000.0  # Hz
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


@dataclass(frozen=True, slots=True, kw_only=True)
class Strip:
    """All that the strip shows."""

    markers: tuple[Marker, ...]
    ratio: float  # Nyquist over the current loop's crossover
    limits: tuple[float, float, float]  # Hz that leave 60°, 45°, 30°
    nyquist: float  # Hz
    verified: bool


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


def strip(axis: Axis, shown: CurrentPicture | None, *, verified: bool) -> Strip:
    """Return the strip of an axis."""
    m, inv = axis.machine, axis.inverter
    nyquist = 0.5 / inv.Ts
    poles = {
        name: m.R.value / (math.tau * inductance.value)
        for name, inductance in (("q", m.Lq), ("d", m.Ld))
    }
    top = m.max_speed.value * m.pole_pairs.value / math.tau
    measured = m.R.best.is_measured
    markers = [
        Marker(
            lane="machine",
            label=f"R/L~{name}~ {poles[name]:.1f}",
            hertz=poles[name],
            kind=f"pole_{name}",
            measured=measured and inductance.best.is_measured,
        )
        for name, inductance in (("q", m.Lq), ("d", m.Ld))
    ]
    shaft = _shaft(axis)
    markers += shaft
    if not shaft or abs(math.log10(top / shaft[-1].hertz)) > _CROWDED:
        markers.append(Marker(lane="machine", label=f"turns to {top:.0f}", hertz=top, kind="line"))
    markers.append(Marker(lane="drive", label="Nyquist", hertz=nyquist, kind="line", measured=True))
    markers.append(
        Marker(lane="drive", label="PWM", hertz=inv.pwm_frequency.value, kind="line", measured=True)
    )
    if shown is not None:
        markers.append(
            Marker(
                lane="loops",
                label=f"current **{shown.crossover:.0f} Hz**",
                hertz=shown.crossover,
                kind="loop",
                measured=verified,
                handle=True,
            )
        )
    return Strip(
        markers=tuple(markers),
        ratio=nyquist / shown.crossover if shown else math.nan,
        limits=speed_limits(inv.Ts),
        nyquist=nyquist,
        verified=verified,
    )
