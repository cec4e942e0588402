"""Recordings that nobody here made: what holds must be right, what is wrong must not hold.

`python -m benchmarks.foreign [SEEDS]`: machines and instruments drawn on their own, written as
text files of many forms, read as `oarlock identify` reads them. A good recording counts as covered
where the value lies within ±2u; a bad one must be refused, fail a check, or still be within ±2u.
"""

import math
import sys
import tempfile
from collections import defaultdict
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from benchmarks.machines import printed_axis
from oarlock.cli.recordings import Asked
from oarlock.errors import InputError
from oarlock.machine import Axis, Parameter
from oarlock.quantities import Estimate, Origin
from oarlock.records import Finding
from oarlock.session.perform import Performed, from_file

Array = NDArray[np.float64]
_FINE = 8  # steps between two samples
GAIN = 0.005  # standard uncertainty of an instrument's gain, as the page states it


@dataclass(frozen=True, kw_only=True)
class Truth:
    """A machine as it is, and what paper says of it."""

    R: float
    Ld: float
    Lq: float
    psi: float
    pairs: int
    J: float
    B: float
    Tc: float
    rated: float
    top: float  # rad/s
    bus: float
    axis: Axis


def machine(which: int, rng: np.random.Generator) -> Truth:
    """Return one of three machines, its values and its paper drawn anew."""
    base = (
        {"R": 0.86, "Ld": 8.2e-3, "Lq": 15.5e-3, "psi": 0.155, "pairs": 4, "J": 6.7e-3,
         "rated": 10.0, "top": 419.0, "bus": 320.0},
        {"R": 0.028, "Ld": 22e-6, "Lq": 24e-6, "psi": 4.1e-3, "pairs": 7, "J": 3.1e-4,
         "rated": 40.0, "top": 800.0, "bus": 48.0},
        {"R": 1.1, "Ld": 1.6e-3, "Lq": 1.75e-3, "psi": 0.012, "pairs": 4, "J": 1.4e-5,
         "rated": 4.5, "top": 600.0, "bus": 48.0},
    )[which]  # fmt: skip
    true = {k: v * (1.0 + (rng.normal(0.0, 0.03) if k in ("R", "Ld", "Lq", "psi", "J") else 0.0))
            for k, v in base.items()}  # fmt: skip
    torque = 1.5 * true["pairs"] * true["psi"] * true["rated"]
    axis = printed_axis("winch")
    m = axis.machine

    def said(old: Parameter | None, value: float) -> Parameter:
        assert old is not None
        printed = replace(old.printed, value=value, origin=Origin.DATASHEET)
        return Parameter(printed=printed)

    m = replace(
        m, R=said(m.R, base["R"]), Ld=said(m.Ld, base["Ld"]), Lq=said(m.Lq, base["Lq"]),
        psi=said(m.psi, base["psi"]), pole_pairs=said(m.pole_pairs, base["pairs"]),
        rated_current=said(m.rated_current, base["rated"]),
        peak_current=said(m.peak_current, 3.0 * base["rated"]),
        max_speed=said(m.max_speed, base["top"]), inertia=said(m.inertia, base["J"]),
    )  # fmt: skip
    inv = axis.inverter
    inv = replace(inv, bus_voltage=said(inv.bus_voltage, base["bus"]),
                  current_full_scale=said(inv.current_full_scale, 4 * base["rated"]))  # fmt: skip
    axis = replace(axis, machine=m, inverter=inv)
    return Truth(B=0.02 * torque / base["top"], Tc=0.03 * torque, axis=axis,
                 **{**true, "pairs": int(base["pairs"])})  # type: ignore[arg-type]  # fmt: skip


def with_psi(m: Truth) -> Truth:
    """Return the machine with its flux measured and in use."""
    found = Estimate(value=m.psi, std=0.001 * m.psi, unit="Wb", origin=Origin.MEASURED)
    return replace(m, axis=m.axis.adopting("machine.psi", found))


