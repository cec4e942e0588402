"""Random axes from 20 uH to 16 mH: what a datasheet would say, and what is really there.

Drawn on their own, not from what any estimator assumes.
"""

import functools
import math
from dataclasses import replace

import numpy as np

from oarlock.demo.project import demo_text
from oarlock.machine import Axis, SensorKind
from oarlock.machine.axis_file import parse_axis
from oarlock.practice.truth import draw
from oarlock.quantities import Origin
from oarlock.simulate.plant_parameters import PlantParameters


@functools.cache
def printed_axis(name: str) -> Axis:
    """Return an axis of the demo as its datasheet prints it, nothing measured."""
    return parse_axis(demo_text(f"{name}.axis.toml"), place=name)


def sensed(axis: Axis, plant: PlantParameters) -> Axis:
    """Return the axis as if sensing were done: what the sensors of `plant` truly are."""
    true = {
        "sensor.side": plant.sensor_side,
        "sensor.zero": plant.zero,
        "sensor.sine_offset": plant.sine_offset,
        "sensor.cosine_offset": plant.cosine_offset,
        "sensor.sine_ratio": plant.sine_gain / plant.cosine_gain,
        "sensor.skew": plant.skew,
        **{f"inverter.offset_{p}": v for p, v in zip("abc", plant.offsets, strict=True)},
    }
    for path, value in true.items():
        old = axis.parameter(path)
        found = replace(old.printed, value=value, std=0.0, origin=Origin.MEASURED)
        axis = axis.with_parameter(path, replace(old, adopted=found))
    kind = SensorKind(plant.sensor)
    counts = replace(
        axis.sensor.counts, adopted=replace(axis.sensor.counts.printed, value=plant.encoder_counts)
    )
    return replace(axis, sensor=replace(axis.sensor, kind=kind, counts=counts))


def the_axis(name: str = "winch", seed: int = 0) -> Axis:
    """Return an axis of the demo, its sensors known as they are in its practice drive."""
    return sensed(printed_axis(name), draw(name, seed))


def random_axis(
    rng: np.random.Generator, *, sensor: str = "encoder", least_saliency: float = 1.0
) -> tuple[Axis, PlantParameters]:
    """Return an axis as printed, and its plant within a tenth of that.

    Halls sit in machines with magnets on the rotor's surface: those are hardly salient.
    """
    Ld = float(np.exp(rng.uniform(math.log(20e-6), math.log(16e-3))))
    most = 1.25 if sensor == "hall" else least_saliency + 0.9
    saliency = float(rng.uniform(least_saliency, most))
    bus = 320.0 if Ld > 1.5e-3 else 48.0
    pairs, top = int(rng.integers(1, 11)), float(rng.uniform(200.0, 450.0))
    psi = 0.85 * bus / math.sqrt(3.0) / (pairs * top)
    rated = float(np.clip(rng.uniform(0.12, 0.5) * psi / (Ld * saliency), 0.8, 120.0))
    Ts = 1.0 / float(rng.choice([16e3, 20e3]))
    R = Ld / float(np.exp(rng.uniform(math.log(12 * Ts), math.log(0.015))))
    R = min(R, 0.12 * bus / math.sqrt(3.0) / rated)
    torque = 1.5 * pairs * psi * rated
    inertia = torque * float(rng.uniform(0.08, 0.6)) / top
    dead = float(rng.uniform(0.2, 0.8)) * R * rated
    full = 2.9 * rated
    count = 2.0 * full / 4096.0
    degree = math.pi / 180.0
    gains = 1.0 + rng.normal(0.0, 0.008, 3)
    coulomb = float(rng.uniform(0.01, 0.06)) * torque
    printed = {key: 1.0 + float(rng.uniform(-0.08, 0.08)) for key in ("R", "Ld", "Lq", "psi")}
    text = _text(
        R=R * printed["R"], Ld=Ld * printed["Ld"], Lq=Ld * saliency * printed["Lq"],
        psi=psi * printed["psi"], pairs=pairs, rated=rated, top=top, inertia=inertia, bus=bus,
        f=1.0 / Ts, dead=dead / bus * Ts, full=full, sensor=sensor,
    )  # fmt: skip
    plant = PlantParameters(
        R=R, Ld=Ld, Lq=Ld * saliency, Lq_saturated=0.75 * Ld * saliency,
        i_saturation=3.0 * rated, psi=psi, pole_pairs=pairs, inertia=inertia,
        viscous=0.03 * torque / top, coulomb=coulomb, brake=0.0, dead_voltage=dead,
        dead_knee=0.04 * rated, bus=bus, bus_ripple=0.004, full_scale=full, adc_bits=12,
        noise=2.0 * count, offsets=_three(rng.normal(0.0, 4.0 * count, 3)), gains=_three(gains),
        encoder_counts=4096, Ts=Ts, theta=float(rng.uniform(0.0, math.tau)),
        Ld_bend=float(rng.uniform(0.08, 0.2)), i_bend=1.6 * rated, stiction=1.15,
        cogging=0.01 * torque, cogging_order=int(rng.choice([6, 12])) * pairs, hand=True,
        sensor=sensor,
        sensor_zero=float(rng.uniform(0.0, math.tau)),
        sensor_side=float(rng.choice([-1.0, 1.0])),
    )  # fmt: skip
    if sensor == "resolver":
        plant = replace(
            plant, sensor_pairs=1, sine_gain=0.8 * float(rng.uniform(0.95, 1.05)),
            sine_offset=float(rng.uniform(-0.02, 0.02)), sensor_noise=6e-4,
            cosine_offset=float(rng.uniform(-0.02, 0.02)), skew=float(rng.uniform(-2, 2)) * degree,
            runout=0.1 * degree / pairs, runout_phase=float(rng.uniform(0.0, math.tau)),
        )  # fmt: skip
    if sensor == "hall":
        edges = tuple(float(edge) for edge in rng.normal(0.0, 2.0 * degree, 6))
        plant = replace(plant, hall_edges=edges, hall_spread=0.4 * degree,
                        hysteresis=0.1 * degree / pairs)  # fmt: skip
    return parse_axis(text, place="random"), plant


def _three(values: "np.typing.NDArray[np.float64]") -> tuple[float, float, float]:
    a, b, c = (float(value) for value in values)
    return a, b, c


def _text(
    *, R: float, Ld: float, Lq: float, psi: float, pairs: int, rated: float, top: float,
    inertia: float, bus: float, f: float, dead: float, full: float, sensor: str,
) -> str:  # fmt: skip
    return f"""
oarlock = 2
name = "random"
[machine]
pole_pairs = {pairs}
resistance = {R!r}
inductance_d = {Ld!r}
inductance_q = {max(Lq, Ld)!r}
flux_linkage = {psi!r}
rated_current = {rated!r}
peak_current = {2.0 * rated!r}
max_speed = {top!r}
inertia = {inertia!r}
[inverter]
bus_voltage = {bus!r}
pwm_frequency = {f!r}
control_frequency = {f!r}
dead_time = {max(dead, 2e-9)!r}
current_full_scale = {full!r}
[sensor]
kind = "{sensor}"
"""
