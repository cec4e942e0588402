"""What the Identify stage shows: tiles, the answer, and what adopting would change."""

import math
from dataclasses import dataclass

from oarlock.control.current import design_current, loops_with
from oarlock.control.margins import margins
from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.machine.derived import derived
from oarlock.machine.heat import resistance_at
from oarlock.quantities import Estimate
from oarlock.quantities.display import digits, engineering, fixed, whole_degrees, with_std
from oarlock.records import Check, Finding, Run
from oarlock.records.quantity import BY_KEY, KEYS, QUANTITIES
from oarlock.views.sensing import KEEPS_IDENTIFIED
from oarlock.views.sensing_experiments import is_stale
from oarlock.views.snapshot import Snapshot
from oarlock.views.stage import BEING_READ, READING, Stage, State

_COUNTS = {3: "three", 4: "four", 5: "five", 6: "six"}
TOLERANCE = 0.10  # what a datasheet is held to, ratio


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Tile:
    """One quantity."""

    quantity: str
    value: str  # "0.862"
    unit: str
    plus: str  # "± 0.004"
    verdict: str
    holds: bool
    adopted: bool
    run: Run | None
    finding: Finding | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Compared:
    """A measured value against the printed one; ratios less one."""

    symbol: str
    deviation: float | None
    plus: float  # two standard uncertainties, ratio
    holds: bool
    word: str = ""  # where there is no deviation


@dataclass(frozen=True, slots=True, kw_only=True)
class Consequence:
    """A figure that adopting would move."""

    name: str
    before: str  # empty: there is none
    after: str
    unit: str
    tip: str = ""


def tile(now: Snapshot, quantity: str) -> Tile:
    """Return the tile of a quantity."""
    found = now.finding(quantity)
    if found is None or BY_KEY[quantity].path not in found[1].estimates:
        return _without_value(now, quantity, found)
    run, finding = found
    number, plus, unit = _shown(quantity, finding.estimates[BY_KEY[quantity].path])
    return Tile(
        quantity=quantity,
        value=number,
        unit=unit,
        plus=f"± {plus}" if plus else "",
        verdict=finding.remark if finding.holds else _failed(finding),
        holds=finding.holds,
        adopted=run.used,
        run=run,
        finding=finding,
    )


def _shown(quantity: str, estimate: Estimate) -> tuple[str, str, str]:
    """Return (number, ±, unit) as people say it: a resonance in Hz, a rigid shaft in words."""
    if quantity == "resonance":
        if estimate.value == 0.0:
            return "rigid", "", ""
        hertz = math.tau
        std = estimate.std / hertz if estimate.std else None
        return with_std(estimate.value / hertz, std, "Hz")
    return with_std(estimate.value, estimate.std, estimate.unit)


def _without_value(now: Snapshot, quantity: str, found: tuple[Run, Finding] | None) -> Tile:
    """Return the tile of a quantity that was not measured, or measured in vain."""
    if found is not None:
        run, finding = found
        return Tile(quantity=quantity, value="–", unit="", plus="", verdict=_failed(finding),
                    holds=False, adopted=False, run=run, finding=finding)  # fmt: skip
    axis, path = now.axis, BY_KEY[quantity].path
    known = axis.is_adopted(path)
    parameter = axis.optional(path)
    number, _, unit = ("–", "", "")
    verdict = "not measured yet"
    if parameter is not None and (known or parameter.printed.source):
        number, _, unit = _shown(quantity, parameter.best)
        verdict = "adopted earlier" if known else "printed, not measured yet"
    return Tile(quantity=quantity, value=number, unit=unit, plus="", verdict=verdict, holds=known,
                adopted=known, run=None, finding=None)  # fmt: skip


def _failed(finding: Finding) -> str:
    names = [check.code for check in finding.failed]
    return f"check failed: {names[0]}" + (f" and {len(names) - 1} more" if len(names) > 1 else "")


