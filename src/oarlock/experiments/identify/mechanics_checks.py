"""What inertia and friction have to pass: the speed reached, signs, one straight friction, size."""

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from oarlock.experiments.common.checks import against_datasheet, convention
from oarlock.experiments.identify.soundness import is_foreign
from oarlock.machine import Axis
from oarlock.machine.doubts import doubt
from oarlock.quantities import Origin, measured
from oarlock.quantities.display import digits
from oarlock.quantities.kinds import RPM
from oarlock.records import Ask, Check, Record

Array = NDArray[np.float64]


def mechanics_checks(
    record: Record, axis: Axis, found: Array, spread: Array, top: float, wanted: float,
    std: list[float], misfit: Array,
) -> list[Check]:  # fmt: skip
    """Return the checks of a fit.

    Parameters
    ----------
    found, spread : of J, B, Tc, TL and Q, and by how much quicker stretches alone change them
    top, wanted : rad/s, reached and asked for
    std : standard uncertainties of `found`
    misfit : (n,) rpm, what the model leaves of the speed

    """
    J, B, Tc = (float(v) for v in found[:3])
    changed = bent(found, spread, top)
    printed = _printed(axis)
    reached = top / wanted
    rms = float(np.sqrt(np.mean(misfit**2)))
    allowed = max(0.01 * top / RPM, 1.0)
    coupled = printed is not None and 1.5 * printed < J
    return [
        Check(
            code="shaft turned",
            passed=reached > 0.9,
            sentence=f"The shaft reached {100 * reached:.0f} % of the speed asked for (90 needed)"
            + ("" if reached > 0.9 else ": too little torque, or a load"),
            ask=Ask.WEAKER,
        ),
        Check(
            code="signs",
            passed=J > 0.0 and -3.0 * std[1] < B and Tc > -3.0 * std[2],
            sentence="Inertia and friction are above zero"
            if J > 0.0
            else "Inertia comes out negative: is the sensor's direction reversed?",
        ),
        Check(
            code="friction model",
            passed=changed <= 0.10,
            sentence=f"Without the slowest plateaus friction changes by {100 * changed:.0f} % "
            "(10 % allowed)"
            + ("" if changed <= 0.10 else ": no straight line, is it cold or rubbing?"),
        ),
        Check(
            code="residual",
            passed=rms <= allowed,
            sentence=f"Speed lies {digits(rms, 2)} rpm rms about the model "
            f"({digits(allowed, 2)} allowed)",
        ),
        *_inertia_checks(J, printed, axis, coupled=coupled, foreign=is_foreign(record)),
    ]


def bent(found: Array, spread: Array, top: float) -> float:
    """Return the largest change of friction between two fits, over friction at `top` (rad/s)."""
    w = np.linspace(0.0, top, 9)
    powers = np.array([w, np.ones_like(w), w**2])  # of B, Tc, Q
    loss = max(float(np.abs(found[[1, 2, 4]]) @ powers[:, -1]), 1e-12)
    return float(np.abs(spread[[1, 2, 4]] @ powers).max()) / loss


def _printed(axis: Axis) -> float | None:
    """Return the inertia as a datasheet says it; None where nothing was printed."""
    J = axis.machine.inertia
    return J.printed.value if J is not None and J.printed.origin is Origin.DATASHEET else None


def _inertia_checks(
    J: float, printed: float | None, axis: Axis, *, coupled: bool, foreign: bool
) -> list[Check]:
    """Hold an inertia against paper, or where nothing was printed against what can be."""
    if printed is None:
        why = doubt(axis.adopting("machine.inertia", measured(J, None, "kg m2")), "machine.inertia")
        return [
            Check(code="size", passed=not why,
                  sentence=f"With it {why}" if why else "Nothing was printed to hold it against; "
                  "it is a size that this machine can have")
        ]  # fmt: skip
    # A bench may give its current as RMS; a drive of ours does not.
    check = against_datasheet(J, printed, 0.78 if foreign else 0.6, 1.5)
    asked = bool(convention(J, printed))
    if foreign and 0.78 * printed > J and not asked:
        check = replace(check, sentence=f"{check.sentence}: is the current RMS, not peak?")
        asked = True
    if not coupled or asked:
        return [check]
    return [replace(check, sentence=f"{check.sentence}: is a load coupled?")]
