"""A new C header with the gains as float32, names and units in comments."""

import re

from oarlock.handover.patch import code_only
from oarlock.handover.values import HandoverValue, float32_literal, handover_values, symbols_in
from oarlock.machine import Axis
from oarlock.machine.current_loop import CURRENT
from oarlock.machine.speed_loop import SPEED


def header(axis: Axis) -> str:
    """Return the text of a C header for this axis's loops."""
    guard = _guard(axis.name)
    gains = axis.loops[SPEED.key].gains
    speed = gains is not None
    lines = [
        f"/* {'Loops' if speed else 'Current loop'} of the axis '{_safe(axis.name)}'.",
        " *",
        " * Current, each CUR_TS: s += NEWEST*Ki*Ts*e; u = Kp*(WEIGHT*r - y) + s, limited to",
        " * +-CUR_V_MAX; s += (1 - NEWEST)*Ki*Ts*e. Rules: 1 backward, 0 forward, 0.5 trapezoidal.",
        " * Amplitude-invariant dq: peak phase amperes and volts.",
        " * theta_e = pole_pairs * ANGLE_SIDE * theta_sensor - ANGLE_ZERO; a hall state begins,",
        " * turning forward, at HALL_START. Currents: (reading - mid - CUR_OFFSET) * CUR_SCALE.",
        *(_SPEED_WORDS if speed else ()),
        *(words for name, words in _OPTION_WORDS.items() if getattr(gains, name, 0.0) > 0.0),
        " */",
        f"#ifndef {guard}",
        f"#define {guard}",
        "",
    ]
    for value in handover_values(axis):
        literal = float32_literal(value.value)
        lines.append(
            f"#define {value.symbol:<19} {literal:>14}  /* {value.unit}: {value.meaning} */"
        )
    return "\n".join([*lines, "", f"#endif /* {guard} */", ""])


_SPEED_WORDS = (
    " * Speed: s += Ki*Ts*(r - y); u = Kp*(WEIGHT*r - y) + s + ACCELERATION*dr/dt, limited to",
    " * +-SPD_I_MAX, each SPD_TS. Its filters, y = b0*x + s1; s1 = (b1*x - a1*y) + s2;",
    " * s2 = b2*x - a2*y: TORQUE ones of u each CUR_TS, MEASURED ones of the speed each SPD_TS.",
)


# What each option of the speed controller does, where it is in use.
_OPTION_WORDS = {
    "reference": " * Speed asked for, but of a move: r += SHARE*(asked - r).",
    "friction": " * u has FRICTION more where r (of a move: its speed) is above 0, less below.",
    "observer": " * Load: v += STEP*(u1 + l), u1 the last u less its FRICTION; m = y - v;\n"
    " * v += OBSERVER_SPEED*m; l += OBSERVER_LOAD*m; u has l less, before its limit.",
}


def _guard(name: str) -> str:
    """Return the include guard: an identifier of C, whatever the axis is called."""
    plain = re.sub(r"[^A-Za-z0-9]+", "_", name).strip("_").upper() or "AXIS"
    return f"{'AXIS_' if plain[0].isdigit() else ''}{plain}_GAINS_H"


def _safe(name: str) -> str:
    """Return `name` so that it cannot end a comment."""
    return name.replace("*/", "* /").replace("\n", " ")


DEFAULT_MAP = {
    **{
        f"{CURRENT.prefix}_{name.upper()}": f"{CURRENT.key}.{name}"
        for name in CURRENT.gains
        if name not in CURRENT.may_be_missing
    },
    "CUR_TS": "current.Ts",
    "CUR_V_MAX": "current.v_max",
}


def default_map(text: str, values: tuple[HandoverValue, ...]) -> dict[str, str]:
    """Return symbol to key for a header: the gains, and of sensing what the header names.

    Parameters
    ----------
    text : the header as it stands
    values : what there is to hand over

    """
    named = symbols_in(code_only(text))
    more = {v.symbol: v.key for v in values if v.symbol in named and v.symbol not in DEFAULT_MAP}
    return DEFAULT_MAP | more
