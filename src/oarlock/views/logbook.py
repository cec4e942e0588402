"""The logbook's rows as text."""

import math
from collections.abc import Callable, Mapping

from oarlock.experiments.reading import runs_like
from oarlock.experiments.registry import gives_nothing, tested_by
from oarlock.machine import Axis
from oarlock.machine.current_loop import KEY as CURRENT_KEY
from oarlock.quantities.display import digits, sentence, whole_degrees, with_std
from oarlock.quantities.shown import USUAL, Scale
from oarlock.records import Run
from oarlock.records.quantity import QUANTITIES

COLUMNS = (
    "time",
    "",
    "what was asked",
    "",
    "gave",
    "rise",
    "overshoot",
    "margin",
    "remark",
    "",
    "",
    "",
)


def gave(run: Run) -> str:
    """Return what a run found, or the gains it ran with."""
    if "mechanics.resonance" in run.figures:
        hertz = run.figures["mechanics.resonance"] / math.tau
        return f"**shaft** {hertz:.0f} Hz" if hertz else "**shaft** rigid"
    for quantity in QUANTITIES:
        if quantity.path in run.figures:
            std = run.figures.get("std")
            number, plus, shown = with_std(run.figures[quantity.path], std, quantity.unit)
            return f"**{quantity.symbol}** {number} {shown}" + (f" ± {plus}" if plus else "")
    sensed = _sensed(run)
    if sensed:
        return sensed
    for loop in ("position", "speed"):
        if f"{loop}_crossover" in run.figures and f"{loop}.Kp" in run.gains:
            hertz = run.figures[f"{loop}_crossover"] / math.tau
            return f"**K~p~** {digits(run.gains[f'{loop}.Kp'], 3)}, {digits(hertz, 3)} Hz"
    hertz = run.figures.get("crossover", 0.0) / math.tau
    key = f"{CURRENT_KEY}.Kp_{run.settings.get('axis_name', 'q')}"
    if key in run.gains and "rise" in run.figures:
        return f"**K~p~** {run.gains[key]:.1f}, {hertz:.0f} Hz"
    return "–"


def _sensed(run: Run) -> str:
    """Return what a run of Sensing found, or nothing."""
    if "sensor.zero" in run.figures:
        angle, std = math.degrees(run.figures["sensor.zero"]), math.degrees(run.figures["std"])
        return f"**zero** {angle % 360:.2f}° ± {std:.2f}"
    for name, word in (("inverter.offset_a", "offsets"), ("inverter.gain_a", "gains"),
                       ("sensor.sine_ratio", "ellipse")):  # fmt: skip
        if name in run.figures:
            return f"**{word}**"
    if any(name.startswith("sensor.hall") for name in run.figures):
        return "**hall table**"
    return ""


def cells(
    run: Run, axis: Axis, *, written: bool = True, told: Callable[[str], str] = str,
    speed: Scale = USUAL["rpm"],
) -> tuple[str, ...]:  # fmt: skip
    """Return the row's texts in the order of `COLUMNS`.

    Parameters
    ----------
    told : gives a sentence in the units that were chosen; what the user wrote stays
    speed : that unit of speeds

    """
    f = run.figures
    return (
        run.started[11:16],
        "",
        told(run.title),
        "",
        gave(run),
        sentence(f["rise"], "s") if "rise" in f else "–",
        _peak(f, speed),
        f"{whole_degrees(math.degrees(f['phase_margin']))}°" if "phase_margin" in f else "–",
        run.note or told(run.remark),
        "",
        "",
        action(run, axis) if written else "being written",
    )


def _peak(f: Mapping[str, float], speed: Scale) -> str:
    """Return the overshoot, or how far a load pulled the speed down."""
    if "dip" in f:
        return f"dip {digits(f['dip'] / speed.per, 2)} {speed.unit}"
    if "following" in f:
        return f"lag {digits(math.degrees(f['following']), 2)}°"
    return f"{100 * f['overshoot']:.1f} %" if "overshoot" in f else "–"


def action(run: Run, axis: Axis) -> str:
    """Return what can be done with a run, or how it stands."""
    if run.ended != "done":
        return "ended early"
    if tested_by(run.kind):
        return "in use" if runs_like(run, axis) else "use these gains"
    if gives_nothing(run.kind):
        return "holds" if run.used else "does not hold"
    return "adopted" if run.used else "not adopted"


def summary(runs: tuple[Run, ...]) -> tuple[str, str]:
    """Return how many runs there are and how many are marked."""
    pinned, starred = sum(r.pinned for r in runs), sum(r.starred for r in runs)
    count = f"{len(runs)} run{'s' * (len(runs) != 1)}" if runs else "no runs yet"
    return count, f"{pinned} pinned, {starred} starred"
