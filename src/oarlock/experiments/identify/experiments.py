"""Which experiment identifies a quantity, and what all of them together will move."""

from collections.abc import Callable

from oarlock.experiments.common.announce import announced_together as all_announced
from oarlock.experiments.common.experiment import Experiment
from oarlock.experiments.identify.flux import FluxSpin
from oarlock.experiments.identify.mechanics import SpeedTrapezoids
from oarlock.experiments.identify.resonance import TorqueSines
from oarlock.experiments.identify.standstill import InductanceSine, ResistanceHolds
from oarlock.machine import Axis
from oarlock.records.quantity import KEYS


def experiment_for(quantity: str, *, held: bool = True) -> Experiment:
    """Return the experiment that identifies `quantity`.

    Parameters
    ----------
    held : whether a brake holds the shaft; a free one swings after each change of direction,
        and a held q current would spin it, so that saturation along q is left out

    """
    if quantity == "resistance":
        return ResistanceHolds() if held else ResistanceHolds(turn=0.9)
    if quantity == "inductance_d":
        far = (-0.6, 0.6) if held else ()
        return InductanceSine(axis_name="d", aligned=not held, fast=(0.1, 0.15, 0.2), d_biases=far)
    if quantity == "inductance_q":
        biases = (0.3, 0.6, 0.9) if held else ()
        return InductanceSine(axis_name="q", q_biases=biases, aligned=not held)
    turning: dict[str, Callable[[], Experiment]] = {
        "flux": FluxSpin, "inertia": SpeedTrapezoids, "resonance": TorqueSines,
    }  # fmt: skip
    return turning[quantity]()


def announced_together(axis: Axis, *, held: bool) -> str:
    """Return what will move when all quantities are measured in a row, every try included.

    Raises
    ------
    InputError : one of them cannot be planned

    """
    return all_announced([experiment_for(key, held=held) for key in KEYS], axis)
