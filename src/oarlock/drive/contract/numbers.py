"""Numbers of the step table and the recorder: frames, waves, targets, channels, columns."""

from enum import IntEnum

MAX_STEPS = 512
RECORDER_ROWS = 16384  # that any drive has, of 8 channels
MAX_LINES = 64  # of a multisine


class Frame(IntEnum):
    """Which d axis a step's currents and voltages refer to, and who is in charge of iq."""

    ROTOR = 0  # the sensor's
    FIXED = 1  # a fixed electrical angle, or one that turns steadily
    SPEED = 2  # the sensor's, with the speed controller in charge of iq
    VOLTAGE = 3  # as fixed, but voltages without a controller
    OFF = 4  # gates off: nothing but the recorder
    OBSERVED = 5  # the flux observer's, with the speed controller in charge of iq
    CARRIED = 6  # as fixed, but turning on from where the frame of the step before is
    POSITION = 7  # the sensor's, with the position controller in charge of the speed
    PATH = 8  # as position, along a piece of a path instead of a move


class Shape(IntEnum):
    """Shape of what is added to a reference."""

    NONE = 0
    SINE = 1
    SQUARE = 2
    STEP = 3
    NOISE = 4
    CHIRP = 5  # from one frequency to another, by one ratio a second
    LINES = 6  # the multisine that was loaded


class Target(IntEnum):
    """The reference that a wave is added to."""

    NONE = 0
    V_D = 1
    V_Q = 2
    I_D = 3
    I_Q = 4
    TORQUE = 5  # before the filters of the torque path
    SPEED = 6
    LOAD = 7  # torque behind those filters, where a load would act
    POSITION = 8


# Channels of the recorder, in the order of their codes, with their units.
CHANNEL_UNITS = {
    "t": "s", "ia": "A", "ib": "A", "ic": "A", "id": "A", "iq": "A", "vd": "V", "vq": "V",
    "id_ref": "A", "iq_ref": "A", "theta_e": "rad", "theta_m": "rad", "speed": "rad/s",
    "vdc": "V", "counts": "1", "index": "1", "sine": "1", "cosine": "1", "hall": "1",
    "theta_observed": "rad", "speed_ref": "rad/s", "position_ref": "rad", "torque_ref": "A",
    "dtheta": "rad",
}  # fmt: skip
CHANNELS = tuple(CHANNEL_UNITS)

# Columns of one row of the step table: name and meaning.
COLUMNS = {
    "samples": "how long",
    "mode": "see frames",
    "angle": "rad, electrical, of frames 1 and 3",
    "id": "A; V in frame 3",
    "iq": "A, added to what a controller asks for; V in frame 3",
    "wave": "see waves",
    "target": "what the wave is added to",
    "amplitude": "in the target's unit",
    "frequency": "Hz; of a chirp the first, of a multisine the lowest that sounds, of sums the one "
    "they are taken at",
    "phase": "rad; the wave's time starts with the row",
    "record": "1: the recorder runs",
    "speed": "rad/s: mechanical, reference of frames 2 and 5, top speed of a move in 7, at the end "
    "of a piece in 8; electrical, how fast the frame of 1, 3 and 6 turns",
    "release": "1: the holding brake is open while the row lasts",
    "end frequency": "Hz, of a chirp; of a multisine the highest that sounds, 0: all of it",
    "distance": "rad, of a move in frame 7 or a piece of a path in 8, from where the last one "
    "ended; 0 holds",
    "acceleration": "rad/s²: of a move; in frames 2 and 5 of the way to the new speed, 0 at once",
    "jerk time": "s over which the acceleration of a move, or of the way to a speed, builds up",
    "sums": "1: sums over the whole row are kept",
}
# Of each channel in a summed row, after the row's number, its samples and how many were limited.
SUMS = ("first", "sum", "squares", "cosine", "sine", "least", "most")
SUMS_HEAD = ("row", "samples", "limited")