def answer(now: Snapshot, tiles: list[Tile]) -> tuple[str, str]:
    """Return the stage's answer and what to do next."""
    measured = [t for t in tiles if t.finding]
    if now.is_unread(*KEYS):
        return READING
    if not measured:
        return "Nothing measured yet", "Until then everything rests on the datasheet."
    bad = [t for t in measured if not t.holds]
    if bad:
        names = _listed([BY_KEY[t.quantity].word for t in bad])
        verb = "do" if len(bad) > 1 else "does"
        held = len(measured) - len(bad)
        return f"{_capital(names)} {verb} not hold, yet", f"{held} of {len(tiles)} hold."
    missing = [t for t in tiles if t.finding is None]
    waiting = [t for t in measured if not t.adopted]
    if missing:
        text = f"{len(measured)} of {len(tiles)} quantities hold"
    else:
        text = f"All {_COUNTS[len(tiles)]} quantities hold"
    if waiting:
        names = ", ".join(BY_KEY[t.quantity].word for t in waiting)
        return text, f"Not adopted yet: {names}."
    if missing:
        return (
            text,
            f"Still from the datasheet: {', '.join(BY_KEY[t.quantity].word for t in missing)}.",
        )
    return text, _differences(now)


def _listed(words: list[str]) -> str:
    return " and ".join([", ".join(words[:-1]), words[-1]] if len(words) > 2 else words)


def _capital(text: str) -> str:
    return text[:1].upper() + text[1:]


def _differences(now: Snapshot) -> str:
    found = [c for c in (compared(now, quantity) for quantity in KEYS)
             if c.deviation is not None]  # fmt: skip
    if len(found) < 2:
        return ""
    found.sort(key=lambda c: -abs(c.deviation or 0.0))
    percent = [100.0 * (c.deviation or 0.0) for c in found]
    first, second = (
        f"{c.symbol} ({'+' if value > 0 else ''}{fixed(value, 0)} %)"
        for c, value in zip(found[:2], percent, strict=False)
    )
    return f"Datasheet and machine differ most in {first} and {second}."


def compared(now: Snapshot, quantity: str) -> Compared:
    """Return a quantity's newest finding, or its adopted value, against the printed one."""
    axis, path = now.axis, BY_KEY[quantity].path
    parameter = axis.optional(path)
    found = now.finding(quantity)
    estimate: Estimate | None = parameter.adopted if parameter else None
    holds = True
    if found and path in found[1].estimates:
        estimate, holds = found[1].estimates[path], found[1].holds
    unprinted = parameter is None or not parameter.printed.source
    if parameter is None or estimate is None or unprinted:
        word = "not printed" if unprinted else "printed"
        return Compared(
            symbol=BY_KEY[quantity].symbol, deviation=None, plus=0.0, holds=holds, word=word
        )
    printed = parameter.printed.value
    return Compared(
        symbol=BY_KEY[quantity].symbol,
        deviation=estimate.value / printed - 1.0,
        plus=2.0 * (estimate.std or 0.0) / printed,
        holds=holds,
    )


def consequences(axis: Axis, finding: Finding) -> list[Consequence]:
    """Return what adopting a finding would change, from what is in use to what would be."""
    after = axis
    for path, estimate in finding.estimates.items():
        after = after.adopting(path, estimate)
    try:
        gains = axis.gains or design_current(axis).gains
        new = design_current(after)
    except InputError:
        return []
    # What the gains in use do on the machine as it was measured, against a new design on it.
    old = margins(loops_with(after, gains)[1].opened)
    m_old, m_new = axis.machine, after.machine
    i_max = m_old.peak_current.value
    rows = [
        ("K~p~  q axis", digits(gains.Kp_q, 3), digits(new.gains.Kp_q, 3), "V/A"),
        ("K~p~  d axis", digits(gains.Kp_d, 3), digits(new.gains.Kp_d, 3), "V/A"),
        ("K~i~  both", digits(gains.Ki_q, 3), digits(new.gains.Ki_q, 3), "V/(A·s)"),
        ("Crossover", f"{old.crossover / math.tau:.0f}",
         f"{new.margins.crossover / math.tau:.0f}", "Hz"),
        ("Phase margin", whole_degrees(math.degrees(old.phase_margin)),
         whole_degrees(math.degrees(new.margins.phase_margin)), "°"),
        (f"Loss at {digits(i_max, 2)} A", digits(1.5 * m_old.R.value * i_max**2, 3),
         digits(1.5 * m_new.R.value * i_max**2, 3), "W"),
    ]  # fmt: skip
    old_torque, new_torque = m_old.torque(0.0, i_max), m_new.torque(0.0, i_max)
    rows.append((f"Torque at {digits(i_max, 2)} A", digits(old_torque, 3), digits(new_torque, 3),
                 "N·m"))  # fmt: skip
    if m_old.inertia is not None and m_new.inertia is not None:
        rows.append(("Acceleration", digits(old_torque / m_old.inertia.value, 3),
                     digits(new_torque / m_new.inertia.value, 3), "rad/s²"))  # fmt: skip
    return [Consequence(name=n, before=b, after=a, unit=u) for n, b, a, u in rows]


