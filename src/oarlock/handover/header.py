"""A new C header with the gains as float32, names and units in comments."""

import re

from oarlock.handover.values import float32_literal, handover_values
from oarlock.machine import Axis


def header(axis: Axis) -> str:
    """Return the text of a C header for this axis's current loop."""
    guard = re.sub(r"\W+", "_", axis.name).strip("_").upper() + "_GAINS_H"
    lines = [
        f"/* Current loop of the axis '{_safe(axis.name)}'.",
        " *",
        " * Parallel PI, backward-Euler integral: s += Ki*Ts*e; u = Kp*e + s, limited to",
        " * +-CUR_V_MAX. Amplitude-invariant dq: peak phase amperes and volts.",
        " */",
        f"#ifndef {guard}",
        f"#define {guard}",
        "",
    ]
    for value in handover_values(axis):
        literal = float32_literal(value.value)
        lines.append(
            f"#define {value.symbol:<10} {literal:>14}  /* {value.unit}: {value.meaning} */"
        )
    return "\n".join([*lines, "", f"#endif /* {guard} */", ""])


def _safe(name: str) -> str:
    """Return `name` so that it cannot end a comment."""
    return name.replace("*/", "* /").replace("\n", " ")


DEFAULT_MAP = {
    "CUR_KP_D": "current.Kp_d",
    "CUR_KI_D": "current.Ki_d",
    "CUR_KP_Q": "current.Kp_q",
    "CUR_KI_Q": "current.Ki_q",
    "CUR_TS": "current.Ts",
    "CUR_V_MAX": "current.v_max",
}
