"""One axis as frozen data: machine, inverter, what the loops are asked for, gains in use.

A change is a new `Axis`. Nothing here reads files, talks to a drive or knows a screen.
"""

import math
from dataclasses import dataclass, field, fields, replace

from oarlock.machine.current_loop import DEFAULT as DEFAULT_TARGET
from oarlock.machine.current_loop import KEY as CURRENT_KEY
from oarlock.machine.current_loop import CurrentGains, CurrentTarget, IntegralRule, VoltageLimit
from oarlock.machine.hashed import hashed_once
from oarlock.machine.loop import Gains, Loops
from oarlock.machine.parameter import Parameter
from oarlock.machine.sensor import Sensor
from oarlock.quantities import Estimate, Origin


@hashed_once
@dataclass(frozen=True, kw_only=True)
class Machine:
    """The motor: star-equivalent phase values, peak currents."""

    pole_pairs: Parameter
    R: Parameter  # ohm
    Ld: Parameter  # H
    Lq: Parameter  # H
    psi: Parameter  # Wb, peak
    rated_current: Parameter  # A, peak
    peak_current: Parameter  # A, peak
    max_speed: Parameter  # rad/s, mechanical
    inertia: Parameter | None = None  # kg m2
    max_voltage: Parameter | None = None  # V, of the bus, that the winding is insulated for
    max_temperature: Parameter | None = None  # °C, that the winding may reach

    @property
    def torque_constant(self) -> float:
        """N·m for each peak ampere of q current, magnet alone."""
        return 1.5 * self.pole_pairs.value * self.psi.value

    @property
    def characteristic_current(self) -> float:
        """A, peak: the short-circuit current at high speed, psi/Ld."""
        return self.psi.value / self.Ld.value

    def torque(self, i_d: float, i_q: float) -> float:
        """N·m at the given dq currents (A, peak)."""
        reluctance = (self.Ld.value - self.Lq.value) * i_d * i_q
        return 1.5 * self.pole_pairs.value * (self.psi.value * i_q + reluctance)


SENSED = 0.9  # of the current sense's full scale: above, its trip has no room
ROOM = 1.3  # of a current that is held, for what is tried above it


@hashed_once
@dataclass(frozen=True, kw_only=True)
class Inverter:
    """The power stage and its current sense."""

    bus_voltage: Parameter  # V
    control_frequency: Parameter  # Hz
    pwm_frequency: Parameter  # Hz
    dead_time: Parameter  # s
    current_full_scale: Parameter  # A, peak
    adc_bits: Parameter
    dead_voltage: Parameter  # V per phase that the dead time costs
    gain_a: Parameter  # relative gain of phase a's current sense; the three add up to 3
    gain_b: Parameter
    delay: Parameter  # s, from a current's sample to the middle of the voltage it leads to
    offset_a: Parameter  # A, what the sense says of no current
    offset_b: Parameter
    offset_c: Parameter
    speed_divider: Parameter  # samples of the current loop for each of the speed loop
    speed_slope: Parameter  # samples over which it is the slope of the angle; below 3: difference
    max_current: Parameter | None = None  # A, peak, that the drive gives; None: what it senses
    steady_current: Parameter | None = None  # A, peak, that it gives for long; None: not said
    max_voltage: Parameter | None = None  # V, of the bus, that the drive bears; None: not said
    max_temperature: Parameter | None = None  # °C, that its power stage may reach
    unsensed: str = ""  # the phase without a sensor, where there are but two
    integral: IntegralRule = IntegralRule.BACKWARD  # of the current controllers
    voltage_limit: VoltageLimit = VoltageLimit.D_FIRST
    bus_compensation: bool = False  # the firmware divides by the bus voltage that it measures

    @property
    def Ts(self) -> float:
        """Sample time of the current loop, s."""
        return 1.0 / self.control_frequency.value

    @property
    def v_max(self) -> float:
        """Largest phase voltage without over-modulation, V peak (space-vector modulation)."""
        return self.bus_voltage.value / math.sqrt(3.0)

    @property
    def current_count(self) -> float:
        """One count of the current sense, A."""
        return float(2.0 * self.current_full_scale.value / 2.0**self.adc_bits.value)

    @property
    def most_current(self) -> float:
        """What the drive gives at most, A peak: its own limit, or nine tenths of what it senses."""
        sensed = SENSED * self.current_full_scale.value
        return min(self.max_current.value, sensed) if self.max_current else sensed

    @property
    def long_current(self) -> float:
        """What the drive gives for long, A peak: less than it gives at most, so that tests fit."""
        room = self.most_current / ROOM
        return min(self.steady_current.value, room) if self.steady_current else room

    @property
    def divider(self) -> int:
        """Samples of the current loop for each of the speed loop."""
        return max(round(self.speed_divider.value), 1)

    @property
    def slope(self) -> int:
        """Samples over which the speed is the slope of the angle; below 3: the plain difference."""
        return round(self.speed_slope.value)


