"""Where each number lies in the arrays that the compiled drive works on.

Plain names instead of objects: compiled code takes arrays. What a parameter is called on the
wire stands in `PLACES`; a test holds it to the contract of the drive.
"""

import math

import numpy as np
from numpy.typing import NDArray

# Arrays that the parts of the kernel share; rows of the step table and the trace are float32.
Numbers = NDArray[np.float64]
Whole = NDArray[np.int64]
Row = NDArray[np.float32]
Single = np.float32

# Plant: indices into `plant` (float64). SI, phase, peak.
(R, LD, LQ, LQ_SATURATED, I_SATURATION, PSI, PAIRS, INERTIA, VISCOUS, COULOMB, BRAKE) = range(11)
(V_DEAD, I_KNEE, BUS, BUS_RIPPLE, COUNT, FULL_SCALE, NOISE) = range(11, 18)
(OFFSET_A, OFFSET_B, OFFSET_C, GAIN_A, GAIN_B, GAIN_C, ENCODER_COUNTS, TS) = range(18, 26)
(SAG_AT, SAG_TO, LD_BEND, I_BEND) = range(26, 30)
# The shaft: static over sliding friction, extra friction backwards, cogging, load.
(STICTION, COULOMB_BACK, COGGING, COGGING_ORDER, LOAD, LOAD_SQUARE, BRAKE_STUCK, HAND) = range(
    30, 38
)
# Wiring: motor phase on each output, output on each current sensor, open phase (-1: none).
(WIRE_A, WIRE_B, WIRE_C, SENSE_A, SENSE_B, SENSE_C, OPEN_PHASE, CLIP_A) = range(38, 46)
# The position sensor and its faults.
(KIND, SENSOR_SIDE, SENSOR_ZERO, SENSOR_PAIRS, RUNOUT, RUNOUT_PHASE, HYSTERESIS) = range(46, 53)
(SINE_GAIN, COSINE_GAIN, SINE_OFFSET, COSINE_OFFSET, SKEW, SENSOR_NOISE) = range(53, 59)
(MISSING, SLIP, INDEX_WANDER, HALL_STEP, HALL_STUCK, HALL_SHORT, HALL_SPREAD) = range(59, 66)
HALL_EDGE = 66  # and five more: rad, electrical, of each hall's rise and fall
# A second mass on a shaft that twists (stiffness 0: one rigid mass); by what share friction is
# higher near standstill, and the speed over which that dies out; the play between the masses.
(LOAD_INERTIA, STIFFNESS, SHAFT_DAMPING, STRIBECK, STRIBECK_SPEED, PLAY) = range(72, 78)
# Beyond the plain machine: saturation across the axes (H/A), iron loss (S beside each winding),
# K for each J of copper loss and 1/s that it cools by, flux lost for each K, periods by which the
# bridge is late.
(CROSS, IRON, HEATING, COOLING, FLUX_HEAT, OUTPUT_LATE) = range(78, 84)
# The bridge: averaged over a period, or how it is modulated; dead time (s), and half periods of
# the carrier in each control period.
(MODULATION, DEAD_TIME, HALVES) = range(84, 87)
# The link between supply and bridge: F (0: a stiff bus), ohm of the supply, V above which a brake
# resistor is switched on (0: there is none), its ohm; 1: the supply takes back, as a battery does.
(LINK, FEED, CHOP_FROM, CHOP_OHM, TAKES_BACK) = range(88, 93)
BUS_MADE_UP = 87  # 1: duty cycles are shares of the bus as measured, else of the nominal one
# A torque by where the shaft is: how many rows; of each its angle (rad) and torque, backward.
PULL_ROWS, PULLS, MOST_PULLS = 93, 94, 64
PLANT_SIZE = PULLS + 2 * MOST_PULLS
AVERAGED, SPACE_VECTOR, SINE_WAVE, DISCONTINUOUS = 0, 1, 2, 3
COPPER_HEAT = 0.00393  # 1/K, of copper's resistance from 20 °C
SENSOR_NONE, SENSOR_ENCODER, SENSOR_RESOLVER, SENSOR_HALL = 0, 1, 2, 3

