"""The firmware's controllers and filters in float32, one rounding after another.

The same order of operations stands in the practice drive and in the C that the handover proof
compiles. Numbers agree to the last bit, states included. Until `warm` has run, the loops run as
plain Python: slower, same bits.
"""

from dataclasses import dataclass
from functools import cache

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
    output, states = np.empty_like(asked), np.empty_like(asked)
    numbers = np.array([kp, ahead, behind, limit, share], dtype=np.float32)
    _current(asked, seen, numbers, output, states)
    return output, states


def _current(asked: Single, seen: Single, numbers: Single, output: Single, states: Single) -> None:
    """Fill in what `run_current` returns; numbers: Kp, ahead, behind, limit, weight."""
    f = np.float32
    kp, ahead, behind, limit, share = numbers
    state = f(0.0)
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


@dataclass(frozen=True, slots=True, kw_only=True)
class Options:
    """What the speed controller may have beside its PI; none of it by default."""

    share: float = 1.0  # by which the speed asked for moves in each sample
    friction: float = 0.0  # A ahead, on the side of the speed that is asked for
    observer: LoadObserver = RESTING


NONE = Options()


def run_lagged(share: float, asked: Single) -> Single:
    """Return the speed asked for (rad/s) as it is taken, moved by a share in each sample."""
    taken = np.empty_like(asked)
    _lagged(np.float32(share), asked, taken)
    return taken


def _lagged(share: np.float32, asked: Single, taken: Single) -> None:
    f = np.float32
    now = f(0.0)
    for k in range(asked.size):
        now = f(now + f(share * f(asked[k] - now)))
        taken[k] = now


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
    f, observer = np.float32, options.observer
    asked = run_lagged(options.share, asked) if options.share < 1.0 else asked
    turning = asked if turning is None else turning
    output, states, loads = np.empty_like(asked), np.empty_like(asked), np.empty_like(asked)
    numbers = np.array([Kp, f(f(Ki) * f(T)), limit, weight, options.friction, observer.step,
                        observer.speed, observer.load], dtype=np.float32)  # fmt: skip
    given = np.stack([asked, ahead, feed, turning, seen])
    _observed(given, numbers, follows, output, states, loads)
    return output, states, loads


def _observed(
    given: Single, numbers: Single, follows: bool, output: Single, states: Single, loads: Single
) -> None:
    """Fill in what `run_observed` returns.

    given : asked, ahead, feed, turning and seen, (5, n); numbers : Kp, Ki T, limit, weight,
    friction, and of the observer step, speed share and load gain
    """
    f = np.float32
    kp, ki_t, most, share, friction, step, k_speed, k_load = numbers
    state = held = followed = carried = f(0.0)
    for k in range(given.shape[1]):
        asked, ahead, feed, turning, seen = given[:, k]
        followed = f(followed + f(step * f(held + carried)))
        missed = f(seen - followed)
        followed = f(followed + f(k_speed * missed))
        carried = f(carried + f(k_load * missed))
        known = f(friction * f(np.sign(turning)))
        added = f(f(feed + known) - carried)
        e = f(f(asked + ahead) - seen)
        push = f(kp * f(f(f(share * asked) + ahead) - seen))
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
    output, ones, twos = np.empty_like(x), np.empty_like(x), np.empty_like(x)
    _sections(np.array(section, dtype=np.float32), x, output, ones, twos)
    return output, ones, twos


def _sections(numbers: Single, x: Single, output: Single, ones: Single, twos: Single) -> None:
    f = np.float32
    b0, b1, b2, a1, a2 = numbers
    one, two = f(0.0), f(0.0)
    for k in range(x.size):
        given = x[k]
        y = f(f(b0 * given) + one)
        one = f(f(f(b1 * given) - f(a1 * y)) + two)
        two = f(f(b2 * given) - f(a2 * y))
        output[k], ones[k], twos[k] = y, one, two


@cache
def warm() -> None:
    """Compile the loops, or load them from the cache: for sequences of a million samples."""
    from oarlock.jit import njit

    for name in ("_current", "_lagged", "_observed", "_sections"):
        globals()[name] = njit()(globals()[name])
