"""A checked wrapper around the kernel: a drive with its machine, advanced sample by sample."""

import math
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from oarlock.simulate import layout as k
from oarlock.simulate.advance import advance
from oarlock.simulate.plant_parameters import SENSORS, PlantParameters

CHANNELS = k.CHANNELS
MAX_ROWS = 512
CAPACITY = 16384
_LONG_AGO = 1.0  # s: an edge of halls that old says nothing of the speed


Remembered = tuple[NDArray[np.float64], NDArray[np.int64], NDArray[np.float64]]


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
        self.firm[[k.W_WEIGHT, k.W_EVERY, k.W_SHARE]] = 1.0
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
        self._sums = np.zeros(1)
        self._edges = np.zeros((0, k.EDGE_SIZE))
        rows = CAPACITY if plant.switches else 1
        self._reach = np.zeros((rows, k.REACH_SIZE), dtype=np.float32)

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
        self._sums = np.zeros(len(channels))
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
        self._state[[k.SPEED_M, k.HALL_SPEED]] = 0.0
        self._state[k.HALL_AGE] = _LONG_AGO  # where the shaft stands in its sector is not known
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
            self._history, self._columns, self._record, self._sums, self._totals, self._edges,
            self._reach, samples,
        )  # fmt: skip
        if was_running and self.trip == k.TRIP_OSCILLATION:
            self.put_back()

    @property
    def heat(self) -> float:
        """K that the winding is warmer than at the start."""
        return float(self._state[k.HEAT])

    @property
    def resistance(self) -> float:
        """Ohm, of the winding as warm as it is."""
        return self.plant.R * (1.0 + k.COPPER_HEAT * self.heat)

    def load_by(self, torque: float) -> None:
        """Let a torque (N·m) pull the shaft backward from now on."""
        self._plant[k.LOAD] = torque

    def brake_by(self, torque: float) -> None:
        """Have a brake hold the shaft by a torque (N·m) from now on, whatever the plan says."""
        self._plant[k.BRAKE], self._plant[k.BRAKE_STUCK] = torque, float(torque > 0.0)

    def pull_by(self, rows: Sequence[tuple[float, float]]) -> None:
        """Let a torque pull the shaft backward by where it is: rows of rising rad, and N·m."""
        flat = [number for row in rows for number in row]
        self._plant[k.PULL_ROWS] = len(rows)
        self._plant[k.PULLS : k.PULLS + len(flat)] = flat

    def lose_sensor(self, lost: bool) -> None:
        """Have the position sensor's reading stay as it is, or follow the shaft again."""
        self._plant[k.HYSTERESIS] = math.inf if lost else self.plant.hysteresis

    def slip_by(self, angle: float) -> None:
        """Have the position sensor sit turned on its shaft, by an angle (rad) from before."""
        self._plant[k.SENSOR_ZERO] = self.plant.sensor_zero - angle

    def offset_by(self, amperes: float, sensor: int = 0) -> None:
        """Have a current sensor read so much (A) too much, beyond what it did before."""
        self._plant[k.OFFSET_A + sensor] = self.plant.offsets[sensor] + amperes

    def gain_by(self, ratio: float, sensor: int = 0) -> None:
        """Have a current sensor read so many times what it did before."""
        self._plant[k.GAIN_A + sensor] = self.plant.gains[sensor] * ratio

    def open_phase(self, number: int) -> None:
        """Have a phase (0 to 2) of the motor lose its lead; -1: all carry current."""
        self._plant[k.OPEN_PHASE] = float(number)

    def run_out(self, angle: float) -> None:
        """Have the position sensor wobble by an angle (rad) to each side, once a turn."""
        self._plant[k.RUNOUT] = self.plant.runout + angle

    def begin_with(self, speed: float, warmer: float) -> None:
        """Have the shaft turn (rad/s), and the winding warmer (K) than at its resistance.

        Halls have told the firmware already how fast.
        """
        self._state[[k.OMEGA, k.OMEGA_LOAD]] = speed
        if self.plant.sensor == "hall":
            pairs = self.plant.pole_pairs
            self._state[k.HALL_SPEED] = speed * pairs
            self._state[k.HALL_FROM] = self._state[k.THETA_M] * pairs
            self._state[k.HALL_AGE] = 0.0
        self._state[k.HEAT] = warmer

    def feed(self, volts: float) -> None:
        """Have the supply give so many volts from now on."""
        self._plant[k.SAG_AT], self._plant[k.SAG_TO] = 0.0, volts

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
        at = first % CAPACITY
        if at + rows <= CAPACITY:
            return self._record[at : at + rows].copy()
        return self._record[np.arange(first, first + rows) % CAPACITY]

    def mark_edges(self, rows: int) -> None:
        """Write down so many stretches between edges, from now on."""
        self._edges = np.zeros((rows, k.EDGE_SIZE))
        self._meta[k.EDGES] = 0

    @property
    def edges(self) -> NDArray[np.float64]:
        """Stretches of a switching bridge since `mark_edges`, (n, 7).

        Each: s since it was made and the phase currents (A) where it ends, the legs' voltages
        (V, above the lower rail) in it.
        """
        return self._edges[: int(self._meta[k.EDGES])]

    def reach(self, first: int, rows: int) -> NDArray[np.float32]:
        """Return how far a switching bridge drives the currents after each recorded sample.

        (rows, 6): least and most of d and of q, most of the vector's size (A), and the mean square
        of the ripple (A²); of a record without decimation, by the numbers of `window`.
        """
        self.window(first, rows)
        return self._reach[np.arange(first, first + rows) % CAPACITY]

    def remembered(self) -> Remembered:
        """Return the state it is in, to go on from there later; loads and records are not in it."""
        return self._state.copy(), self._meta.copy(), self._history.copy()

    def go_back(self, to: Remembered) -> None:
        """Be as it was when it remembered: of itself, or of one that plays the same plan."""
        self._state[:], self._meta[:], self._history[:] = to

    @property
    def plan(self) -> tuple[NDArray[np.float32], NDArray[np.int64], NDArray[np.float64]]:
        """What it plays: step table, channels that are recorded, lines of a multisine."""
        return self._table[: self._rows], self._columns, self._lines

    @property
    def plant_now(self) -> NDArray[np.float64]:
        """The plant's numbers, with what acts on it from outside; see `layout`."""
        return self._plant

    @property
    def meta(self) -> NDArray[np.int64]:
        """Where it is in its plan; see `layout`."""
        return self._meta

    @property
    def inside(self) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
        """State, last angles, and what the recorder has added up; see `layout`."""
        return self._state, self._history, self._sums

    def set_inside(
        self, state: NDArray[np.float64], history: NDArray[np.float64],
        sums: NDArray[np.float64], meta: NDArray[np.int64],
    ) -> None:  # fmt: skip
        """Go on from there; rows that were recorded meanwhile are not in its record."""
        self._state[:], self._history[:], self._sums[:], self._meta[:] = state, history, sums, meta

    @property
    def totals(self) -> NDArray[np.float64]:
        """Sums over whole rows, (rows, 3 + 7 channels); see `layout`."""
        return self._totals[: int(self._meta[k.SUMMED])]

    @property
    def current(self) -> float:
        """Size of the current vector that really flows, A peak."""
        return float(math.hypot(self._state[k.I_D], self._state[k.I_Q]))

    @property
    def phase_currents(self) -> tuple[float, float, float]:
        """What really flows in each phase, A."""
        at = float(self._state[k.THETA]) * self.plant.pole_pairs
        i_d, i_q = (float(self._state[n]) for n in (k.I_D, k.I_Q))
        turned = [at - n * math.tau / 3.0 for n in range(3)]
        a, b, c = (i_d * math.cos(x) - i_q * math.sin(x) for x in turned)
        return a, b, c

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

    @property
    def burnt(self) -> float:
        """What the brake resistor has taken since the start, J."""
        return float(self._state[k.BURNT])


def simplest() -> DriveModel:
    """Return a drive with a plain machine, to compile with."""
    plant = PlantParameters(
        R=1.0, Ld=1e-3, Lq=1e-3, Lq_saturated=1e-3, i_saturation=10.0, psi=0.01, pole_pairs=1,
        inertia=1e-3, viscous=0.0, coulomb=0.0, brake=0.0, dead_voltage=0.0, dead_knee=1.0,
        bus=10.0, bus_ripple=0.0, full_scale=10.0, adc_bits=12, noise=0.0,
        offsets=(0.0, 0.0, 0.0), gains=(1.0, 1.0, 1.0), encoder_counts=4096, Ts=1e-4,
    )  # fmt: skip
    return DriveModel(plant)


def warm_up() -> None:
    """Compile the kernel, or load it from the cache."""
    simplest().advance(1)
