"""A checked wrapper around the kernel: a drive with its machine, advanced sample by sample."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.simulate import layout as k
from oarlock.simulate.advance import advance

CHANNELS = k.CHANNELS
SENSORS = ("none", "encoder", "resolver", "hall")
MAX_ROWS = 512
CAPACITY = 16384


@dataclass(frozen=True, slots=True, kw_only=True)
class PlantParameters:
    """What is really there; SI, phase, peak."""

    R: float
    Ld: float
    Lq: float  # at zero current
    Lq_saturated: float  # incremental, far beyond saturation
    i_saturation: float  # A, scale of the bend
    psi: float
    pole_pairs: int
    inertia: float
    viscous: float
    coulomb: float
    brake: float  # N·m that the holding brake resists; 0: released
    dead_voltage: float  # V per phase
    dead_knee: float  # A
    bus: float  # V
    bus_ripple: float  # ratio
    full_scale: float  # A
    adc_bits: int
    noise: float  # A rms per phase
    offsets: tuple[float, float, float]  # A
    gains: tuple[float, float, float]  # negative: the sensor sits the other way round
    encoder_counts: int
    Ts: float
    theta: float = 0.0  # rad, where the rotor stands at the start
    sag_at: float = -1.0  # s into an experiment; negative: never
    sag_to: float = 0.0  # V
    Ld_bend: float = 0.0  # share of Ld that saturation takes, far along the magnet
    i_bend: float = 10.0  # A, scale of that
    across: float = 0.0  # H/A: flux along d lost to iq², and twice that along q to id·iq
    iron: float = 0.0  # S beside what a winding's flux induces: iron loss
    heating: float = 0.0  # K of the winding for each J of copper loss
    cooling: float = 0.0  # 1/s
    flux_heat: float = 0.0  # 1/K, share of the flux that is lost as the winding warms
    output_late: float = 0.0  # periods by which the bridge gives its voltage late, beyond one
    # The shaft
    stiction: float = 1.0  # static over sliding friction
    coulomb_back: float = 0.0  # N·m more when turning backward
    cogging: float = 0.0  # N·m
    cogging_order: int = 24  # a turn
    load: float = 0.0  # N·m, backward
    load_square: float = 0.0  # N·m s²/rad², against the motion
    load_inertia: float = 0.0  # kg m², beyond a shaft that twists
    stiffness: float = 0.0  # N·m/rad; 0: one rigid mass
    shaft_damping: float = 0.0  # N·m s/rad
    backlash: float = 0.0  # rad that the shaft turns before it takes the load along
    stribeck: float = 0.0  # share by which friction is higher near standstill
    stribeck_speed: float = 1.0  # rad/s over which that dies out
    brake_stuck: bool = False
    hand: bool = False  # a hand turns the shaft while the gates are off
    # Wiring
    wires: tuple[int, int, int] = (0, 1, 2)  # motor phase on each output
    sense: tuple[int, int, int] = (0, 1, 2)  # output on each current sensor
    open_phase: int = -1
    clip_a: float = math.inf  # A, where the first sensor saturates
    # The position sensor
    sensor: str = "encoder"
    sensor_side: float = 1.0  # -1: it counts the other way
    sensor_zero: float = 0.0  # rad, mechanical, from the magnet's axis
    sensor_pairs: int = 1
    runout: float = 0.0  # rad, mechanical
    runout_phase: float = 0.0  # rad
    hysteresis: float = 0.0  # rad, mechanical, to each side
    sine_gain: float = 0.8  # of the converter's range
    cosine_gain: float = 0.8
    sine_offset: float = 0.0
    cosine_offset: float = 0.0
    skew: float = 0.0  # rad, between sine and cosine beyond 90°
    sensor_noise: float = 0.0  # of the converter's range, rms
    missing: int = 0  # counts that each turn lacks
    slip: float = 0.0  # of the turn, lost by a loose coupling
    index_wander: float = 0.0  # counts rms
    hall_step: float = math.tau / 3.0  # rad, electrical, from one hall to the next
    hall_stuck: int = -1  # line that stays high
    hall_short: bool = False
    hall_spread: float = 0.0  # rad, electrical, from pole pair to pole pair
    hall_edges: tuple[float, ...] = (0.0,) * 6  # rad, electrical, of each hall's rise and fall

    def incremental_Lq(self, i_q: float, i_d: float = 0.0) -> float:
        """H, the slope of flux over current at `i_q`."""
        bend = math.tanh(i_q / self.i_saturation)
        own = self.Lq_saturated + (self.Lq - self.Lq_saturated) * (1.0 - bend * bend)
        return own - 2.0 * self.across * i_d

    def incremental_Ld(self, i_d: float) -> float:
        """H, the slope of flux over current at `i_d`."""
        return self.Ld * (1.0 - self.Ld_bend * math.tanh(i_d / self.i_bend))

    @property
    def total_inertia(self) -> float:
        """Kg m², all that turns."""
        return self.inertia + (self.load_inertia if self.stiffness else 0.0)

    @property
    def anti_resonance(self) -> float:
        """rad/s, where the load swings alone and the motor stands; 0 on a rigid shaft."""
        return math.sqrt(self.stiffness / self.load_inertia) if self.stiffness else 0.0

    @property
    def resonance(self) -> float:
        """rad/s, where both masses swing against one another; 0 on a rigid shaft."""
        if not self.stiffness:
            return 0.0
        return math.sqrt(self.stiffness * (1.0 / self.inertia + 1.0 / self.load_inertia))

    @property
    def zero(self) -> float:
        """Electrical angle (rad) that the firmware must take off, in the true direction."""
        return -self.pole_pairs * self.sensor_zero

    def packed(self) -> NDArray[np.float64]:
        """Return the numbers in the kernel's order."""
        count = 2.0 * self.full_scale / 2.0**self.adc_bits
        numbers = [
            self.R, self.Ld, self.Lq, self.Lq_saturated, self.i_saturation, self.psi,
            self.pole_pairs, self.inertia, self.viscous, self.coulomb, self.brake,
            self.dead_voltage, self.dead_knee, self.bus, self.bus_ripple, count, self.full_scale,
            self.noise, *self.offsets, *self.gains, self.encoder_counts, self.Ts, self.sag_at,
            self.sag_to, self.Ld_bend, self.i_bend, self.stiction, self.coulomb_back,
            self.cogging, self.cogging_order, self.load, self.load_square, self.brake_stuck,
            self.hand, *self.wires, *self.sense, self.open_phase, self.clip_a,
            SENSORS.index(self.sensor), self.sensor_side, self.sensor_zero, self.sensor_pairs,
            self.runout, self.runout_phase, self.hysteresis, self.sine_gain, self.cosine_gain,
            self.sine_offset, self.cosine_offset, self.skew, self.sensor_noise, self.missing,
            self.slip, self.index_wander, self.hall_step, self.hall_stuck, self.hall_short,
            self.hall_spread, *self.hall_edges, self.load_inertia, self.stiffness,
            self.shaft_damping, self.stribeck, self.stribeck_speed, self.backlash, self.across,
            self.iron, self.heating, self.cooling, self.flux_heat, self.output_late,
        ]  # fmt: skip
        return np.array(numbers, dtype=np.float64)


