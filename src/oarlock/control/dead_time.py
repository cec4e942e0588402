"""What dead time does to a loop that is stirred by a small sine of current.

The inverter loses a voltage against the current's sign. About no current a sine meets it as a relay
does, which for the sine itself is a resistor that grows as the amplitude falls (describing
function of a relay with bias; Gelb and Vander Velde, Multiple-Input Describing Functions, 1968,
section 2.3 and 6.2).
"""

import math
from dataclasses import replace

from oarlock.control.current import CurrentLoop
from oarlock.control.speed import SpeedLoop


def along_current(volts: float) -> float:
    """Return the mean over a turn (V) that is lost along the current, of `volts` for each phase."""
    return 4.0 / math.pi * volts


def dead_resistance(volts: float, amperes: float, bias: float) -> float:
    """Return the resistance (ohm) along q that a sine of current meets in the dead time.

    Parameters
    ----------
    volts : V per phase that the dead time costs
    amperes : A, peak, of the sine
    bias : A, about which it swings: beyond the amplitude the sign never turns

    """
    if not abs(bias) < amperes:
        return 0.0
    return 4.0 * along_current(volts) / (math.pi * amperes) * math.sqrt(1.0 - (bias / amperes) ** 2)


def stirred(loop: SpeedLoop, volts: float, amperes: float, bias: float) -> SpeedLoop:
    """Return a speed loop as a sine of current of this size meets it; parameters as above."""
    current = loop.plant.current
    R = current.plant.R + dead_resistance(volts, amperes, bias)
    met = CurrentLoop(replace(current.plant, R=R), current.pi)
    return SpeedLoop(replace(loop.plant, current=met), loop.gains)