def _unknown(unit: str) -> Parameter:
    return Parameter(printed=Estimate(value=0.0, unit=unit, origin=Origin.ASSUMED))


@hashed_once
@dataclass(frozen=True, kw_only=True)
class Mechanics:
    """What turns besides the inertia: friction, load, and a shaft that twists.

    Zero stands for what is not known, or for a shaft that does not twist.
    """

    viscous: Parameter = field(default_factory=lambda: _unknown("N m s/rad"))
    coulomb: Parameter = field(default_factory=lambda: _unknown("N m"))
    breakaway: Parameter = field(default_factory=lambda: _unknown("N m"))
    load_torque: Parameter = field(default_factory=lambda: _unknown("N m"))  # backward
    load_square: Parameter = field(default_factory=lambda: _unknown("N m s2/rad2"))
    anti_resonance: Parameter = field(default_factory=lambda: _unknown("rad/s"))
    resonance: Parameter = field(default_factory=lambda: _unknown("rad/s"))
    shaft_damping: Parameter = field(default_factory=lambda: _unknown("N m s/rad"))
    max_turns: Parameter | None = None  # that the shaft may turn either way; None: any number


MECHANICS_FOUND = (
    "viscous", "coulomb", "breakaway", "load_torque", "load_square", "anti_resonance", "resonance",
    "shaft_damping",
)  # fmt: skip


