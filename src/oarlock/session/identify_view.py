"""What the Identify stage shows: tiles, the answer, and what adopting would change."""

import math
from dataclasses import dataclass

from oarlock.control.design import design_current, loops_with
from oarlock.control.loop import margins
from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.quantities import Estimate
from oarlock.quantities.display import digits, fixed, whole_degrees, with_std
from oarlock.records import Finding, Run
from oarlock.session.perform import QUANTITIES
from oarlock.session.session import Session

PATHS = {
    "resistance": "machine.R",
    "inductance_d": "machine.Ld",
    "inductance_q": "machine.Lq",
}
NAMES = {
    "resistance": "Resistance __R__, with cable",
    "inductance_d": "Inductance __L__~d~",
    "inductance_q": "Inductance __L__~q~",
}
SYMBOLS = {"resistance": "R", "inductance_d": "L~d~", "inductance_q": "L~q~"}
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


@dataclass(frozen=True, slots=True, kw_only=True)
class Consequence:
    """A figure that adopting would move."""

    name: str
    before: str
    after: str
    unit: str


def tile(session: Session, quantity: str) -> Tile:
    """Return the tile of a quantity."""
    found, parameter = session.finding(quantity), session.axis.parameter(PATHS[quantity])
    if found is None:
        number, _, unit = with_std(parameter.value, parameter.std or None, parameter.best.unit)
        known = parameter.adopted is not None
        return Tile(
            quantity=quantity,
            value=number,
            unit=unit,
            plus="",
            verdict="adopted earlier" if known else "printed, not measured yet",
            holds=known,
            adopted=known,
            run=None,
            finding=None,
        )
    run, finding = found
    estimate = finding.estimates[PATHS[quantity]]
    number, plus, unit = with_std(estimate.value, estimate.std, estimate.unit)
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


def _failed(finding: Finding) -> str:
    names = [check.name for check in finding.failed]
    return f"check failed: {names[0]}" + (f" and {len(names) - 1} more" if len(names) > 1 else "")


def answer(session: Session, tiles: list[Tile]) -> tuple[str, str]:
    """Return the stage's answer and what to do next."""
    measured = [t for t in tiles if t.finding]
    if not measured:
        return "Nothing measured yet", "Until then everything rests on the datasheet."
    bad = [t for t in measured if not t.holds]
    if bad:
        names = " and ".join(_word(t.quantity) for t in bad)
        verb = "do" if len(bad) > 1 else "does"
        held = len(measured) - len(bad)
        return f"{names} {verb} not hold, yet", f"{held} of {len(tiles)} hold."
    missing = [t for t in tiles if t.finding is None]
    waiting = [t for t in measured if not t.adopted]
    if missing:
        text = f"{len(measured)} of {len(tiles)} quantities hold"
    else:
        text = "All three quantities hold"
    if waiting:
        names = ", ".join(_word(t.quantity) for t in waiting)
        return text, f"Not adopted yet: {names}."
    if missing:
        return text, f"Still from the datasheet: {', '.join(_word(t.quantity) for t in missing)}."
    return text, _differences(session)


def _differences(session: Session) -> str:
    found = [compared(session, quantity) for quantity in QUANTITIES]
    found.sort(key=lambda c: -abs(c.deviation or 0.0))
    percent = [100.0 * (c.deviation or 0.0) for c in found]
    first, second = (
        f"{c.symbol} ({'+' if value > 0 else ''}{fixed(value, 0)} %)"
        for c, value in zip(found[:2], percent, strict=False)
    )
    return f"Datasheet and machine differ most in {first} and {second}."


def _word(quantity: str) -> str:
    return {"resistance": "R", "inductance_d": "Ld", "inductance_q": "Lq"}[quantity]


def compared(session: Session, quantity: str) -> Compared:
    """Return a quantity's newest finding, or its adopted value, against the printed one."""
    parameter = session.axis.parameter(PATHS[quantity])
    found = session.finding(quantity)
    estimate: Estimate | None = parameter.adopted
    holds = True
    if found:
        estimate, holds = found[1].estimates[PATHS[quantity]], found[1].holds
    if estimate is None:
        return Compared(symbol=SYMBOLS[quantity], deviation=None, plus=0.0, holds=True)
    printed = parameter.printed.value
    return Compared(
        symbol=SYMBOLS[quantity],
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
    old = margins(loops_with(after, gains)[1])
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
    return [Consequence(name=n, before=b, after=a, unit=u) for n, b, a, u in rows]


def tiles(session: Session) -> list[Tile]:
    """Return all tiles in order."""
    return [tile(session, quantity) for quantity in QUANTITIES]