class DriveModel:
    """Plant, inverter and firmware with their state; time passes only in `advance`."""

    def __init__(self, plant: PlantParameters, *, seed: int = 0) -> None:
        self.plant = plant
        self._plant = plant.packed()
        self.firm = np.zeros(k.FIRM_SIZE)
        self.firm[k.DECIMATION] = 1.0
        self.firm[k.C_WEIGHT] = 1.0
        self.firm[k.TRIP_CURRENT] = 0.95 * plant.full_scale
        self.firm[k.MAX_CURRENT : k.MAX_TIME + 1] = 0.0  # nothing is allowed until it is set
        self.firm[k.F_KIND] = SENSORS.index(plant.sensor)
        self.firm[[k.F_SIDE, k.F_RATIO, k.F_PAIRS, k.F_SENSOR_PAIRS]] = 1.0
        self.firm[k.F_COUNTS] = plant.encoder_counts
        self.firm[k.F_HALL : k.F_HALL + 8] = -10.0
        self.firm[[k.W_WEIGHT, k.W_EVERY]] = 1.0
        self.firm[k.W_LAG] = np.float32(0.003)
        self.shadow = self.firm.copy()  # as written; in force after a commit
        self.good = self.firm.copy()  # the set to go back to
        self.commits = self.reverts = 0
        self._table = np.zeros((MAX_ROWS, k.ROW_SIZE), dtype=np.float32)
        self._rows = 0
        self._state = np.zeros(k.STATE_SIZE)
        self._state[k.THETA] = plant.theta
        self._state[k.SENSOR_AT] = plant.sensor_side * (plant.theta - plant.sensor_zero)
        self._state[k.ROUND_AT] = math.floor(self._state[k.SENSOR_AT] / math.tau)
        self._state[k.V_BUS] = plant.bus
        self._meta = np.zeros(k.META_SIZE, dtype=np.int64)
        self._meta[k.SEED] = seed + 1
        self._lines = np.zeros((0, k.LINE_SIZE))
        self._history = np.zeros(k.HISTORY)
        self._totals = np.zeros((0, k.SUMS_HEAD + k.SUMS_EACH))
        self._columns = np.array([0], dtype=np.int64)
        self._record = np.zeros((CAPACITY, 1), dtype=np.float32)
        self._sums = np.zeros(k.N_CHANNELS)

    def propose(self, place: int, value: float) -> None:
        """Take a parameter: at once while nothing runs, else with the next commit."""
        self.shadow[place] = value
        if not self.is_running:
            self.firm[place] = value

    @property
    def pending(self) -> int:
        """How many parameters wait for a commit."""
        return int(np.count_nonzero(self.shadow != self.firm))

    def commit(self) -> None:
        """Take over all that waits, between two samples; what was in force can be had again."""
        self.good[:] = self.firm
        self.firm[:] = self.shadow
        self.commits += 1

    def put_back(self) -> None:
        """Take the last good set again, between two samples."""
        self.firm[:] = self.good
        self.shadow[:] = self.good
        self.reverts += 1

    def load(self, table: NDArray[np.float32], channels: tuple[int, ...]) -> None:
        """Take a step table of shape (rows, 18) and the channels to record and to sum."""
        if table.ndim != 2 or table.shape[1] != k.ROW_SIZE or not 1 <= table.shape[0] <= MAX_ROWS:
            raise ValueError(f"step table of shape {table.shape}")
        if not np.all(np.isfinite(table)):
            raise ValueError("step table with a number that is not finite")
        if not channels or not all(0 <= c < k.N_CHANNELS for c in channels):
            raise ValueError(f"channels {channels}")
        self._rows = table.shape[0]
        self._table[: self._rows] = table
        self._columns = np.array(channels, dtype=np.int64)
        self._record = np.zeros((CAPACITY, len(channels)), dtype=np.float32)
        summed = int(np.count_nonzero(table[:, k.SUMS] > 0.0))
        self._totals = np.zeros((summed, k.SUMS_HEAD + k.SUMS_EACH * len(channels)))

    def load_lines(self, lines: NDArray[np.float64]) -> None:
        """Take the lines of a multisine, (lines, 3): Hz, amplitude, rad."""
        if lines.ndim != 2 or lines.shape[1] != k.LINE_SIZE or lines.shape[0] > k.MAX_LINES:
            raise ValueError(f"multisine of shape {lines.shape}")
        if not np.all(np.isfinite(lines)):
            raise ValueError("multisine with a number that is not finite")
        self._lines = lines.astype(np.float64)

    def start(self) -> None:
        """Begin to play the loaded table from its first row."""
        if not self._rows:
            raise ValueError("no step table was loaded")
        self._meta[[k.ROW, k.ROW_SAMPLE, k.TRIP, k.RECORDED, k.BIN, k.EXPERIMENT_CLOCK]] = 0
        self._meta[k.SUMMED] = 0
        self._totals[:] = 0.0
        self._state[[k.SUM_D, k.SUM_Q, k.SUM_W, k.PUSH]] = 0.0
        self._state[k.X_REF : k.A_REF + 1] = 0.0
        self._state[k.W_PLAIN] = 0.0
        self._state[k.WATCH_MEAN :] = 0.0  # the watch, and what the sections remember
        self._settle_angle()
        self._state[k.THETA_START] = self._state[k.THETA_M]
        self._state[[k.FLUX_A, k.FLUX_B, k.SEEN_THETA, k.SEEN_SPEED]] = 0.0
        self._sums[:] = 0.0
        self._meta[k.RUNNING] = 1
        self.shadow[:] = self.firm
        self.good[:] = self.firm

    def _settle_angle(self) -> None:
        """Let the firmware take its settings up: one period in which nothing else happens."""
        self.advance(1)
        self._state[[k.SPEED_M, k.HALL_SPEED, k.HALL_AGE]] = 0.0
        self._state[k.THETA_LAST] = self._state[k.THETA_M]
        self._meta[[k.HISTORY_LENGTH, k.SINCE]] = 0

    def stop(self, trip: int = k.TRIP_NONE) -> None:
        """De-energise at once; `trip` tells why, where it was not asked for."""
        if self.is_running:
            self._meta[k.RUNNING] = 3 if trip else 0
            self._meta[k.TRIP] = trip

    def clear(self) -> None:
        """Acknowledge a trip or an end."""
        if not self.is_running:
            self._meta[k.RUNNING] = 0
            self._meta[k.TRIP] = k.TRIP_NONE

    def advance(self, samples: int) -> None:
        """Let `samples` control periods pass."""
        was_running = self.is_running
        advance(
            self._plant, self.firm, self._table, self._rows, self._lines, self._state, self._meta,
            self._history, self._columns, self._record, self._sums, self._totals, samples,
        )  # fmt: skip
        if was_running and self.trip == k.TRIP_OSCILLATION:
            self.put_back()

    @property
    def heat(self) -> float:
        """K that the winding is warmer than at the start."""
        return float(self._state[k.HEAT])

    def load_by(self, torque: float) -> None:
        """Let a torque (N·m) pull the shaft backward from now on."""
        self._plant[k.LOAD] = torque

    @property
    def is_running(self) -> bool:
        """Whether the bridge is energised."""
        return bool(self._meta[k.RUNNING] == 1)

    @property
    def state(self) -> int:
        """0 de-energised, 1 running, 2 done, 3 tripped."""
        return int(self._meta[k.RUNNING])

    @property
    def trip(self) -> int:
        """Number of the trip, 0 for none: the kernel's `TRIP_` names."""
        return int(self._meta[k.TRIP])

    @property
    def recorded(self) -> int:
        """Rows recorded so far."""
        return int(self._meta[k.RECORDED])

    @property
    def played(self) -> int:
        """Samples of the experiment played so far."""
        return int(self._meta[k.EXPERIMENT_CLOCK])

    @property
    def clock(self) -> float:
        """Seconds since it was made, whatever it did."""
        return float(self._meta[k.CLOCK]) * self.plant.Ts

    @property
    def trace(self) -> NDArray[np.float32]:
        """What was recorded, (rows, channels); of a recorder that went round, its newest rows."""
        oldest = max(self.recorded - CAPACITY, 0)
        return self.window(oldest, self.recorded - oldest)

    def window(self, first: int, rows: int) -> NDArray[np.float32]:
        """Return rows of the record by their numbers since the start, (rows, channels).

        Raises
        ------
        ValueError : they are not recorded yet, or not any more

        """
        if not max(self.recorded - CAPACITY, 0) <= first <= first + rows <= self.recorded:
            raise ValueError(f"rows {first} to {first + rows}, {self.recorded} were recorded")
        return self._record[np.arange(first, first + rows) % CAPACITY]

    @property
    def totals(self) -> NDArray[np.float64]:
        """Sums over whole rows, (rows, 3 + 7 channels); see `layout`."""
        return self._totals[: int(self._meta[k.SUMMED])]

    @property
    def current(self) -> float:
        """Size of the current vector that really flows, A peak."""
        return float(math.hypot(self._state[k.I_D], self._state[k.I_Q]))

    @property
    def speed(self) -> float:
        """Mechanical rad/s, as the firmware sees it."""
        return float(self._state[k.SPEED_M])

    @property
    def angle(self) -> float:
        """Mechanical rad, as the firmware sees it."""
        return float(self._state[k.THETA_M])

    @property
    def began_at(self) -> float:
        """Mechanical rad where the plan began, as the firmware saw it."""
        return float(self._state[k.THETA_START])

    @property
    def lines(self) -> tuple[float, float]:
        """What the sensor's lines say: sine and cosine, or counts and hall state."""
        if self.plant.sensor == "resolver":
            return float(self._state[k.SINE_AT]), float(self._state[k.COSINE_AT])
        return float(self._state[k.COUNTS_AT]), float(self._state[k.HALL_AT])

    @property
    def bus(self) -> float:
        """Bus voltage, V."""
        return float(self._state[k.V_BUS])


def warm_up() -> None:
    """Compile the kernel, or load it from the cache."""
    plant = PlantParameters(
        R=1.0, Ld=1e-3, Lq=1e-3, Lq_saturated=1e-3, i_saturation=10.0, psi=0.01, pole_pairs=1,
        inertia=1e-3, viscous=0.0, coulomb=0.0, brake=0.0, dead_voltage=0.0, dead_knee=1.0,
        bus=10.0, bus_ripple=0.0, full_scale=10.0, adc_bits=12, noise=0.0,
        offsets=(0.0, 0.0, 0.0), gains=(1.0, 1.0, 1.0), encoder_counts=4096, Ts=1e-4,
    )  # fmt: skip
    DriveModel(plant).advance(1)
