"""What the Rehearse stage shows of a scenario that was simulated; pure."""

import math
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from oarlock.cancel import Cancel
from oarlock.drive.contract.trips import OVER_VOLTAGE
from oarlock.drive.link import Progress
from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.quantities.display import digits
from oarlock.quantities.kinds import RPM
from oarlock.rehearse.envelope import Gathering, Spread, remedy
from oarlock.rehearse.figures import RehearsalFigures, apart_of, figures_of, unread_of
from oarlock.rehearse.holding import Holding, holding
from oarlock.rehearse.ripple import ripple_of
from oarlock.rehearse.run import Rehearsal, rehearse
from oarlock.rehearse.scenario import Control, Scenario, parse_scenario
from oarlock.rehearse.shares import shares
from oarlock.rehearse.vary import Study, plants_of, study, tolerances, tornado
from oarlock.simulate.plant_parameters import Modulation

_MOVES = 0.005  # of what the bus gives, from which it is drawn as it moves
_OVER = ("What came before is shown. A brake resistor, more capacitance or gentler braking keep "
         "the bus lower.")  # fmt: skip
_TIGHT = 0.98  # of the current or the bus, from which a scenario is called tight


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class RehearsePicture:
    """A scenario that was simulated."""

    run: Rehearsal
    axis: Axis  # that it was made on
    figures: RehearsalFigures
    answer: str
    reasons: tuple[str, ...]
    tightest: float  # s, where least is left of current or voltage
    limit: float  # A


def scenario_of(text: str, beside: Path | None = None) -> Scenario:
    """Return what a text asks for.

    Parameters
    ----------
    beside : folder that its tables are looked for in

    Raises
    ------
    InputError : it makes no sense

    """
    return parse_scenario(text, place="scenario", beside=beside)


def simulated(
    scenario: Scenario,
    axis: Axis,
    *,
    bridge: Modulation = Modulation.AVERAGED,
    since: RehearsePicture | None = None,
    progress: Progress | None = None,
    cancel: Cancel | None = None,
) -> RehearsePicture:  # fmt: skip
    """Return what a scenario comes to. Work for a job; errors as `rehearse`.

    Parameters
    ----------
    since : of a scenario whose points were others: what is the same is taken from it

    """
    known = since.run if since is not None and since.axis == axis else None
    run = rehearse(scenario, axis, progress=progress, cancel=cancel, bridge=bridge, since=known)
    told = figures_of(run, axis)
    limit = axis.peak
    used = np.maximum(run.most["volts"] / run.limits, run.most["amperes"] / limit)
    tightest = float(run.t[int(np.argmax(used))]) if run.t.size else 0.0
    answer, reasons = _said(told, axis, tightest)
    if unseen := unread(run, axis):
        answer, reasons = (unseen, reasons) if told.ended == "done" else (answer, (f"{unseen}.",))
    return RehearsePicture(run=run, axis=axis, figures=told, answer=answer, reasons=reasons,
                           tightest=tightest, limit=limit)  # fmt: skip


def unread(run: Rehearsal, axis: Axis) -> str:
    """Return in words how the shaft turns or stands otherwise than its sensor says, or nothing."""
    found = unread_of(run, axis)
    apart = apart_of(run, axis) if run.scenario.control is Control.POSITION else None
    if apart is not None:
        return f"The shaft stands {_signed_degrees(apart)} from where its sensor says"
    if found is None:
        return ""
    told, shaft = (_signed(value / RPM) for value in (found.told, found.shaft))
    return f"The sensor says {told} rpm where the shaft turns {shaft}"


def _signed_degrees(angle: float) -> str:
    return f"{digits(math.degrees(angle), 3)}°".replace("-", "−")


def _signed(value: float) -> str:
    return f"{value:.0f}".replace("-", "−") if abs(value) >= 0.5 else "0"


def _said(told: RehearsalFigures, axis: Axis, tightest: float) -> tuple[str, tuple[str, ...]]:
    if told.ended != "done":
        return f"No: it ends after {digits(told.seconds, 2)} s, {told.ended}", (
            _OVER if told.trip == OVER_VOLTAGE.number else
            "What came before is shown. Ask for less, or look at the load.",)  # fmt: skip
    current, most = told.peak_current / axis.peak, axis.machine.max_temperature
    where = f"at {tightest:.3g} s"
    room = (
        f"Most of all {where}: {100 * current:.0f} % of the peak current, "
        f"{100 * told.voltage:.0f} % of the bus."
    )
    if most is not None and told.winding > most.value:
        grows = "hotter and hotter" if math.isinf(told.winding) else f"to {told.winding:.0f} °C"
        return f"Repeated, it warms the winding {grows}; it may reach {most.value:.0f}", (room,)
    if told.saturated > 0.0:
        share = digits(100.0 * told.saturated, 2)
        return f"The voltage is at its limit for {share} % of the time", (room,)
    if told.voltage >= _TIGHT:
        return f"The voltage is all but at its limit {where}", (room,)
    if current >= _TIGHT:
        return f"The current is at its limit {where}", (room,)
    if not math.isnan(told.following_peak):
        behind = digits(math.degrees(told.following_peak), 2)
        return f"It gets there, {behind}° behind at most", (room,)
    return "It follows, with room left", (room,)


