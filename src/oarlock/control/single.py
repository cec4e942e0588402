"""The firmware's controllers and filters in float32, one rounding after another.

The same order of operations stands in the practice drive and, for the current controller, in the
C that the handover proof compiles. Numbers agree to the last bit, states included.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.control.load_observer import RESTING, LoadObserver

Single = NDArray[np.float32]


def run_current(
    Kp: float, Ki: float, Ts: float, u_max: float, asked: Single, seen: Single, *,
    weight: float = 1.0, newest: float = 1.0,
) -> tuple[Single, Single]:  # fmt: skip
    """Return (output, integrator) of a current controller over what is asked and measured.

    The output is limited to ±u_max, and while it is limited the integrator only moves back.

    Parameters
    ----------
    Kp, Ki : V/A and V/(A s), rounded to float32 as the header holds them
    Ts : s
    u_max : V
    asked, seen : A, shape (n,)
    weight : share of `asked` in the proportional part
    newest : share of the newest error that the sum holds: 1 backward, 0 forward, 0.5 trapezoidal

    """
    f = np.float32
    kp, whole, limit, share = f(Kp), f(f(Ki) * f(Ts)), f(u_max), f(weight)
    ahead = f(f(newest) * whole)
    behind = f(whole - ahead)
    state = f(0.0)
    output, states = np.empty_like(asked), np.empty_like(asked)
    for k in range(asked.size):
        e = f(asked[k] - seen[k])
        summed = f(state + f(ahead * e))
        u = f(f(kp * f(f(share * asked[k]) - seen[k])) + summed)
        kept = f(summed + f(behind * e))
        if u > limit:
            u, kept = limit, (state if e > 0 else kept)
        elif u < -limit:
            u, kept = f(-limit), (state if e < 0 else kept)
        state = kept
        output[k], states[k] = u, state
    return output, states


@dataclass(frozen=True, slots=True, kw_only=True)
class Options:
    """What the speed controller may have beside its PI; none of it by default."""

    share: float = 1.0  # by which the speed asked for moves in each sample
    friction: float = 0.0  # A ahead, on the side of the speed that is asked for
    observer: LoadObserver = RESTING


NONE = Options()


def run_lagged(share: float, asked: Single) -> Single:
    """Return the speed asked for (rad/s) as it is taken, moved by a share in each sample."""
    f = np.float32
    taken, now = np.empty_like(asked), f(0.0)
    for k in range(asked.size):
        now = f(now + f(f(share) * f(asked[k] - now)))
        taken[k] = now
    return taken


def run_observed(
    Kp: float, Ki: float, T: float, limit: float, asked: Single, ahead: Single, feed: Single,
    seen: Single, *, weight: float = 1.0, follows: bool = False, options: Options = NONE,
    turning: Single | None = None,
) -> tuple[Single, Single, Single]:  # fmt: skip
    """Return (output, integrator, observed load) of the speed controller over what it is given.

    Parameters
    ----------
    Kp, Ki : A s/rad and A/rad
    T : s, from step to step
    limit : A
    asked, ahead : rad/s, the reference that is weighted and the one that is not, (n,)
    feed : A, added ahead of the limit, (n,)
    seen : rad/s, (n,)
    weight : share of `asked` in the proportional part
    follows : while limited the integrator is set so that the sum meets the limit, instead of
        only moving back
    options : beside the PI
    turning : rad/s, whose side friction has, (n,); None: the speed asked for as it is taken

    """
    f = np.float32
    kp, ki_t, most, share = f(Kp), f(f(Ki) * f(T)), f(limit), f(weight)
    asked = run_lagged(options.share, asked) if options.share < 1.0 else asked
    turning = asked if turning is None else turning
    b, k_speed, k_load = (f(x) for x in (options.observer.step, options.observer.speed,
                                         options.observer.load))  # fmt: skip
    state = held = followed = carried = f(0.0)
    output, states, loads = np.empty_like(asked), np.empty_like(asked), np.empty_like(asked)
    for k in range(asked.size):
        followed = f(followed + f(b * f(held + carried)))
        missed = f(seen[k] - followed)
        followed, carried = f(followed + f(k_speed * missed)), f(carried + f(k_load * missed))
        known = f(f(options.friction) * np.sign(turning[k]))
        added = f(f(feed[k] + known) - carried)
        e = f(f(asked[k] + ahead[k]) - seen[k])
        push = f(kp * f(f(f(share * asked[k]) + ahead[k]) - seen[k]))
        summed = f(state + f(ki_t * e))
        u = f(f(push + summed) + added)
        if not -most <= u <= most:
            high = bool(u > most)
            u = most if high else f(-most)
            if follows:
                summed = f(f(u - push) - added)
            elif (e > 0) if high else (e < 0):
                summed = state
        state, held = summed, f(u - known)
        output[k], states[k], loads[k] = u, state, carried
    return output, states, loads


def run_weighted(
    Kp: float, Ki: float, T: float, limit: float, asked: Single, ahead: Single, feed: Single,
    seen: Single, *, weight: float = 1.0, follows: bool = False,
) -> tuple[Single, Single]:  # fmt: skip
    """Return (output, integrator) of the speed controller without options; see `run_observed`."""
    output, states, _ = run_observed(Kp, Ki, T, limit, asked, ahead, feed, seen, weight=weight,
                                     follows=follows)  # fmt: skip
    return output, states


def run_position(Kp: float, share: float, off: Single, profile: Single) -> tuple[Single, Single]:
    """Return (speed asked for, speed asked ahead) of the position controller.

    Parameters
    ----------
    Kp : 1/s
    share : of the profile's speed that is asked ahead
    off : rad, from the position measured to the one asked for, (n,)
    profile : rad/s, (n,)

    """
    return np.float32(Kp) * off, np.float32(share) * profile


def run_section(section: tuple[float, float, float, float, float], x: Single) -> Single:
    """Return `x` through one second-order section, transposed direct form II.

    Parameters
    ----------
    section : b0, b1, b2, a1, a2 of z⁻¹, rounded to float32 as a drive holds them

    """
    return run_section_states(section, x)[0]


def run_section_states(
    section: tuple[float, float, float, float, float], x: Single
) -> tuple[Single, Single, Single]:
    """Return (output, first state, second state) of `run_section`."""
    f = np.float32
    b0, b1, b2, a1, a2 = (f(c) for c in section)
    one, two = f(0.0), f(0.0)
    output, ones, twos = np.empty_like(x), np.empty_like(x), np.empty_like(x)
    for k, given in enumerate(x):
        y = f(f(b0 * given) + one)
        one = f(f(f(b1 * given) - f(a1 * y)) + two)
        two = f(f(b2 * given) - f(a2 * y))
        output[k], ones[k], twos[k] = y, one, two
    return output, ones, twos
