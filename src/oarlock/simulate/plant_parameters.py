"""What a simulated drive and its machine really are, in the kernel's order."""

import math
from dataclasses import dataclass
from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

from oarlock.simulate.layout import PLANT_SIZE, PULL_ROWS

SENSORS = ("none", "encoder", "resolver", "hall")


class Modulation(StrEnum):
    """How the legs share out the voltage; in the kernel's order."""

    AVERAGED = "averaged"
    SPACE_VECTOR = "space vector"
    SINE = "sine"
    DISCONTINUOUS = "discontinuous"


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
    # The bridge: averaged, with `dead_voltage`, or switching, with the dead time itself
    modulation: Modulation = Modulation.AVERAGED
    dead_time: float = 0.0  # s
    halves: int = 2  # half periods of the carrier in each control period
    bus_compensation: bool = False  # duty cycles are shares of the bus as measured
    # What feeds it: a supply, a capacitor, a resistor to brake by
    link: float = 0.0  # F; 0: the bus is as stiff as it is told
    feed: float = 0.1  # ohm
    chop_from: float = 0.0  # V; 0: no brake resistor
    chop_ohm: float = 0.0  # ohm
    takes_back: bool = False  # the supply, as a battery does
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
    def switches(self) -> bool:
        """Whether the bridge is seen edge by edge."""
        return self.modulation is not Modulation.AVERAGED

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
            0.0 if self.switches else self.dead_voltage, self.dead_knee, self.bus,
            self.bus_ripple, count, self.full_scale, self.noise, *self.offsets, *self.gains,
            self.encoder_counts, self.Ts, self.sag_at, self.sag_to, self.Ld_bend, self.i_bend,
            self.stiction, self.coulomb_back,
            self.cogging, self.cogging_order, self.load, self.load_square, self.brake_stuck,
            self.hand, *self.wires, *self.sense, self.open_phase, self.clip_a,
            SENSORS.index(self.sensor), self.sensor_side, self.sensor_zero, self.sensor_pairs,
            self.runout, self.runout_phase, self.hysteresis, self.sine_gain, self.cosine_gain,
            self.sine_offset, self.cosine_offset, self.skew, self.sensor_noise, self.missing,
            self.slip, self.index_wander, self.hall_step, self.hall_stuck, self.hall_short,
            self.hall_spread, *self.hall_edges, self.load_inertia, self.stiffness,
            self.shaft_damping, self.stribeck, self.stribeck_speed, self.backlash, self.across,
            self.iron, self.heating, self.cooling, self.flux_heat, self.output_late,
            list(Modulation).index(self.modulation), self.dead_time, self.halves,
            self.bus_compensation, self.link, self.feed, self.chop_from, self.chop_ohm,
            self.takes_back,
        ]  # fmt: skip
        whole = np.zeros(PLANT_SIZE, dtype=np.float64)
        whole[:PULL_ROWS] = numbers  # as many as lie before what is given by the run
        return whole
