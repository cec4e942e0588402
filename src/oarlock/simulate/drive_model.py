"""A checked wrapper around the kernel: a drive with its machine, advanced sample by sample."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oarlock.simulate import _kernels as k

CHANNELS = k.CHANNELS
STATES = {0: "de-energised", 1: "running", 2: "done", 3: "tripped"}
TRIPS = {
    k.TRIP_NONE: "",
    k.TRIP_OVERCURRENT: "over-current",
    k.TRIP_UNDERVOLTAGE: "under-voltage",
    k.TRIP_HEARTBEAT: "heartbeat lost",
    k.TRIP_LIMIT_CURRENT: "current above the experiment's limit",
    k.TRIP_LIMIT_SPEED: "speed above the experiment's limit",
    k.TRIP_LIMIT_TRAVEL: "travel above the experiment's limit",
    k.TRIP_LIMIT_TIME: "time above the experiment's limit",
    k.TRIP_RECORDER_FULL: "recorder full",
}
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
    gains: tuple[float, float, float]
    encoder_counts: int
    Ts: float
    theta: float = 0.0  # rad, where the rotor stands at the start
    sag_at: float = -1.0  # s into an experiment; negative: never
    sag_to: float = 0.0  # V

    def incremental_Lq(self, i_q: float) -> float:
        """H, the slope of flux over current at `i_q`."""
        bend = math.tanh(i_q / self.i_saturation)
        return self.Lq_saturated + (self.Lq - self.Lq_saturated) * (1.0 - bend * bend)

    def packed(self) -> NDArray[np.float64]:
        """Return the numbers in the kernel's order."""
        count = 2.0 * self.full_scale / 2.0**self.adc_bits
        numbers = [
            self.R, self.Ld, self.Lq, self.Lq_saturated, self.i_saturation, self.psi,
            self.pole_pairs, self.inertia, self.viscous, self.coulomb, self.brake,
            self.dead_voltage, self.dead_knee, self.bus, self.bus_ripple, count, self.full_scale,
            self.noise, *self.offsets, *self.gains, self.encoder_counts, self.Ts, self.sag_at,
            self.sag_to,
        ]  # fmt: skip
        return np.array(numbers, dtype=np.float64)


class DriveModel:
    """Plant, inverter and firmware with their state; time passes only in `advance`."""

    def __init__(self, plant: PlantParameters, *, seed: int = 0) -> None:
        self.plant = plant
        self._plant = plant.packed()
        self.firm = np.zeros(k.FIRM_SIZE)
        self.firm[k.DECIMATION] = 1.0
        self.firm[k.TRIP_CURRENT] = 0.95 * plant.full_scale
        self.firm[k.MAX_CURRENT : k.MAX_TIME + 1] = 0.0  # nothing is allowed until it is set
        self._table = np.zeros((MAX_ROWS, k.ROW_SIZE), dtype=np.float32)
        self._rows = 0
        self._state = np.zeros(k.STATE_SIZE)
        self._state[k.THETA] = plant.theta
        self._state[k.V_BUS] = plant.bus
        self._meta = np.zeros(k.META_SIZE, dtype=np.int64)
        self._meta[k.SEED] = seed + 1
        self._columns = np.array([0], dtype=np.int64)
        self._record = np.zeros((CAPACITY, 1), dtype=np.float32)
        self._sums = np.zeros(k.N_CHANNELS)

    def load(self, table: NDArray[np.float32], channels: tuple[int, ...]) -> None:
        """Take a step table of shape (rows, 12) and the channels to record."""
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

    def start(self) -> None:
        """Begin to play the loaded table from its first row."""
        if not self._rows:
            raise ValueError("no step table was loaded")
        self._meta[[k.ROW, k.ROW_SAMPLE, k.TRIP, k.RECORDED, k.BIN, k.EXPERIMENT_CLOCK]] = 0
        self._state[[k.SUM_D, k.SUM_Q, k.SUM_W]] = 0.0
        self._state[k.THETA_START] = self._state[k.THETA]
        self._sums[:] = 0.0
        self._meta[k.RUNNING] = 1

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
        k.advance(
            self._plant, self.firm, self._table, self._rows, self._state, self._meta,
            self._columns, self._record, self._sums, samples,
        )  # fmt: skip

    @property
    def is_running(self) -> bool:
        """Whether the bridge is energised."""
        return bool(self._meta[k.RUNNING] == 1)

    @property
    def state(self) -> int:
        """A key of `STATES`."""
        return int(self._meta[k.RUNNING])

    @property
    def trip(self) -> int:
        """A key of `TRIPS`."""
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
    def trace(self) -> NDArray[np.float32]:
        """What was recorded, (rows, channels)."""
        return self._record[: self.recorded]

    @property
    def current(self) -> float:
        """Size of the current vector that really flows, A peak."""
        return float(math.hypot(self._state[k.I_D], self._state[k.I_Q]))

    @property
    def speed(self) -> float:
        """Mechanical rad/s."""
        return float(self._state[k.OMEGA])

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
