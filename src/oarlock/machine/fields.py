"""The table of an axis's parameters: key in the file, kind, words on screen."""

from dataclasses import dataclass

from oarlock.quantities.kinds import Kind


@dataclass(frozen=True, slots=True, kw_only=True)
class Field:
    """One parameter of the axis as users meet it."""

    path: str  # where it lives in `Axis`
    key: str  # its key in the axis file, in the table of the same section
    kind: Kind
    label: str
    symbol: str = ""
    default: str = ""  # the entry assumed where the file is silent; empty: it must be given
    optional: bool = False


FIELDS: tuple[Field, ...] = (
    Field(path="machine.pole_pairs", key="pole_pairs", kind=Kind.POLE_PAIRS, label="Pole pairs"),
    Field(path="machine.R", key="resistance", kind=Kind.RESISTANCE, label="Resistance", symbol="R"),
    Field(
        path="machine.Ld", key="inductance_d", kind=Kind.INDUCTANCE, label="Inductance", symbol="Ld"
    ),
    Field(
        path="machine.Lq", key="inductance_q", kind=Kind.INDUCTANCE, label="Inductance", symbol="Lq"
    ),
    Field(path="machine.psi", key="flux_linkage", kind=Kind.FLUX, label="Magnet flux", symbol="ψ"),
    Field(
        path="machine.rated_current", key="rated_current", kind=Kind.CURRENT, label="Rated current"
    ),
    Field(path="machine.peak_current", key="peak_current", kind=Kind.CURRENT, label="Peak current"),
    Field(path="machine.max_speed", key="max_speed", kind=Kind.SPEED, label="Top speed"),
    Field(
        path="machine.inertia",
        key="inertia",
        kind=Kind.INERTIA,
        label="Inertia",
        symbol="J",
        optional=True,
    ),
    Field(
        path="machine.max_voltage",
        key="max_voltage",
        kind=Kind.VOLTAGE,
        label="Highest bus, winding",
        optional=True,
    ),
    Field(
        path="machine.max_temperature",
        key="max_temperature",
        kind=Kind.TEMPERATURE,
        label="Hottest winding",
        optional=True,
    ),
    Field(
        path="mechanics.max_turns",
        key="max_turns",
        kind=Kind.TURNS,
        label="Shaft may turn",
        optional=True,
    ),
    Field(path="inverter.bus_voltage", key="bus_voltage", kind=Kind.VOLTAGE, label="Bus voltage"),
    Field(
        path="inverter.control_frequency",
        key="control_frequency",
        kind=Kind.FREQUENCY,
        label="Control frequency",
    ),
    Field(
        path="inverter.pwm_frequency",
        key="pwm_frequency",
        kind=Kind.FREQUENCY,
        label="PWM frequency",
    ),
    Field(
        path="inverter.dead_time",
        key="dead_time",
        kind=Kind.TIME,
        label="Dead time",
        default="1 us",
    ),
    Field(
        path="inverter.current_full_scale",
        key="current_full_scale",
        kind=Kind.FULL_SCALE,
        label="Current full scale",
    ),
    Field(
        path="inverter.max_current",
        key="max_current",
        kind=Kind.CURRENT,
        label="Drive gives at most",
        optional=True,
    ),
    Field(
        path="inverter.steady_current",
        key="steady_current",
        kind=Kind.CURRENT,
        label="Drive gives for long",
        optional=True,
    ),
    Field(
        path="inverter.max_voltage",
        key="max_voltage",
        kind=Kind.VOLTAGE,
        label="Highest bus, drive",
        optional=True,
    ),
    Field(
        path="inverter.max_temperature",
        key="max_temperature",
        kind=Kind.TEMPERATURE,
        label="Hottest power stage",
        optional=True,
    ),
    Field(
        path="inverter.adc_bits",
        key="adc_bits",
        kind=Kind.BITS,
        label="Converter bits",
        default="12",
    ),
    Field(
        path="inverter.speed_divider",
        key="speed_divider",
        kind=Kind.COUNT,
        label="Speed loop each",
        default="10",
    ),
    Field(
        path="inverter.speed_slope",
        key="speed_slope",
        kind=Kind.COUNT,
        label="Speed is slope over",
        default="20",
    ),
    Field(
        path="sensor.counts",
        key="counts",
        kind=Kind.COUNT,
        label="Counts a turn",
        default="4096",
    ),
    Field(
        path="sensor.pairs",
        key="pole_pairs",
        kind=Kind.POLE_PAIRS,
        label="Sensor pole pairs",
        default="1",
    ),
    Field(
        path="sensor.side",
        key="direction",
        kind=Kind.DIRECTION,
        label="Direction",
        default="forward",
    ),
    Field(
        path="sensor.zero",
        key="offset",
        kind=Kind.ANGLE,
        label="Electrical zero",
        default="0 deg",
    ),
)
BY_PATH = {field.path: field for field in FIELDS}
FLUX_KEYS = ("flux_linkage", "voltage_constant", "torque_constant", "speed_constant")