# Firmware: indices into `firm` (float64 that hold float32 values).
(KP_D, KI_D, KP_Q, KI_Q, KP_W, KI_W, TORQUE_TO_CURRENT, DECOUPLE, F_LD, F_LQ, F_PSI) = range(11)
(TRIP_CURRENT, TRIP_VOLTAGE, MAX_CURRENT, MAX_SPEED, MAX_TRAVEL, MAX_TIME) = range(11, 17)
(DECIMATION, AVERAGE, F_PAIRS, F_OFFSET_A, F_OFFSET_B, F_OFFSET_C, F_UNSENSED) = range(17, 24)
(F_KIND, F_COUNTS, F_SENSOR_PAIRS, F_SIDE, F_ZERO, F_SINE, F_COSINE, F_RATIO, F_SKEW) = range(
    24, 33
)
F_HALL = 33  # and seven more: rad, electrical, where each state begins; below -9: illegal
(F_R, F_OBSERVER) = range(41, 43)
# The speed controller: set-point weight, torque for each rad/s² asked for (A s²/rad), samples
# from step to step, lag of the measured speed (s), limit (A, 0: nine tenths of the experiment's),
# rule while limited, samples of the least-squares slope (below 3: the plain difference).
(W_WEIGHT, W_ACCELERATION, W_EVERY, W_LAG, W_LIMIT, W_HOLD, W_SLOPE) = range(43, 50)
# The position controller: 1/s, share of the speed asked for, limit of its output (rad/s).
(KP_X, X_SPEED, X_LIMIT) = range(50, 53)
WATCH = 53  # 1: trips on a growing oscillation of the torque asked for
RING = 54  # 1: the recorder goes on over its oldest rows
# The current controllers: set-point weight, and how the integral takes the newest error.
C_WEIGHT, C_RULE = 55, 56
RULE_BACKWARD, RULE_FORWARD, RULE_TRAPEZOIDAL = 0, 1, 2
# Second-order sections, five numbers each (b0 b1 b2 a1 a2), and which of them are in use.
TORQUE_SECTIONS, SPEED_SECTIONS = 4, 2
SECTIONS = TORQUE_SECTIONS + SPEED_SECTIONS
SECTION_SIZE = 6  # in use, then the five
# Options of the speed controller: share by which the speed asked for moves in each sample, A ahead
# against friction; of the load observer rad/s that 1 A makes, shares that speed and load take.
(W_SHARE, W_FRICTION, O_STEP, O_SPEED, O_LOAD) = range(57, 62)
TRIP_OVER = 62  # V of the bus, above which it trips; 0: never
C_CIRCLE = 63  # the current controllers' voltage: 0 d first, 1 both shortened in proportion
F_SECTIONS = 64
FIRM_SIZE = F_SECTIONS + SECTIONS * SECTION_SIZE

# Continuous and controller state: indices into `state` (float64).
(I_D, I_Q, OMEGA, THETA, SUM_D, SUM_Q, SUM_W, V_ALPHA, V_BETA, THETA_START, V_BUS) = range(11)
(THETA_M, SPEED_M, SENSOR_AT, COUNTS_AT, INDEX_AT, SINE_AT, COSINE_AT, ROUND_AT) = range(11, 19)
(HALL_AT, HALL_AGE, HALL_FROM, HALL_SPEED, HALL_TURNS, HALL_BEFORE) = range(19, 25)
(FLUX_A, FLUX_B, SEEN_THETA, SEEN_SPEED, U_ALPHA, U_BETA, M_ALPHA, M_BETA) = range(25, 33)
(LATE_ALPHA, LATE_BETA, FRAME_AT, OMEGA_LOAD, TWIST) = range(33, 38)
# The cascade: torque (A) that the speed controller wants, its filtered speed, references.
(PUSH, SPEED_USED, X_REF, W_REF, A_REF, X_FROM, THETA_LAST, W_PLAIN) = range(38, 46)
# K that the winding is warmer than at the start; the current of the iron, in the rotor frame.
(HEAT, CORE_D, CORE_Q) = range(46, 49)
# The watch over the torque asked for: slow mean, half-cycle's peak, the one before, count.
(WATCH_MEAN, WATCH_PEAK, WATCH_BEFORE, WATCH_COUNT, WATCH_AGE, WATCH_LENGTH, WATCH_SIDE) = range(
    49, 56
)
TORQUE = 56  # N·m, of the magnet field, where the last period ended
# A bridge that switches: what each leg is told to be (1: up), s of dead time that it has left, and
# whether the carrier falls.
LEG_UP, LEG_DEAD, FALLING = 57, 60, 63
# The speed asked for, lagged; of the load observer speed, load (A) and the output of before.
(ASKED, O_FOLLOWED, O_CARRIED, O_HELD) = range(64, 68)
X_TO, W_TO = 68, 69  # where a row leads to, and how fast: what a path goes on from
W_FROM = 70
CHOPS, BURNT = 71, 72  # whether the brake resistor is on, J that it has taken
S_SECTIONS = 73  # two numbers for each section
STATE_SIZE = S_SECTIONS + 2 * SECTIONS
HISTORY = 256  # angles kept for the slope
SUBSTEPS = 4  # of the shaft, where it twists

