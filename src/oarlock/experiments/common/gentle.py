"""Gains for holding a current before anything is known."""

from oarlock.control.current import Plant, pi_for
from oarlock.machine import Axis, CurrentGains


def gentle_gains(axis: Axis, crossover: float) -> CurrentGains:
    """Return gains for holding a current before anything is known.

    Designed on the smaller inductance, so that the true one can only make them slower; the
    integral is four times the cancelling one, so that the dead time's kick dies out soon.

    Parameters
    ----------
    crossover : rad/s

    """
    m = axis.machine
    plant = Plant(R=m.R.value, L=min(m.Ld.value, m.Lq.value), Ts=axis.inverter.Ts)
    pi = pi_for(plant, crossover)
    return CurrentGains(Kp_d=pi.Kp, Ki_d=4.0 * pi.Ki, Kp_q=pi.Kp, Ki_q=4.0 * pi.Ki)
