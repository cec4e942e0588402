"""The firmware's current controller in float32, one rounding after another.

The same order of operations stands in the practice drive and in the C that the handover proof
compiles. Numbers agree to the last bit, the integrator's state included.
"""

import numpy as np
from numpy.typing import NDArray

Single = NDArray[np.float32]


def run_pi(Kp: float, Ki: float, Ts: float, u_max: float, error: Single) -> tuple[Single, Single]:
    """Return (output, integrator) of the PI over a sequence of errors.

    Backward-Euler integral; the output is limited to ±u_max, and while it is limited the
    integrator only moves back.

    Parameters
    ----------
    Kp, Ki : V/A and V/(A s), rounded to float32 as the header holds them
    Ts : s
    u_max : V
    error : A, shape (n,)

    """
    f = np.float32
    kp, ki_ts, limit = f(Kp), f(f(Ki) * f(Ts)), f(u_max)
    state = f(0.0)
    output, states = np.empty_like(error), np.empty_like(error)
    for k, e in enumerate(error):
        summed = f(state + f(ki_ts * e))
        u = f(f(kp * e) + summed)
        if u > limit:
            u, summed = limit, (state if e > 0 else summed)
        elif u < -limit:
            u, summed = f(-limit), (state if e < 0 else summed)
        state = summed
        output[k], states[k] = u, state
    return output, states
