"""Current, voltage and flux of a rehearsal at one moment, in the stator's plane; pure."""

import math
from dataclasses import dataclass

from oarlock.views.rehearsal import RehearsePicture
from oarlock.views.rehearsal_drawn import picked


@dataclass(frozen=True, slots=True, kw_only=True)
class Vectors:
    """What turns, in the rotor frame, and where that frame is; SI."""

    at: float  # s
    theta: float  # rad, electrical, of the d axis from phase a
    volts: complex  # d + jq
    amperes: complex
    flux: complex
    bus: float
    v_max: float
    limit: float  # A


def vectors_at(shown: RehearsePicture, at: float) -> Vectors:
    """Return the vectors at a time of a rehearsal."""
    here, plant = picked(shown, at), shown.run.plant
    current = complex(here["id"], here["iq"])
    return Vectors(
        at=at, theta=math.remainder(plant.pole_pairs * here["position"], math.tau),
        volts=complex(here["vd"], here["vq"]), amperes=current,
        flux=complex(plant.psi + plant.Ld * current.real, plant.Lq * current.imag),
        bus=here["bus"], v_max=here["bus"] / math.sqrt(3.0), limit=shown.limit,
    )  # fmt: skip