@dataclass(frozen=True, slots=True, kw_only=True)
class Varied:
    """A scenario on machines within the uncertainty of the estimates."""

    count: int
    done: int
    middle: float  # of the figure
    low: float  # nine in ten lie between
    high: float
    figure: str  # its name on screen
    unit: str
    moved: tuple[tuple[str, float, float, float], ...]  # name, ± (ratio), low, high or NaN
    shares: str  # what makes its scatter; empty: too few machines tell it
    holding: Holding | None  # of the speed loop's margin; None: it has none
    picture: RehearsePicture  # of the machine as it is believed
    spread: Spread  # how far the courses reach
    gentler: float | None  # share of the accelerations with which none falls out; None: not found

    @property
    def sentence(self) -> str:
        """The answer of the study."""
        out = len(self.spread.out)
        if not out:
            return f"All {self.count} machines come to the end"
        why = "do not come to the end" if self.done < self.count else "fall behind"
        if 0 < self.count - self.done < out:
            why = "fall behind or do not come to the end"
        return f"{out} of {self.count} machines {why}"

    @property
    def helps(self) -> str:
        """What would have all of them follow; empty where it is not known, or not needed."""
        if not self.spread.out:
            return ""
        if self.gentler is not None:
            return f"With {self.gentler:g} of the acceleration all of them follow."
        smaller = self.holding is not None and self.holding.gains is not None
        return "Smaller gains of the speed loop would hold: see Uncertainty." if smaller else ""


def varied(
    scenario: Scenario, axis: Axis, many: int, *, progress: Progress | None = None,
    cancel: Cancel | None = None, bridge: Modulation = Modulation.AVERAGED,
) -> Varied:  # fmt: skip
    """Return what many machines come to, and what moves it. Work for a job."""
    known, gathering = tolerances(axis), Gathering()
    believed = simulated(scenario, axis, bridge=bridge, cancel=cancel)
    share = many / (many + 2 * len(known))
    made = study(scenario, axis, many, progress=_part(progress, 0.0, share), cancel=cancel,
                 bridge=bridge, seen=gathering.take)  # fmt: skip
    spread, gentler = gathering.spread(scenario, axis), None
    if spread.out and 0 not in spread.out:
        plants = plants_of(axis, made.factors[list(spread.out)])
        gentler = remedy(scenario, axis, plants, bridge=bridge, cancel=cancel)
    positioned = scenario.control is Control.POSITION
    name, scale = ("following_peak", 180.0 / math.pi) if positioned else ("peak_current", 1.0)
    low, middle, high = (scale * float(x) for x in made.quantiles(name))
    by_name = {one.name: one.std for one in known}
    moved = tornado(scenario, axis, name, progress=_part(progress, share, 1.0), cancel=cancel,
                    bridge=bridge)  # fmt: skip
    return Varied(
        count=many, done=made.done, middle=middle, low=low, high=high,
        figure="Behind, most" if positioned else "Peak current", unit="°" if positioned else "A",
        moved=tuple((m.name, 2.0 * by_name[m.name], scale * m.low, scale * m.high) for m in moved),
        shares=_shares(made, name), holding=_holding(axis, many, cancel), spread=spread,
        gentler=gentler, picture=believed,
    )  # fmt: skip


def _shares(made: Study, name: str) -> str:
    """Return what makes a figure's scatter, in one line; empty where it cannot be told."""
    try:
        return shares(made, name).sentence
    except InputError:
        return ""


def _holding(axis: Axis, many: int, cancel: Cancel | None) -> Holding | None:
    """Return how the speed loop's margin holds; None where there is none that could."""
    try:
        return holding(axis, many, cancel=cancel)
    except InputError:
        return None


@dataclass(frozen=True, slots=True, kw_only=True)
class Split:
    """Torque ripple of a scenario, by what makes it."""

    whole: str  # N·m rms
    of_rated: str  # per cent of rated torque
    causes: tuple[tuple[str, float, str], ...]  # name, share of all squares, N·m rms

    @property
    def sentence(self) -> str:
        """What makes most of it."""
        name, share, _ = self.causes[0]
        return f"Most of the torque ripple comes from: {name}, {100 * share:.0f} %"


def split(
    scenario: Scenario, axis: Axis, *, progress: Progress | None = None,
    cancel: Cancel | None = None, bridge: Modulation = Modulation.AVERAGED,
) -> Split:  # fmt: skip
    """Return what makes the torque ripple. Work for a job; errors as `ripple_of`."""
    found = ripple_of(scenario, axis, bridge=bridge, progress=progress, cancel=cancel)
    rated = axis.machine.torque_constant * axis.rated
    return Split(
        whole=digits(found.whole, 2), of_rated=digits(100.0 * found.whole / rated, 2),
        causes=tuple((c.name, found.share(c), digits(c.torque, 2)) for c in found.causes),
    )  # fmt: skip


def _part(progress: Progress | None, begin: float, end: float) -> Progress | None:
    """Return what tells a part's progress as that of the whole."""
    if progress is None:
        return None
    return lambda done, doing: progress(begin + done * (end - begin), doing)


def kept(shown: RehearsePicture, of: str, time: str) -> dict[str, str]:
    """Return what is kept of a rehearsal, for the rail; `of` tells of what it is."""
    return {"line": _line(shown.figures), "time": time, "of": of, "ended": shown.figures.ended}


def _line(told: RehearsalFigures) -> str:
    if not math.isnan(told.following_peak):
        return f"{digits(math.degrees(told.following_peak), 2)}° behind"
    return f"{digits(told.peak_current, 2)} A at most"


def bus_gives(run: Rehearsal) -> tuple[str, bool]:
    """Return in words what the bus gives to a phase, and whether that moves."""
    if not run.t.size:
        return "", False
    least, most = float(run.limits.min()), float(run.limits.max())
    if most - least < _MOVES * most:
        return f"the bus gives {digits(most, 3)} V", False
    return f"dashed: the bus gives {least:.0f} to {most:.0f} V", True