def without_paper_J(m: Truth) -> Truth:
    """Return the machine whose inertia nobody printed."""
    return replace(m, axis=replace(m.axis, machine=replace(m.axis.machine, inertia=None)))


@dataclass(frozen=True)
class Case:
    """A recording as text, how it is asked to be read, and what is true."""

    text: str
    quantity: str
    truth: float
    path: str
    axis: Axis
    columns: tuple[str, ...] = ()
    settings: tuple[str, ...] = ()
    options: Mapping[str, Any] = field(default_factory=dict)


def gained(x: Array, rng: np.random.Generator, noise: float, gain: float = GAIN) -> Array:
    """Return what an instrument reads: a gain that is off, an offset, noise."""
    most = float(np.abs(x).max()) or 1.0
    read: Array = x * (1.0 + rng.normal(0.0, gain)) + rng.normal(0.0, noise * most, x.size)
    return read


def text(names: str, *columns: Array, mark: str = ",", comma: bool = False) -> str:
    """Return a table as text."""
    row = mark.join(["%.9g"] * len(columns))
    rows = "\n".join(row % tuple(values) for values in np.column_stack(columns).tolist())
    return names + "\n" + (rows.replace(".", ",") if comma else rows) + "\n"


# What is recorded, clean


def supply(
    m: Truth, rng: np.random.Generator, points: int, *, hot: float = 1.0
) -> tuple[Array, Array]:
    """Return (i, vab) of a supply through two terminals, both ways."""
    i = np.linspace(-0.7, 0.7, points) * m.rated
    v = 2.0 * m.R * hot * i + 0.002 * m.R * m.rated
    return gained(i, rng, 2e-4), gained(v, rng, 2e-4)


def sine(
    m: Truth, rng: np.random.Generator, which: str, *, periods: float = 150.0, free: bool = False,
    noise: float = 2e-3,
) -> tuple[Array, Array, Array, float, Array]:  # fmt: skip
    """Return (t, i, vab, f, theta_m) of a sine through two terminals."""
    L = m.Ld if which == "d" else m.Lq
    f = float(np.round(2.0 * m.R / (math.tau * L), -1)) or 20.0
    t = np.arange(0.0, periods / f, 1.0 / (f * 40.0))
    w = math.tau * f
    Z = 2.0 * (m.R + 1j * w * L)
    theta = np.zeros_like(t)
    if free:
        Z += 2.0 * 1.5 * (m.pairs * m.psi) ** 2 / (1j * w * m.J)
        swing = 1.5 * m.pairs * m.psi * 0.3 * m.rated / (m.J * w**2)
        theta = swing * np.cos(w * t)
    i = 0.3 * m.rated * np.exp(1j * w * t)
    return (t, gained(np.real(i), rng, noise), gained(np.real(Z * i), rng, noise), f,
            theta + 1e-5 * rng.normal(size=t.size))  # fmt: skip


def spun(
    m: Truth, rng: np.random.Generator, *, seconds: float = 1.2, coast: float = 0.0,
    wobble: float = 0.01, wobble_hz: float = 1.3, share: float = 0.4, rate: float = 0.0,
    noise: float = 3e-3,
) -> tuple[Array, Array, Array, Array, Array]:  # fmt: skip
    """Return (t, va, vb, theta_m, speed) of open terminals on a turning shaft."""
    fast = share * m.top
    f = fast * m.pairs / math.tau
    rate = rate or max(24.0 * f, 2.6 * m.pairs * m.top / math.tau)
    t = np.arange(0.0, seconds, 1.0 / rate)
    speed = fast * (1.0 - coast * t / seconds) * (1.0 + wobble * np.sin(math.tau * wobble_hz * t))
    fine = np.linspace(0.0, seconds, 10 * t.size)
    fast_fine = (
        fast * (1.0 - coast * fine / seconds) * (1.0 + wobble * np.sin(math.tau * wobble_hz * fine))
    )
    steps = np.concatenate(
        [[0.0], np.cumsum(0.5 * (fast_fine[1:] + fast_fine[:-1]) * np.diff(fine))]
    )
    theta = np.interp(t, fine, steps) + float(rng.uniform(0, 6))
    e = m.pairs * theta
    fifth = float(rng.uniform(0.0, 0.04))

    def phase(shift: float) -> Array:
        back: Array = (
            m.psi * m.pairs * speed * (np.cos(e + shift) + fifth * np.cos(5 * (e + shift)))
        )
        return back

    gain = 1.0 + rng.normal(0.0, GAIN)
    most = m.psi * m.pairs * fast
    va, vb = (gain * phase(s) + rng.normal(0.0, noise * most, t.size) for s in (0.0, -math.tau / 3))
    return t, va, vb, theta, speed