def follows(axis: Axis) -> list[Consequence]:
    """Return what follows from the values in use."""
    rows = []
    for row in derived(axis)[:8]:
        number, unit = engineering(row.value, row.unit)
        rows.append(Consequence(name=row.name, before="", after=number, unit=unit, tip=row.tip))
    return rows


def poles(axis: Axis) -> tuple[str, str]:
    """Return the electrical poles of q and d in use (Hz), and what paper says of them."""
    m = axis.machine
    if not (m.R.is_known and m.Ld.is_known and m.Lq.is_known):
        return "–", "not measured yet"
    used = [m.R.value / (math.tau * L.value) for L in (m.Lq, m.Ld)]
    told = "nothing printed"
    if all(p.printed.source for p in (m.R, m.Ld, m.Lq)):
        q, d = (m.R.printed.value / (math.tau * L.printed.value) for L in (m.Lq, m.Ld))
        told = f"printed: {q:.1f} and {d:.1f} Hz"
    return f"{used[0]:.1f} and {used[1]:.1f}", told


def agreement(now: Snapshot, quantity: str) -> Check | None:
    """Return whether the newest finding agrees with those before it; None without any."""
    path = BY_KEY[quantity].path
    found = [f.estimates[path] for f in now.findings(quantity) if path in f.estimates]
    if len(found) < 2:
        return None
    values = [e.value for e in found]
    mean = sum(values) / len(values)
    apart = (max(values) - min(values)) / abs(mean) if mean else 0.0
    expected = max(4.0 * math.hypot(*((e.std or 0.0) for e in found)) / abs(mean), 1e-3)
    return Check(
        code="repeats agree",
        passed=apart <= expected,
        sentence=f"{len(found)} runs agree within {digits(100 * apart, 2)} % "
        f"({digits(100 * expected, 2)} expected)",
    )


def resistances(now: Snapshot) -> tuple[float, float]:
    """Return R (ohm) at 20 °C and at the most that the winding may reach; 0 where unknown."""
    warm, most = _noted(now), now.axis.machine.max_temperature
    if math.isnan(warm):
        return 0.0, 0.0
    R = now.axis.machine.R.value
    return resistance_at(R, warm, 20.0), resistance_at(R, warm, most.value) if most else 0.0


def _noted(now: Snapshot) -> float:
    """Return how warm (°C) the winding was as R was measured; NaN where nobody noted it."""
    found = now.finding("resistance")
    R = now.axis.machine.R
    if not found or not R.adopted:
        return math.nan
    winding = found[0].settings.get("winding", now.screen.winding)
    return float(winding) if isinstance(winding, int | float) else math.nan


def tiles(now: Snapshot) -> list[Tile]:
    """Return all tiles in order."""
    return [tile(now, quantity) for quantity in KEYS]


def identified(axis: Axis) -> int:
    """Return how many of the identified quantities are measured and in use."""
    return sum(axis.is_adopted(quantity.path) for quantity in QUANTITIES)


def summary(now: Snapshot) -> Stage:
    """Return what the rail says of this stage."""
    axis = now.axis
    adopted = identified(axis)
    found = [now.finding(quantity) for quantity in KEYS]
    failed = sum(1 for item in found if item and not item[1].holds)
    newest = next((item[0] for item in reversed(found) if item), None)
    state = State.VALID if adopted == len(QUANTITIES) else State.EMPTY
    basis = f"measured {newest.started[11:16]}" if newest else "nothing measured"
    if now.is_unread(*KEYS):
        state, basis = State.EMPTY, BEING_READ
    elif failed:
        state, basis = State.ATTENTION, f"{failed} check{'s' * (failed > 1)} failed"
    elif newest and state is State.EMPTY:
        state = State.STALE
    sensed = (is_stale(i[0], axis, KEEPS_IDENTIFIED) for i in found if i)
    if any(sensed) and not failed:
        state, basis = State.STALE, "stale: new sensing"
    if not newest and not adopted and not axis.sensor.is_found:
        basis = "waits for Sensing"
    return Stage(
        key="identify",
        name="Identify",
        line=f"{adopted} of {len(QUANTITIES)} adopted",
        basis=basis,
        measured=newest is not None,
        state=state,
    )
