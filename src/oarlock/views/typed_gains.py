"""Gains that are typed as numbers, past every target; and numbers as people type them."""

import math

from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.machine.loop import Gains
from oarlock.machine.loops import spec

BY_HAND = "Gains set by hand or taken from a run; drag to design anew."


def typed(text: str, *units: str) -> float:
    """Return a typed number, its units left out.

    Raises
    ------
    InputError : it is none, or not finite

    """
    cleaned = text.replace("−", "-")
    for unit in units:
        cleaned = cleaned.replace(unit, "")
    try:
        value = float(cleaned.strip())
    except ValueError as error:
        raise InputError(f"'{text}' is not a number") from error
    if not math.isfinite(value):
        raise InputError(f"{text} is not finite")
    return value


def with_gain(axis: Axis, key: str, gains: Gains, name: str, text: str) -> Axis:
    """Return the axis with one gain of a loop as it was typed, the others as they are.

    Raises
    ------
    InputError : not a number that this gain can be

    """
    numbers = {item.key: item.value for item in gains.listed()}
    unit = next(item.unit for item in gains.listed() if item.key == name)
    value, loop = typed(text, *([unit] if unit != "1" else [])), spec(key)
    if not (value >= 0.0 if name in loop.may_be_zero else value > 0.0):
        raise InputError(f"a gain of {text}", remedy="It lies above zero")
    if name == "weight" and value > 1.0:
        raise InputError(f"a weight of {text}", remedy="It lies between 0 and 1")
    try:
        return axis.with_loop_gains(key, loop.make_gains(numbers | {name: value}))
    except ValueError as error:
        raise InputError(str(error), remedy="Change the other one first") from error
