"""Sentences in the units that were chosen: their speeds and torques are told in them.

A sentence is changed as a whole or not at all. Where any number in it has no unit of its own, or
one that is not known here, it might be a speed or a torque too: then the sentence stays.
"""

import re
from functools import lru_cache

from oarlock.quantities.kinds import RPM
from oarlock.quantities.shown import Shown

_UNITS = (
    "rpm", "N·m", "A", "V", "W", "kW", "J", "Hz", "kHz", "s", "ms", "µs", "min", "°C", "°", "%",
    "K", "Ω", "mΩ", "mH", "µH", "mWb", "dB", "turns", "turn", "rad/s²", "rad/s", "times", "×",
    "points", "of", "machines", "runs", "samples", "kg·m²", "g·m²", "V/A", "counts", "bits",
)  # fmt: skip
_NUMBER = r"[±+−-]?\d+(?:\.\d+)?"
_EACH = re.compile(
    rf"(?<![\w.·])(?P<first>{_NUMBER})(?:(?P<to> to |–|…)(?P<second>{_NUMBER}))?"
    r"(?:(?P<gap> ?)(?P<unit>" + "|".join(sorted(map(re.escape, _UNITS), key=len, reverse=True))
    + r")(?![\w²/·]))?"
)  # fmt: skip


@lru_cache(maxsize=4096)  # a logbook's sentences are told again at each refresh
def retold(text: str, shown: Shown, pole_pairs: float | None, rated: float | None) -> str:
    """Return a sentence with its speeds (rpm) and torques (N·m) in the units that were chosen.

    Parameters
    ----------
    pole_pairs : without them there are no electrical hertz
    rated : N·m, of rated torque; without it there are no per cent of it

    """
    speed, torque = shown.speed_scale(pole_pairs), shown.torque_scale(rated)
    if speed.unit == "rpm" and torque.unit == "N·m":
        return text
    found = list(_EACH.finditer(text))
    if any(one["unit"] is None for one in found):
        return text
    scales = {"rpm": (RPM / speed.per, speed.unit), "N·m": (1.0 / torque.per, torque.unit)}

    def told(one: re.Match[str]) -> str:
        if one["unit"] not in scales:
            return one[0]
        factor, unit = scales[one["unit"]]
        ends = [_times(one[name], factor) for name in ("first", "second") if one[name]]
        return f"{(one['to'] or '').join(ends)} {unit}"

    return _EACH.sub(told, text)


def _times(number: str, factor: float) -> str:
    """Return a number as it is written, times a factor, to as many figures and three at least."""
    sign = number[0] if number[0] in "±+−-" else ""
    plain = number[len(sign) :]
    figures = max(len(plain.replace(".", "").lstrip("0")), 3)
    value = float(plain) * factor
    if value == 0.0:
        return f"{sign}0"
    text = f"{value:.{figures}g}"
    return sign + (f"{value:.0f}" if "e" in text else text)