# Discrete state: indices into `meta` (int64).
(RUNNING, ROW, ROW_SAMPLE, TRIP, RECORDED, CLOCK, BIN, EXPERIMENT_CLOCK, SEED) = range(9)
(SUMMED, HISTORY_AT, HISTORY_LENGTH, SINCE, EDGES) = range(9, 14)
META_SIZE = 14

# What one sample has worked out: indices into `work` (float64), made anew each time.
(MA, MB, MC, WAVE_NOW, FRAME, W_E, Y_D, Y_Q, R_D, R_Q, V_D_OUT, V_Q_OUT, BUS_NOW) = range(13)
(CUT, X_ASKED) = range(13, 15)
# Cosine and sine of the frame's angle, and of the rotor's as it really is, electrical.
(FRAME_C, FRAME_S, TRUE_C, TRUE_S) = range(15, 19)
# What is divided once for all samples of a call: 1/A of a count, 1/V of the bus, rad of one of the
# sensor's counts, and how long a period, or a part of it, acts over each inertia, s/(kg m2).
(PER_COUNT, PER_BUS, OF_COUNT, PER_MASS, PER_LOAD) = range(19, 24)
WORK_SIZE = 24

# What one control period of a switching bridge works on: indices into `bridge` (float64).
POLE, EDGE_AT = 0, 3  # V of each leg; s into the half period where it is told to change
# Integrals over the period: of the current's square, of itself, of itself times the share of the
# period that has passed, and of the voltages induced.
(SUM_SQUARE, SUM_ALPHA, SUM_BETA, SUM_T_ALPHA, SUM_T_BETA, SUM_E_D, SUM_E_Q) = range(6, 13)
BRIDGE_SIZE = 13
# A row of `edges`: s, the phase currents where a stretch between two edges ends, the legs' voltages
# in it; and of `reach`, for each recorded sample: how far the currents go in the period after it,
# and the mean square of the ripple.
EDGE_SIZE = 7
(D_LEAST, D_MOST, Q_LEAST, Q_MOST, SIZE_MOST, RIPPLE) = range(6)
REACH_SIZE = 6

# One row of the step table.
(SAMPLES, MODE, ANGLE, REF_D, REF_Q, WAVE, TARGET, AMPLITUDE, FREQUENCY, PHASE, RECORD, REF_W) = (
    range(12)
)
(RELEASE, END_FREQUENCY, DISTANCE, ACCELERATION, JERK_TIME, SUMS) = range(12, 18)
ROW_SIZE = 18
MODE_ROTOR, MODE_FIXED, MODE_SPEED, MODE_VOLTAGE, MODE_OFF, MODE_SENSORLESS = 0, 1, 2, 3, 4, 5
MODE_CARRIED, MODE_POSITION, MODE_PATH = 6, 7, 8
WAVE_NONE, WAVE_SINE, WAVE_SQUARE, WAVE_STEP, WAVE_NOISE, WAVE_CHIRP, WAVE_LINES = range(7)
ON_VD, ON_VQ, ON_ID, ON_IQ, ON_TORQUE, ON_SPEED, ON_LOAD, ON_POSITION = range(1, 9)
# One line of a multisine: Hz, amplitude (unit of the target), rad.
LINE_SIZE = 3
MAX_LINES = 64

# Sums over a row: its number, samples, those with the voltage at its limit; each channel's.
SUMS_HEAD = 3
(SUM_FIRST, SUM_X, SUM_XX, SUM_COS, SUM_SIN, SUM_LEAST, SUM_MOST) = range(7)
SUMS_EACH = 7

