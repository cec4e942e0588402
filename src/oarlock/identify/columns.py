"""What a recording must hold for each experiment, what helps, and what its head must say.

`docs/records.md` tells the same to people; a test holds the two together.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.errors import InputError
from oarlock.identify.readings import ESTIMATORS
from oarlock.machine import Axis
from oarlock.records import Check, Record
from oarlock.records.recording import FROM_FILE

Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Form:
    """One form in which a quantity can be recorded."""

    needs: tuple[str, ...]
    helps: tuple[str, ...] = ()
    settings: tuple[str, ...] = ()  # that must be given with it
    words: str = ""


FORMS: dict[str, tuple[Form, ...]] = {
    "resistance": (
        Form(("t", "id", "iq", "vd", "vq", "id_ref", "theta_e"), ("theta_m",), (),
             "direct current held at several levels in several directions, through an inverter"),
        Form(("i", "vab"), ("t", "temperature"), (),
             "direct current from a supply through two terminals"),
    ),
    "inductance_d": (
        Form(("t", "id", "iq", "vd", "vq", "theta_e"), ("theta_m",), ("segments",),
             "sines of voltage on a held current, as the drive plays them"),
        Form(("t", "i", "vab"), (), ("frequency",),
             "one sine through two terminals, the rotor along d and locked"),
    ),
    "inductance_q": (
        Form(("t", "id", "iq", "vd", "vq", "theta_e"), ("theta_m",), ("segments",),
             "sines of voltage on a held current, as the drive plays them"),
        Form(("t", "i", "vab"), (), ("frequency",),
             "one sine through two terminals, the rotor along q and locked"),
    ),
    "flux": (
        Form(("t", "theta_m", "id", "iq", "vd", "vq", "id_ref"), ("theta_e",), ("speeds",),
             "steady speeds both ways, as the drive plays them"),
        Form(("t", "vab"), ("theta_m", "speed", "temperature"), (),
             "the voltage between two open terminals while the shaft is turned by something else"),
        Form(("t", "va", "vb"), ("vc", "theta_m", "speed", "temperature"), (),
             "the voltages of open phases to the star point or to ground"),
    ),
    "inertia": (
        Form(("t", "theta_m", "iq"), ("id", "speed"), (),
             "speeds up and down both ways, with plateaus"),
        Form(("t", "theta_m", "torque"), ("speed",), (),
             "the same with a torque that was measured"),
        Form(("t", "speed", "iq"), ("id",), (),
             "the same with a measured speed: its integral is the angle"),
    ),
    "resonance": (
        Form(("t", "theta_m", "iq"), ("speed",), ("frequencies",),
             "sines of torque one after another, each stretch apart in time from the next"),
        Form(("t", "speed", "iq"), (), ("frequencies",),
             "the same with a measured speed: its integral is the angle"),
    ),
}  # fmt: skip
_LOST = 0.002  # share of samples that may be missing without a word
_CLIPPED = 0.01


def wanted(quantity: str) -> tuple[str, ...]:
    """Return every channel that a recording of `quantity` can use, the simplest form's first.

    Raises
    ------
    InputError : no such quantity

    """
    _known(quantity)
    simplest = sorted(FORMS[quantity], key=lambda form: len(form.needs))
    names = [c for form in simplest for c in form.needs]
    names += [c for form in simplest for c in form.helps]
    return tuple(dict.fromkeys(names))


def _known(quantity: str) -> None:
    if quantity not in ESTIMATORS:
        raise InputError(f"'{quantity}' is nothing that can be identified", place="--as",
                         remedy=f"Known: {', '.join(ESTIMATORS)}")  # fmt: skip


def form_of(quantity: str, columns: set[str]) -> Form:
    """Return the form that these columns make.

    Raises
    ------
    InputError : they make none; what is missing for the nearest is named

    """
    _known(quantity)
    for form in FORMS[quantity]:
        if set(form.needs) <= columns:
            return form
    nearest = min(FORMS[quantity], key=lambda form: len(set(form.needs) - columns))
    missing = [c for c in nearest.needs if c not in columns]
    raise InputError(f"{quantity} needs {', '.join(missing)}", place="columns",
                     remedy=f"It takes {nearest.words}: {', '.join(nearest.needs)}")  # fmt: skip


def soundness(record: Record, axis: Axis) -> tuple[Check, ...]:
    """Return checks on the recording itself: samples lost, currents clipped, the bus sagging."""
    found: list[Check] = []
    if not record.drive.startswith(FROM_FILE):  # a drive's own recorder leaves gaps on purpose
        return ()
    t = record.columns.get("t")
    if t is not None and t.size > 10:
        steps = np.diff(t)
        step = float(np.median(steps))
        gaps = steps[(steps > 1.5 * step) & (steps < 20.0 * step)]
        lost = float(np.sum(np.round(gaps / step) - 1.0)) / t.size if step > 0.0 else 0.0
        found.append(
            Check(
                name="samples",
                passed=lost <= _LOST,
                sentence=f"{100 * lost:.1f} % of the samples are missing "
                f"({100 * _LOST:.1f} allowed)",
            )
        )
    for name in ("ia", "ib", "ic", "id", "iq", "i"):
        if name in record.columns and record.rows > 50:
            share = _clipped(record[name])
            if share > _CLIPPED:
                found.append(
                    Check(
                        name="clipped",
                        passed=False,
                        sentence=f"{name} stands at its end in {100 * share:.0f} % of the rows "
                        "(1 allowed): the converter is saturated",
                    )
                )
    if "vdc" in record.columns:
        low = float(record["vdc"].min()) / axis.inverter.bus_voltage.value
        found.append(
            Check(
                name="bus",
                passed=low > 0.85,
                sentence=f"The bus stayed above {100 * low:.0f} % of its voltage (85 needed)"
                + ("" if low > 0.85 else ": the supply sags"),
            )
        )
    return tuple(found)


def _clipped(values: Array) -> float:
    """Return the share of rows in which a signal that moves stands still at its very end."""
    span = float(np.ptp(values))
    if span <= 0.0:
        return 0.0
    worst = 0.0
    for end in (float(values.max()), float(values.min())):
        at_end = values == end
        worst = max(worst, float(np.mean(at_end)))
    near = max(float(np.mean(np.abs(values - end) < 0.02 * span))
               for end in (float(values.max()), float(values.min())))  # fmt: skip
    return worst if near < 3.0 * worst else 0.0
