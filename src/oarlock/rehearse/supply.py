"""What feeds the drive in a scenario: the `[supply]` table of its file.

    [supply]
    capacitance = "1.5 mF"          # of the link between rectifier and bridge
    resistance = 0.4                # ohm, of the supply: without load it gives the bus's voltage
    brake_from = "390 V"            # a brake resistor is switched on above, off 3 % below
    brake_resistor = 47             # ohm
    takes_back = true               # a battery; without: a rectifier, which takes nothing back

Without the table the bus is as stiff as it is told.
"""

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace

from oarlock.errors import InputError
from oarlock.quantities.kinds import Kind
from oarlock.rehearse.entries import quantity, refuse_unknown
from oarlock.simulate.plant_parameters import PlantParameters

_KEYS = {"capacitance", "resistance", "brake_from", "brake_resistor",
         "takes_back"}  # fmt: skip
_USUAL = 0.1  # ohm
_FARADS = {"F": 1.0, "mF": 1e-3, "uF": 1e-6, "µF": 1e-6}
_LEAST_OHM, _MOST_OHM = 1e-3, 1e5


@dataclass(frozen=True, slots=True, kw_only=True)
class Supply:
    """A supply through a rectifier, its capacitor, and a resistor to brake by."""

    capacitance: float  # F
    resistance: float = _USUAL  # ohm
    brake_from: float = 0.0  # V; 0: no brake resistor
    brake_resistor: float = 0.0  # ohm
    takes_back: bool = False  # as a battery does


def supplied(plant: PlantParameters, supply: Supply | None) -> PlantParameters:
    """Return the plant fed by a supply; as it was without one."""
    if supply is None:
        return plant
    return replace(plant, link=supply.capacitance, feed=supply.resistance,
                   chop_from=supply.brake_from, chop_ohm=supply.brake_resistor,
                   takes_back=supply.takes_back)  # fmt: skip


def supply_of(raw: Mapping[str, object], place: str) -> Supply | None:
    """Return what a scenario is fed by; None where it does not say.

    Raises
    ------
    InputError : an entry without sense, or half of a brake resistor

    """
    if "supply" not in raw:
        return None
    given, place = raw["supply"], f"{place}, supply"
    if not isinstance(given, dict):
        raise InputError("is no table", place=place, remedy="Write [supply]")
    refuse_unknown(given, _KEYS, place)
    brakes = {"brake_from", "brake_resistor"} & given.keys()
    if len(brakes) == 1:
        other = ({"brake_from", "brake_resistor"} - brakes).pop()
        raise InputError(f"{other} is missing", place=place, remedy=f"Add {other} = …")
    return Supply(
        capacitance=_farads(given, place),
        resistance=_ohms(given, "resistance", place) if "resistance" in given else _USUAL,
        brake_from=quantity(given, "brake_from", Kind.VOLTAGE, place) if brakes else 0.0,
        brake_resistor=_ohms(given, "brake_resistor", place) if brakes else 0.0,
        takes_back=_yes(given, "takes_back", place),
    )


def _farads(given: Mapping[str, object], place: str) -> float:
    text = str(given.get("capacitance", "")).split()
    try:
        value = float(text[0]) * _FARADS[text[1]]
        if len(text) == 2 and 1e-6 <= value <= 10.0:
            return value
    except (ValueError, KeyError, IndexError):
        pass
    raise InputError(f"capacitance = {given.get('capacitance', '')!r}", place=place,
                     remedy='Write it as "1.5 mF", from 1 µF to 10 F')  # fmt: skip


def _yes(given: Mapping[str, object], key: str, place: str) -> bool:
    value = given.get(key, False)
    if not isinstance(value, bool):
        raise InputError(f"{key} = {value!r}", place=place, remedy="Write true or false")
    return value


def _ohms(given: Mapping[str, object], key: str, place: str) -> float:
    value = given[key]
    if isinstance(value, bool) or not isinstance(value, int | float) or not (
        math.isfinite(value) and _LEAST_OHM <= value <= _MOST_OHM
    ):  # fmt: skip
        raise InputError(f"{key} = {value!r}", place=place,
                         remedy=f"Write it in ohm: {key} = 47")  # fmt: skip
    return float(value)