@hashed_once
@dataclass(frozen=True, kw_only=True)
class Axis:
    """One machine with its inverter, aims and gains."""

    name: str
    machine: Machine
    inverter: Inverter
    loops: Loops = field(default_factory=Loops)  # what is asked of each, and the gains in use
    sensor: Sensor = field(default_factory=Sensor)
    mechanics: Mechanics = field(default_factory=Mechanics)
    psi_check: Estimate | None = None  # a second constant that says the flux again

    @property
    def peak(self) -> float:
        """Largest current that motor and drive bear, A peak."""
        return min(self.machine.peak_current.value, self.inverter.most_current)

    @property
    def rated_torque(self) -> float | None:
        """Torque (N·m) of the rated current; None: the flux or the pole pairs are not known."""
        known = self.machine.psi.is_known and self.machine.pole_pairs.is_known
        return self.machine.torque_constant * self.rated if known else None

    @property
    def rated(self) -> float:
        """Current that motor and drive bear for long, A peak."""
        return min(self.machine.rated_current.value, self.inverter.long_current)

    @property
    def borne_voltage(self) -> float:
        """What motor and drive bear of the bus, V; infinite where neither says."""
        said = (self.machine.max_voltage, self.inverter.max_voltage)
        return min((one.value for one in said if one is not None), default=math.inf)

    @property
    def top_speed(self) -> float:
        """Fastest that the shaft may turn, rad/s.

        No faster than the magnet may turn with the gates off: what it induces between two phases
        then drives the bus, and motor and drive have to bear that.
        """
        m = self.machine
        if math.isinf(self.borne_voltage) or not (m.psi.is_known and m.pole_pairs.is_known):
            return m.max_speed.value
        induced = math.sqrt(3.0) * m.pole_pairs.value * m.psi.value  # V s/rad
        return min(m.max_speed.value, self.borne_voltage / induced)

    @property
    def target(self) -> CurrentTarget:
        """What is asked of the current loop."""
        found = self.loops[CURRENT_KEY].target
        return found if isinstance(found, CurrentTarget) else DEFAULT_TARGET

    @property
    def gains(self) -> CurrentGains | None:
        """The current loop's gains in use: taken from a design or from a run."""
        found = self.loops[CURRENT_KEY].gains
        return found if isinstance(found, CurrentGains) else None

    def with_target(self, target: CurrentTarget) -> "Axis":
        """Return this axis with something else asked of its current loop."""
        return replace(self, loops=self.loops.with_target(CURRENT_KEY, target))

    def with_gains(self, gains: CurrentGains | None) -> "Axis":
        """Return this axis with other gains of its current loop."""
        return replace(self, loops=self.loops.with_gains(CURRENT_KEY, gains))

    def with_loop_gains(self, key: str, gains: Gains | None) -> "Axis":
        """Return this axis with other gains of one of its loops."""
        return replace(self, loops=self.loops.with_gains(key, gains))

    def parameter(self, path: str) -> Parameter:
        """Return the parameter at `path`, such as `machine.R`."""
        section, name = path.split(".")
        found = getattr(getattr(self, section), name)
        if not isinstance(found, Parameter):
            raise KeyError(path)
        return found

    def optional(self, path: str) -> Parameter | None:
        """Return the parameter at `path`, or None where nothing is known of it."""
        section, name = path.split(".")
        found = getattr(getattr(self, section), name)
        return found if isinstance(found, Parameter) else None

    def with_parameter(self, path: str, parameter: Parameter) -> "Axis":
        """Return this axis with one parameter exchanged."""
        section, name = path.split(".")
        part = replace(getattr(self, section), **{name: parameter})
        return replace(self, **{section: part})

    def is_adopted(self, path: str) -> bool:
        """Return whether a measured value is in use at `path`."""
        old = self.optional(path)
        return old is not None and old.adopted is not None and old.is_known

    def adopted(self) -> dict[str, Estimate]:
        """Return every measured value that is in use, by path."""
        found: dict[str, Estimate] = {}
        for section in ("machine", "inverter", "sensor", "mechanics"):
            part = getattr(self, section)
            for item in fields(part):
                parameter = getattr(part, item.name)
                if isinstance(parameter, Parameter) and parameter.adopted is not None:
                    found[f"{section}.{item.name}"] = parameter.adopted
        return found

    def adopting(self, path: str, found: Estimate) -> "Axis":
        """Return this axis with what was found at `path` in use; the printed entry stays.

        Where nothing was printed, the parameter begins with what was found. What is assumed
        stands in for a printed entry that is missing, and replaces nothing; what was seen roughly
        replaces nothing that is known.
        """
        old = self.optional(path)
        if found.origin is Origin.ROUGH and old is not None and old.is_known:
            return self
        if found.origin is Origin.ASSUMED:
            rough = Parameter(printed=replace(found, source=""))
            return self if old else self.with_parameter(path, rough)
        nothing = Estimate(value=found.value, unit=found.unit, origin=Origin.ASSUMED)
        printed = old.printed if old else nothing
        return self.with_parameter(path, Parameter(printed=printed, adopted=found))


def rests_on(axis: Axis) -> dict[str, float]:
    """Return the numbers that what is worked out of a shaft rests on, by name."""
    J, m = axis.machine.inertia, axis.mechanics
    return {
        "inertia": J.value if J else 0.0,
        "resonance": m.resonance.value,
        "anti_resonance": m.anti_resonance.value,
        "torque_constant": axis.machine.torque_constant,
    }


def derived_dead_voltage(bus: float, dead_time: float, f_pwm: float) -> Parameter:
    """Return the phase voltage that the dead time costs, Vdc·td·fpwm."""
    value = bus * dead_time * f_pwm
    estimate = Estimate(value=value, unit="V", origin=Origin.DERIVED, source="Vdc·td·fpwm")
    return Parameter(printed=estimate)


