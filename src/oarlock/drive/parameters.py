"""What a plan and an axis set in a drive: every parameter of the contract, by its name."""

from oarlock.drive.contract.numbers import CHANNELS
from oarlock.drive.steps import Plan, Section
from oarlock.machine import Axis
from oarlock.machine.current_loop import IntegralRule, VoltageLimit

TORQUE_FILTERS, SPEED_FILTERS = 4, 2
_KINDS = {"none": 0, "encoder": 1, "resolver": 2, "hall": 3}
_RULES = (IntegralRule.BACKWARD, IntegralRule.FORWARD, IntegralRule.TRAPEZOIDAL)
_CIRCLES = (VoltageLimit.D_FIRST, VoltageLimit.IN_PROPORTION)
_PASSES = (1.0, 0.0, 0.0, 0.0, 0.0)


def parameters(plan: Plan, axis: Axis) -> dict[str, float]:
    """Return all that is written before a plan is played."""
    m, inv, limits = axis.machine, axis.inverter, plan.limits
    return {
        **controllers(plan),
        "Current controller.Decoupling": float(plan.decouple),
        "Current controller.Integral rule": float(_RULES.index(inv.integral)),
        "Current controller.Voltage limit": float(_CIRCLES.index(inv.voltage_limit)),
        "Machine.Pole pairs": m.pole_pairs.value,
        "Machine.Ld": m.Ld.value,
        "Machine.Lq": m.Lq.value,
        "Machine.Flux": m.psi.value,
        **sensing(axis),
        "Observer.Bandwidth": plan.observer,
        "Observer.Resistance": m.R.value,
        "Limits.Current": limits.current,
        "Limits.Speed": limits.speed,
        "Limits.Travel": limits.travel,
        "Limits.Time": limits.time,
        "Trip levels.Over-current": min(1.3 * axis.peak, 0.95 * inv.current_full_scale.value),
        "Trip levels.Under-voltage": 0.6 * inv.bus_voltage.value,
        "Trip levels.Oscillation": float(plan.watch),
        "Trip levels.Over-voltage": inv.max_voltage.value if inv.max_voltage else 0.0,
        "Recorder.Decimation": plan.decimation,
        "Recorder.Average": float(plan.average),
        "Recorder.Round": float(plan.round),
        "Recorder.First row": 0,
        "Recorder.Rows": 0,
        "Recorder.Channels": len(plan.channels),
        **{
            f"Recorder.Channel {n}": CHANNELS.index(name) for n, name in enumerate(plan.channels, 1)
        },
    }


def controllers(plan: Plan) -> dict[str, float]:
    """Return what may be changed while the drive runs, and what goes with it."""
    w, x = plan.speed, plan.position
    return {
        **{
            f"Current controller.{item.key.replace('_', ' ')}": item.value
            for item in plan.gains.listed()
            if item.key != "weight"
        },
        "Current controller.Set-point weight": plan.gains.weight,
        "Speed controller.Kp": w.Kp,
        "Speed controller.Ki": w.Ki,
        "Speed controller.Set-point weight": w.weight,
        "Speed controller.Acceleration": w.acceleration,
        "Speed controller.Divider": w.divider,
        "Speed controller.Lag": w.lag,
        "Speed controller.Current limit": w.limit,
        "Speed controller.Anti-windup": float(w.follows),
        "Speed controller.Slope": w.slope,
        "Speed controller.Reference share": w.share,
        "Speed controller.Friction": w.friction,
        **{
            f"Load observer.{name}": value
            for name, value in zip(("Step", "Speed share", "Load gain"), w.observer, strict=True)
        },
        "Position controller.Kp": x.Kp,
        "Position controller.Speed share": x.speed_share,
        "Position controller.Speed limit": x.speed_limit,
        **_filters("Torque", plan.torque_filters, TORQUE_FILTERS),
        **_filters("Speed", plan.speed_filters, SPEED_FILTERS),
    }


def _filters(path: str, sections: tuple[Section, ...], most: int) -> dict[str, float]:
    found: dict[str, float] = {}
    for n in range(most):
        used = n < len(sections)
        found[f"{path} filter {n + 1}.In use"] = float(used)
        numbers = sections[n] if used else _PASSES
        for name, value in zip(("b0", "b1", "b2", "a1", "a2"), numbers, strict=True):
            found[f"{path} filter {n + 1}.{name}"] = value
    return found


def sensing(axis: Axis) -> dict[str, float]:
    """Return what the firmware must know of its sensors."""
    sensor, inv = axis.sensor, axis.inverter
    found = {
        "Position sensor.Kind": float(_KINDS[sensor.kind.value]),
        "Position sensor.Counts": sensor.counts.value,
        "Position sensor.Pole pairs": sensor.pairs.value,
        "Position sensor.Side": sensor.side.value,
        "Position sensor.Zero": sensor.zero.value,
        "Position sensor.Sine offset": sensor.sine_offset.value,
        "Position sensor.Cosine offset": sensor.cosine_offset.value,
        "Position sensor.Sine over cosine": sensor.sine_ratio.value,
        "Position sensor.Skew": sensor.skew.value,
        "Current sense.Offset a": inv.offset_a.value,
        "Current sense.Offset b": inv.offset_b.value,
        "Current sense.Offset c": inv.offset_c.value,
        "Current sense.Unsensed phase": float("abc".index(inv.unsensed) + 1) if inv.unsensed else 0,
    }
    return found | {f"Hall table.State {n}": at for n, at in enumerate(sensor.hall_starts)}