def trapezoids(
    m: Truth, rng: np.random.Generator, *, plateau: float = 0.5,
    ways: tuple[float, ...] = (1.0, -1.0),
    levels: tuple[float, ...] = (0.4, 0.25, 0.1), load: float = 0.0, jump: float = 0.0,
    rate: float = 2000.0,
) -> tuple[Array, Array, Array, Array]:  # fmt: skip
    """Return (t, theta_m, iq, speed) of speeds up and down both ways; friction by tanh."""
    accel = 0.35 * 1.5 * m.pairs * m.psi * m.rated / m.J
    profile = [(0.0, 0.0)]
    at = 0.0
    for _ in range(2):
        for way in ways:
            for level in (*levels, 0.0):
                wanted = way * level * m.top
                when = profile[-1][0] + abs(wanted - at) / accel
                profile.append((when, wanted))
                if level:
                    profile.append((when + plateau, wanted))
                at = wanted
    times, speeds = np.array(profile).T
    fine = np.arange(0.0, times[-1], 1.0 / (_FINE * rate))
    w = np.interp(fine, times, speeds)
    from scipy.signal import fftconvolve
    from scipy.signal.windows import gaussian

    spread = 0.01 * _FINE * rate  # a speed controller rounds the corners
    window = gaussian(2 * round(4.0 * spread) + 1, spread)
    padded = np.pad(w, window.size // 2, mode="symmetric")
    w = fftconvolve(padded, window / window.sum(), mode="valid")
    theta = np.cumsum(w) / (_FINE * rate)
    extra = load + jump * (fine > 0.55 * fine[-1])
    torque = m.J * np.gradient(w, fine) + m.B * w + m.Tc * np.tanh(w / 0.6) + extra
    iq = torque / (1.5 * m.pairs * m.psi)
    pick = slice(None, None, _FINE)
    t, theta, w, iq = fine[pick], theta[pick], w[pick], iq[pick]
    count = math.tau / 16384
    return t, np.floor(theta / count) * count, gained(iq, rng, 4e-3), w


Make = Callable[[Truth, np.random.Generator], Case]


def _R(m: Truth, body: str, *, hot: float = 1.0, **more: Any) -> Case:
    return Case(body, "resistance", m.R * hot, "machine.R", m.axis, **more)


def _L(m: Truth, body: str, which: str, f: float, *more: str, **kept: Any) -> Case:
    truth = m.Ld if which == "d" else m.Lq
    return Case(body, f"inductance_{which}", truth, f"machine.L{which}", m.axis,
                settings=(f"frequency={f!r}", *more), **kept)  # fmt: skip


def _psi(m: Truth, body: str, **more: Any) -> Case:
    return Case(body, "flux", m.psi, "machine.psi", m.axis, **more)


def _J(m: Truth, body: str, **more: Any) -> Case:
    return Case(body, "inertia", m.J, "machine.inertia", m.axis, **more)


def _sine(which: str, **changes: Any) -> Make:
    def make(m: Truth, rng: np.random.Generator) -> Case:
        t, i, v, f, _ = sine(m, rng, which, **changes)
        return _L(m, text("t [s],i [A],vab [V]", t, i, v), which, f, "locked=1")

    return make


def _eight_bit(m: Truth, rng: np.random.Generator) -> Case:
    t, i, v, f, _ = sine(m, rng, "d", noise=0.0)
    step = [float(np.abs(x).max()) / 120.0 for x in (i, v)]
    i, v = (np.round(x / s) * s for x, s in zip((i, v), step, strict=True))
    return _L(m, text("t [s],i [A],vab [V]", t, i, v), "d", f)


def _spin(names: str = "t [s],vab [V]", **changes: Any) -> Make:
    def make(m: Truth, rng: np.random.Generator) -> Case:
        t, va, vb, _, _ = spun(m, rng, **changes)
        return _psi(m, text(names, t, va - vb))

    return make


def _phases(m: Truth, rng: np.random.Generator) -> Case:
    t, va, vb, theta, _ = spun(m, rng)
    off = 0.3 * float(va.max())
    return _psi(m, text("time;ua;ub;pos\n[s];[V];[V];[rad]", t, va + off, vb + off, theta,
                        mark=";", comma=True))  # fmt: skip


def _rpm(m: Truth, rng: np.random.Generator) -> Case:
    t, va, vb, _, speed = spun(m, rng, coast=0.3)
    return _psi(m, text('"t [ms]"\t"EMF [mV]"\t"n [U/min]"', 1e3 * t, 1e3 * (va - vb),
                        speed * 60.0 / math.tau, mark="\t"))  # fmt: skip


def _ramps(names: str = "t [s],theta_m [rad],iq [A]", **changes: Any) -> Make:
    def make(m: Truth, rng: np.random.Generator) -> Case:
        m = with_psi(m)
        t, theta, iq, _ = trapezoids(m, rng, **changes)
        return _J(m, text(names, t, theta, iq))

    return make


def _paper_flux(m: Truth, rng: np.random.Generator) -> Case:
    """The flux is from paper, and off by what paper is off by."""
    off = 1.0 + rng.normal(0.0, 0.05)
    said = replace(m.axis.machine.psi.printed, value=m.psi * off)
    axis = replace(m.axis, machine=replace(m.axis.machine, psi=Parameter(printed=said)))
    t, theta, iq, _ = trapezoids(m, rng)
    return _J(replace(m, axis=axis), text("t [s],theta_m [rad],iq [A]", t, theta, iq))


def _wrapped(m: Truth, rng: np.random.Generator) -> Case:
    m = with_psi(m)
    t, theta, iq, _ = trapezoids(m, rng)
    return _J(m, text("t [s],theta_m [deg],iq [A]", t, np.degrees(theta % math.tau), iq))


def _by_speed(m: Truth, rng: np.random.Generator) -> Case:
    m = with_psi(m)
    t, _, iq, w = trapezoids(m, rng)
    rpm = gained(w, rng, 1e-3, 0.0) * 60.0 / math.tau
    note = "run 7,ok,"
    body = "name,state,t [s],speed [RPM],iq [A]\n" + "\n".join(
        note + f"{a:.9g},{b:.9g},{c:.9g}" for a, b, c in zip(t, rpm, iq, strict=True)
    )
    return _J(m, body + "\n")


def _no_paper(m: Truth, rng: np.random.Generator) -> Case:
    m = without_paper_J(with_psi(m))
    t, theta, iq, _ = trapezoids(m, rng)
    return _J(m, text("t [s],theta_m [rad],iq [A]", t, theta, iq))


GOOD: dict[str, Make] = {
    "R, points by hand": lambda m, r: _R(m, text("i [A],vab [V]", *supply(m, r, 7))),
    "R, holds with pauses": lambda m, r: _R(m, _pauses(m, r)),
    "R, hot, temperature noted": lambda m, r: _R(m, _hot(m, r, noted=True), hot=1.35),
    "R, hot, nothing noted": lambda m, r: _R(m, _hot(m, r, noted=False), hot=1.35),
    "Ld by a sine": _sine("d"),
    "Lq by a sine, locked": _sine("q"),
    "Lq by a sine, angle beside it": lambda m, r: _still(m, r),
    "Ld, 8 bits without noise": _eight_bit,
    "flux, steady": _spin(),
    "flux, coast-down of 40 %": _spin(coast=0.4),
    "flux, seconds with a wobble": _spin(seconds=4.0, wobble=0.08, wobble_hz=3.0, share=0.15),
    "flux, phases to ground, decimal commas": _phases,
    "flux, millivolts and rpm, tabs, quotes": _rpm,
    "inertia, flux measured": _ramps(),
    "inertia, plateaus of 0.3 s": _ramps(plateau=0.3),
    "inertia, flux from paper": _paper_flux,
    "inertia, angle wrapped, degrees": _wrapped,
    "inertia, speed in RPM, texts beside": _by_speed,
    "inertia, none printed": _no_paper,
}


def _pauses(m: Truth, rng: np.random.Generator) -> str:
    i, v = supply(m, rng, 12)
    t = np.concatenate([np.arange(40) * 1e-3 + n * 0.5 for n in range(12)])
    i, v = (np.repeat(x, 40) + rng.normal(0, 1e-4 * float(np.abs(x).max()), 480) for x in (i, v))
    return text("t [s],i [A],vab [V]", t, i, v)


def _hot(m: Truth, rng: np.random.Generator, *, noted: bool) -> str:
    i, v = supply(m, rng, 30, hot=1.35)
    if not noted:
        return text("i [A],vab [V]", i, v)
    return text("i [A],vab [V],temperature [°C]", i, v, np.full(30, 20.0 + 0.35 / 0.00393))


def _still(m: Truth, rng: np.random.Generator) -> Case:
    t, i, v, f, theta = sine(m, rng, "q")
    return _L(m, text("t [s],i [A],vab [V],theta_m [rad]", t, i, v, theta), "q", f)


# What is wrong


def _bad_spin(change: Callable[..., Case], **changes: Any) -> Make:
    def make(m: Truth, rng: np.random.Generator) -> Case:
        return change(m, rng, *spun(m, rng, **changes))

    return make


def _vab(m: Truth, t: Array, v: Array, **more: Any) -> Case:
    return _psi(m, text("t [s],vab [V]", t, v), **more)


def _clip(x: Array, share: float) -> Array:
    most = share * float(np.abs(x).max())
    return np.clip(x, -most, most)


def _bad_ramp(change: Callable[..., Case], *, paper: bool = True, **changes: Any) -> Make:
    def make(m: Truth, rng: np.random.Generator) -> Case:
        m = with_psi(m)
        m = m if paper else without_paper_J(m)
        return change(m, *trapezoids(m, rng, **changes))

    return make


def _t_theta_iq(m: Truth, t: Array, theta: Array, iq: Array, names: str = "") -> Case:
    return _J(m, text(names or "t,theta_m,iq", t, theta, iq))


def _hole(m: Truth, t: Array, theta: Array, iq: Array, _w: Array) -> Case:
    keep = np.ones(t.size, dtype=bool)
    keep[t.size // 3 : t.size // 3 + 500] = False
    return _t_theta_iq(m, t[keep], theta[keep], iq[keep])


def _stuck(m: Truth, t: Array, theta: Array, iq: Array, _w: Array) -> Case:
    return _t_theta_iq(m, t, 0.0 * theta, iq)


def _free(angle: bool) -> Make:
    def make(m: Truth, rng: np.random.Generator) -> Case:
        t, i, v, f, theta = sine(m, rng, "q", free=True)
        if angle:
            return _L(m, text("t [s],i [A],vab [V],theta_m [rad]", t, i, v, theta), "q", f)
        return _L(m, text("t [s],i [A],vab [V]", t, i, v), "q", f)

    return make


def _bad_sine(change: Callable[[Array, Array, Array], tuple[Array, Array, Array]],
              detune: float = 1.0) -> Make:  # fmt: skip
    def make(m: Truth, rng: np.random.Generator) -> Case:
        t, i, v, f, _ = sine(m, rng, "d")
        return _L(m, text("t [s],i [A],vab [V]", *change(t, i, v)), "d", f * detune)

    return make


def _heating(m: Truth, rng: np.random.Generator) -> Case:
    i = np.linspace(0.05, 1.2, 30) * m.rated
    v = 2.0 * m.R * (1.0 + 0.25 * (i / i.max()) ** 2) * i
    return _R(m, text("i [A],vab [V]", gained(i, rng, 1e-4), gained(v, rng, 1e-4)))


def _supply_bad(change: Callable[[Array, Array], tuple[Array, Array]], **more: Any) -> Make:
    def make(m: Truth, rng: np.random.Generator) -> Case:
        return _R(m, text("i [A],vab [V]", *change(*supply(m, rng, 15))), **more)

    return make


def _twice(m: Truth, rng: np.random.Generator) -> Case:
    i, v = supply(m, rng, 15)
    return _R(m, text("i [A],v,v", i, v, 0.3 * v), columns=("vab=v",))


def _aliased(m: Truth, rng: np.random.Generator) -> Case:
    f = 0.4 * m.top * m.pairs / math.tau
    t, va, vb, _, _ = spun(m, rng, rate=1.05 * f, seconds=200.0 / f, wobble=0.0)
    return _vab(m, t, va - vb)


BAD: dict[str, Make] = {
    "voltage clipped": _bad_spin(lambda m, r, t, a, b, *_: _vab(m, t, _clip(a - b, 0.8))),
    "voltage clipped a little": _bad_spin(lambda m, r, t, a, b, *_: _vab(m, t, _clip(a - b, 0.95))),
    "voltage below two samples a period": _aliased,
    "phase taken as line to line": _bad_spin(lambda m, r, t, a, *_: _vab(m, t, a)),
    "line to line taken as phase": _bad_spin(
        lambda m, r, t, a, b, *_: _vab(m, t, a - b, options={"phase": True})),
    "millivolts without a unit": _bad_spin(lambda m, r, t, a, b, *_: _vab(m, t, 1e3 * (a - b))),
    "time in ms without a unit": _bad_spin(lambda m, r, t, a, b, *_: _vab(m, 1e3 * t, a - b)),
    "flux, angle in degrees": _bad_spin(
        lambda m, r, t, a, b, th, w: _psi(m, text("t,vab,theta_m", t, a - b, np.degrees(th)))),
    "flux, speed in rpm without a unit": _bad_spin(
        lambda m, r, t, a, b, th, w: _psi(m, text("t,vab,speed", t, a - b, w * 60 / math.tau))),
    "flux, poles for pole pairs": _bad_spin(lambda m, r, t, a, b, th, w: _doubled(m, t, a - b, th)),
    "flux, bus sags in it": _bad_spin(
        lambda m, r, t, a, b, *_: _psi(m, text("t,vab,vdc", t, a - b,
                                               m.bus * np.where(t > 0.6, 0.6, 1.0)))),
    "flux, shaft at rest": _bad_spin(
        lambda m, r, t, a, b, *_: _vab(m, t, r.normal(0, 0.01, t.size))),
    "flux, two periods": _bad_spin(
        lambda m, r, t, a, b, *_: _vab(m, t[:90], (a - b)[:90])),
    "flux, loaded, not open": _bad_spin(
        lambda m, r, t, a, b, *_: _vab(m, t, 0.6 * (a - b))),
    "inertia, angle in degrees": _bad_ramp(
        lambda m, t, th, iq, w: _t_theta_iq(m, t, np.degrees(th), iq)),
    "inertia, degrees, none printed": _bad_ramp(
        lambda m, t, th, iq, w: _t_theta_iq(m, t, np.degrees(th), iq), paper=False),
    "inertia, counts, none printed": _bad_ramp(
        lambda m, t, th, iq, w: _t_theta_iq(m, t, np.round(th * 4096 / math.tau), iq), paper=False),
    "inertia, mA, none printed": _bad_ramp(
        lambda m, t, th, iq, w: _t_theta_iq(m, t, th, 1e3 * iq), paper=False),
    "inertia, time in ms": _bad_ramp(lambda m, t, th, iq, w: _t_theta_iq(m, 1e3 * t, th, iq)),
    "inertia, rpm without a unit": _bad_ramp(
        lambda m, t, th, iq, w: _J(m, text("t,speed,iq", t, w * 60 / math.tau, iq)), paper=False),
    "inertia, speed contradicts angle": _bad_ramp(
        lambda m, t, th, iq, w: _J(m, text("t,theta_m,speed,iq", t, th, 9.55 * w, iq))),
    "inertia, a hole of 500 rows": _bad_ramp(_hole),
    "inertia, shaft locked": _bad_ramp(_stuck),
    "inertia, one way only": _bad_ramp(
        lambda m, t, th, iq, w: _t_theta_iq(m, t, th, iq), ways=(1.0,)),
    "inertia, current clipped": _bad_ramp(
        lambda m, t, th, iq, w: _t_theta_iq(m, t, th, _clip(iq, 0.7))),
    "inertia, sensor reversed": _bad_ramp(lambda m, t, th, iq, w: _t_theta_iq(m, t, -th, iq)),
    "inertia, RMS for peak": _bad_ramp(
        lambda m, t, th, iq, w: _t_theta_iq(m, t, th, iq / math.sqrt(2.0))),
    "inertia, wrapped and too slowly sampled": _bad_ramp(
        lambda m, t, th, iq, w: _t_theta_iq(m, t[::60], th[::60] % math.tau, iq[::60])),
    "Lq, rotor free, angle beside it": _free(True),
    "Lq, rotor free, nothing said": _free(False),
    "Ld, one signal reversed": _bad_sine(lambda t, i, v: (t, -i, v)),
    "Ld, another frequency": _bad_sine(lambda t, i, v: (t, i, v), 1.4),
    "Ld, time in ms": _bad_sine(lambda t, i, v: (1e3 * t, i, v)),
    "Ld, current clipped": _bad_sine(lambda t, i, v: (t, _clip(i, 0.7), v)),
    "Ld, voltage clipped": _bad_sine(lambda t, i, v: (t, i, _clip(v, 0.7))),
    "Ld, drowned in noise": _bad_sine(
        lambda t, i, v: (t, i + np.random.default_rng(3).normal(0, 9 * float(i.std()), i.size), v)),
    "Ld, probe at ten": _bad_sine(lambda t, i, v: (t, i, v / 10.0)),
    "R, a third terminal connected": _supply_bad(lambda i, v: (i, 0.75 * v)),
    "R, phase taken as line to line": _supply_bad(lambda i, v: (i, 0.5 * v)),
    "R, line to line taken as phase": _supply_bad(lambda i, v: (i, v), options={"phase": True}),
    "R, milliamperes": _supply_bad(lambda i, v: (1e3 * i, v)),
    "R, too little current": _supply_bad(lambda i, v: (0.05 * i, 0.05 * v)),
    "R, it heats meanwhile": _heating,
    "R, two columns of one name": _twice,
}  # fmt: skip


def _doubled(m: Truth, t: Array, v: Array, theta: Array) -> Case:
    pairs = m.axis.machine.pole_pairs
    twice = Parameter(printed=replace(pairs.printed, value=2.0 * m.pairs))
    axis = replace(m.axis, machine=replace(m.axis.machine, pole_pairs=twice))
    return replace(_psi(m, text("t,vab,theta_m", t, v, theta)), axis=axis)


@dataclass(frozen=True)
class Outcome:
    """What came of one recording."""

    verdict: str  # "holds", "fails", "refused"
    why: str
    off: float  # in standard uncertainties; NaN where there is no value
    done: Performed | None = None  # None: it was refused


def performed(case: Case, folder: Path) -> Performed:
    """Return a case as the command reads it, kept in `folder` meanwhile.

    Raises
    ------
    InputError : it is refused

    """
    path = folder / "bench.csv"
    path.write_text(case.text, encoding="utf-8")
    asked = Asked(case.quantity, case.columns, case.settings, 0.0,
                   bool(case.options.get("phase")), 0.0)  # fmt: skip
    return from_file(asked.record(path), case.axis)


def read(case: Case, folder: Path) -> Outcome:
    """Return what comes of a case."""
    try:
        done = performed(case, folder)
    except InputError as error:
        return Outcome("refused", str(error).replace(str(folder / "bench.csv"), ""), math.nan)
    finding = done.reading
    if not isinstance(finding, Finding):
        return Outcome("refused", done.run.ended, math.nan, done)
    found = finding.estimates.get(case.path)
    off = (found.value - case.truth) / (found.std or math.nan) if found else math.nan
    if finding.holds:
        return Outcome("holds", finding.remark, off, done)
    return Outcome("fails", finding.failed[0].sentence, off, done)


def outcomes(
    kinds: Mapping[str, Make], seeds: int, machines: tuple[int, ...] = (0, 1, 2)
) -> dict[str, list[tuple[Case, Outcome]]]:
    """Return what came of each kind, over some of three machines and so many seeds."""
    found: dict[str, list[tuple[Case, Outcome]]] = defaultdict(list)
    with tempfile.TemporaryDirectory() as folder:
        for kind, make in kinds.items():
            for which in machines:
                for seed in range(seeds):
                    rng = np.random.default_rng((which, seed, len(kind), ord(kind[-1])))
                    case = make(machine(which, rng), rng)
                    found[kind].append((case, read(case, Path(folder))))
    return found


def main(
    seeds: int = 12, tell: Callable[[str], None] = print, machines: tuple[int, ...] = (0, 1, 2)
) -> int:
    """Print both tables; return how many bars were missed."""
    missed = 0
    by_quantity: dict[str, list[float]] = defaultdict(list)
    tell("| good recordings | hold | refused or failed | within ±2u | why not |")
    tell("| --- | --- | --- | --- | --- |")
    for kind, rows in outcomes(GOOD, seeds, machines).items():
        held = [o for _, o in rows if o.verdict == "holds"]
        other = next((o.why for _, o in rows if o.verdict != "holds"), "")
        inside = sum(abs(o.off) <= 2.0 for o in held)
        for case, o in rows:
            if o.verdict == "holds":
                by_quantity[case.path].append(o.off)
        missed += len(rows) - len(held)
        tell(f"| {kind} | {len(held)} | {len(rows) - len(held)} | {inside} | {other[:90]} |")
    tell("")
    tell("| quantity | recordings | within ±2u, % | spread of value over u |")
    tell("| --- | --- | --- | --- |")
    for path, offs in by_quantity.items():
        share = 100.0 * float(np.mean(np.abs(offs) <= 2.0))
        missed += not 92.0 <= share <= 99.0
        tell(f"| {path} | {len(offs)} | {share:.1f} | {float(np.std(offs)):.2f} |")
    tell("")
    tell("| bad recordings | refused | failed | right | wrong but holds | what is said |")
    tell("| --- | --- | --- | --- | --- | --- |")
    for kind, rows in outcomes(BAD, seeds, machines).items():
        count = {v: sum(o.verdict == v for _, o in rows) for v in ("refused", "fails")}
        right = sum(o.verdict == "holds" and abs(o.off) <= 2.5 for _, o in rows)
        wrong = len(rows) - sum(count.values()) - right
        missed += wrong
        said = next((o.why for _, o in rows if o.verdict != "holds"), rows[0][1].why)
        tell(
            f"| {kind} | {count['refused']} | {count['fails']} | {right} | {wrong} | {said[:100]} |"
        )
    tell(f"\n{'all bars hold' if not missed else f'{missed} misses'}")
    return missed


if __name__ == "__main__":
    sys.stdout.reconfigure(line_buffering=True)  # type: ignore[union-attr]
    sys.exit(bool(main(int(sys.argv[1]) if len(sys.argv) > 1 else 12)))