def rederived(axis: Axis) -> Axis:
    """Return the axis with what follows from bus, dead time and rates worked out again."""
    inv = axis.inverter
    numbers = (p.value for p in (inv.bus_voltage, inv.dead_time, inv.pwm_frequency))
    fresh = derived_dead_voltage(*numbers)
    kept = replace(inv.dead_voltage, printed=fresh.printed)
    late = replace(inv.delay, printed=assumed_delay(inv.Ts).printed)
    axis = axis.with_parameter("inverter.dead_voltage", kept)
    return axis.with_parameter("inverter.delay", late)


def assumed_delay(Ts: float) -> Parameter:
    """Return the delay of an inverter of which none is known, 1.5 samples."""
    estimate = Estimate(value=1.5 * Ts, unit="s", origin=Origin.ASSUMED, source="1.5 Ts")
    return Parameter(printed=estimate)


def concerns(axis: Axis) -> list[str]:
    """Return what looks wrong about the numbers as they stand, one sentence each."""
    m, inv = axis.machine, axis.inverter
    found: list[str] = []
    if not (m.R.is_known and m.Ld.is_known and m.Lq.is_known and m.psi.is_known):
        return found
    if m.Lq.value < 0.98 * m.Ld.value:
        found.append("Lq is below Ld: for magnets inside the rotor it is the other way round")
    if m.rated_current.value > m.peak_current.value:
        found.append("rated current is above peak current: RMS taken for peak?")
    if axis.psi_check and abs(axis.psi_check.value / m.psi.printed.value - 1.0) > 0.05:
        ratio = axis.psi_check.value / m.psi.printed.value
        found.append(
            f"'{axis.psi_check.source}' and '{m.psi.printed.source}' disagree by {ratio:.2f}: "
            "they say the same flux"
        )
    tau = min(m.Ld.value, m.Lq.value) / m.R.value
    if tau < 5.0 * inv.Ts:
        found.append(f"L/R is only {tau / inv.Ts:.1f} samples: control is coarse")
    for path in ("machine.R", "machine.Ld", "machine.Lq"):
        parameter = axis.parameter(path)
        if parameter.adopted:
            found += _slips(path.split(".")[1], parameter)
    return found


# Ratios that a slip of convention leaves between paper and measurement.
RMS = "RMS for peak"
SLIPS = {
    2.0: "line to line",
    0.5: "line to line",
    math.sqrt(3.0): "line to line",
    1.0 / math.sqrt(3.0): "line to line",
    3.0: "delta",
    1.0 / 3.0: "delta",
    math.sqrt(2.0): RMS,
    math.sqrt(0.5): RMS,
}


_UNITS = {
    60.0 / math.tau: "rpm for rad/s",
    10.0: "a factor of ten in the unit",
    100.0: "a factor of a hundred in the unit",
    1000.0: "a factor of a thousand in the unit",
}


def suspected_slip(printed: float, found: float, *, pole_pairs: float = 1.0) -> str:
    """Return the convention that the ratio of two values hints at, or nothing.

    Parameters
    ----------
    pole_pairs : where electrical could be taken for mechanical

    """
    slips = dict(SLIPS)
    for ratio, name in _UNITS.items():
        slips |= {ratio: name, 1.0 / ratio: name}
    for ratio, name in ((pole_pairs, "pole pairs"), (2.0 * pole_pairs, "poles")):
        for way in (ratio, 1.0 / ratio):
            if pole_pairs > 1.0 and way not in slips:
                slips[way] = name
    off, name = min((abs(found / printed / ratio - 1.0), name) for ratio, name in slips.items())
    return name if off < 0.08 else ""


def _slips(symbol: str, parameter: Parameter) -> list[str]:
    if parameter.printed.origin is Origin.ASSUMED:
        return []
    name = suspected_slip(parameter.printed.value, parameter.value)
    ratio = parameter.value / parameter.printed.value
    return [f"{symbol} measures {ratio:.2f} times the printed value: {name}?"] if name else []
