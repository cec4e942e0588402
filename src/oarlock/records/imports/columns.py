"""What a recording must hold for each experiment, what helps, and what its head must say.

`docs/records.md` tells the same to people; a test holds the two together.
"""

from dataclasses import dataclass

from oarlock.errors import InputError


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
        Form(("t", "i", "vab"), ("theta_m",), ("frequency",),
             "one sine through two terminals, the rotor along d and locked"),
    ),
    "inductance_q": (
        Form(("t", "id", "iq", "vd", "vq", "theta_e"), ("theta_m",), ("segments",),
             "sines of voltage on a held current, as the drive plays them"),
        Form(("t", "i", "vab"), ("theta_m",), ("frequency",),
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
    # Whatever was measured, these tell whether the recording can be trusted.
    return tuple(dict.fromkeys((*names, "vdc", "temperature")))


def _known(quantity: str) -> None:
    if quantity not in FORMS:
        raise InputError(f"'{quantity}' is nothing that can be identified", place="--as",
                         remedy=f"Known: {', '.join(FORMS)}")  # fmt: skip


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