TRIP_NONE, TRIP_OVERCURRENT, TRIP_UNDERVOLTAGE, TRIP_HEARTBEAT = 0, 1, 2, 3
TRIP_LIMIT_CURRENT, TRIP_LIMIT_SPEED, TRIP_LIMIT_TRAVEL, TRIP_LIMIT_TIME = 4, 5, 6, 7
TRIP_RECORDER_FULL, TRIP_OSCILLATION, TRIP_OVERVOLTAGE = 8, 9, 10

CHANNELS = (
    "t", "ia", "ib", "ic", "id", "iq", "vd", "vq", "id_ref", "iq_ref", "theta_e", "theta_m",
    "speed", "vdc", "counts", "index", "sine", "cosine", "hall", "theta_observed",
    "speed_ref", "position_ref", "torque_ref", "dtheta",
)  # fmt: skip
# What a drive cannot know, for those who simulate: the shaft's own speed (rad/s), torque (N·m).
INSIDE = ("shaft", "torque")
N_CHANNELS = len(CHANNELS) + len(INSIDE)
HALL_CHANNEL = CHANNELS.index("hall")
TAU = 2.0 * math.pi

# Parameters of the contract by their names there.
PLACES: dict[str, int] = {
    "Current controller.Kp d": KP_D, "Current controller.Ki d": KI_D,
    "Current controller.Kp q": KP_Q, "Current controller.Ki q": KI_Q,
    "Current controller.Decoupling": DECOUPLE,
    "Current controller.Set-point weight": C_WEIGHT,
    "Current controller.Integral rule": C_RULE, "Current controller.Voltage limit": C_CIRCLE,
    "Speed controller.Kp": KP_W, "Speed controller.Ki": KI_W,
    "Speed controller.Set-point weight": W_WEIGHT,
    "Speed controller.Acceleration": W_ACCELERATION, "Speed controller.Divider": W_EVERY,
    "Speed controller.Lag": W_LAG, "Speed controller.Current limit": W_LIMIT,
    "Speed controller.Anti-windup": W_HOLD, "Speed controller.Slope": W_SLOPE,
    "Speed controller.Reference share": W_SHARE, "Speed controller.Friction": W_FRICTION,
    "Load observer.Step": O_STEP, "Load observer.Speed share": O_SPEED,
    "Load observer.Load gain": O_LOAD,
    "Position controller.Kp": KP_X, "Position controller.Speed share": X_SPEED,
    "Position controller.Speed limit": X_LIMIT,
    "Machine.Pole pairs": F_PAIRS, "Machine.Ld": F_LD, "Machine.Lq": F_LQ, "Machine.Flux": F_PSI,
    "Position sensor.Kind": F_KIND, "Position sensor.Counts": F_COUNTS,
    "Position sensor.Pole pairs": F_SENSOR_PAIRS, "Position sensor.Side": F_SIDE,
    "Position sensor.Zero": F_ZERO, "Position sensor.Sine offset": F_SINE,
    "Position sensor.Cosine offset": F_COSINE, "Position sensor.Sine over cosine": F_RATIO,
    "Position sensor.Skew": F_SKEW,
    **{f"Hall table.State {n}": F_HALL + n for n in range(8)},
    "Observer.Bandwidth": F_OBSERVER, "Observer.Resistance": F_R,
    "Current sense.Offset a": F_OFFSET_A, "Current sense.Offset b": F_OFFSET_B,
    "Current sense.Offset c": F_OFFSET_C, "Current sense.Unsensed phase": F_UNSENSED,
    "Limits.Current": MAX_CURRENT, "Limits.Speed": MAX_SPEED, "Limits.Travel": MAX_TRAVEL,
    "Limits.Time": MAX_TIME,
    "Trip levels.Over-current": TRIP_CURRENT, "Trip levels.Under-voltage": TRIP_VOLTAGE,
    "Trip levels.Oscillation": WATCH, "Trip levels.Over-voltage": TRIP_OVER,
    "Recorder.Decimation": DECIMATION, "Recorder.Average": AVERAGE,
    "Recorder.Round": RING,
    **{
        f"{path} filter {n + 1}.{name}": F_SECTIONS + SECTION_SIZE * (first + n) + place
        for path, first, many in (("Torque", 0, TORQUE_SECTIONS),
                                  ("Speed", TORQUE_SECTIONS, SPEED_SECTIONS))
        for n in range(many)
        for place, name in enumerate(("In use", "b0", "b1", "b2", "a1", "a2"))
    },
}  # fmt: skip
