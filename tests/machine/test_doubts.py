"""A digit missing or a unit off is asked about; what machines really have is not."""

from dataclasses import replace

import numpy as np
import pytest
from benchmarks.machines import printed_axis, random_axis

from oarlock.machine import Axis
from oarlock.machine.doubts import _RULES, doubt


def entered(axis: Axis, path: str, ratio: float) -> Axis:
    parameter = axis.parameter(path)
    printed = replace(parameter.printed, value=parameter.printed.value * ratio)
    return axis.with_parameter(path, replace(parameter, printed=printed))


@pytest.mark.parametrize("name", ["winch", "thruster"])
def test_the_demo_is_not_doubted(name: str) -> None:
    axis = printed_axis(name)
    for paths, *_ in _RULES:
        for path in paths:
            assert doubt(axis, path) == ""


def test_real_machines_are_not_doubted() -> None:
    for seed in range(200):
        axis, _ = random_axis(np.random.default_rng(seed))
        for paths, *_ in _RULES:
            for path in paths:
                assert doubt(axis, path) == "", (seed, path)


@pytest.mark.parametrize(
    ("path", "ratio", "words"),
    [
        ("machine.R", 100.0, "of the bus at rated current"),
        ("machine.Ld", 1e-3, "L/R is"),
        ("machine.Lq", 0.3, "times Ld"),
        ("machine.max_speed", 0.02, "back-EMF at top speed"),
        ("machine.psi", 0.1, "short-circuit current"),
        ("machine.peak_current", 0.1, "times rated"),
        ("inverter.current_full_scale", 0.1, "times peak current"),
        ("inverter.control_frequency", 10.0, "PWM frequency"),
        ("inverter.dead_time", 10.0, "of a period"),
        ("inverter.adc_bits", 0.5, "6 bits"),
        ("machine.inertia", 1e3, "to top speed"),
    ],
)
def test_a_slip_is_asked_about(path: str, ratio: float, words: str) -> None:
    axis = entered(printed_axis("winch"), path, ratio)
    assert words in doubt(axis, path)
    assert "is usual" in doubt(axis, path)


# Worked out by hand from the datasheet: 0.82 ohm, 8 and 17 mH, 10.04 A, 320 V, 8 poles, 419 rad/s.
_SEEN = {
    "machine.R": (8e-3 / 0.82, "L/R is {:.3g} s; 5e-05 to 0.2 is usual"),
    "machine.rated_current": (0.82 * 7.1 * 2**0.5 / (320 / 3**0.5),
                              "R takes {:.2g} of the bus at rated current; 0.0002 to 0.6 is usual"),
    "machine.max_speed": (0.15997 * 4 * 418.879 / (320 / 3**0.5),
                          "back-EMF at top speed is {:.2g} of what the bus gives; "
                          "0.12 to 8 is usual"),
    "machine.psi": (0.15997 * 4 * 418.879 / (320 / 3**0.5), "back-EMF"),
    "machine.peak_current": (14.1 / 7.1, "peak current is {:.2g} times rated; 1 to 8 is usual"),
    "inverter.current_full_scale": (40.0 / (14.1 * 2**0.5), "; 1 to 9 is usual"),
    "inverter.dead_time": (1e-6 * 16e3, "the dead time is {:.2g} of a period; 0.0001 to 0.08"),
    "inverter.adc_bits": (12.0, "{:.0f} bits; 8 to 20 is usual"),
    "machine.inertia": (6.9e-3 * 418.879 / (1.5 * 4 * 0.15997 * 7.1 * 2**0.5),
                        "it takes {:.2g} s to top speed; 0.002 to 60 is usual"),
    "sensor.counts": (4096.0, "{:.0f} counts a turn; 16 to 1.67772e+07 is usual"),
}  # fmt: skip
_GROWS = {"machine.R": -1.0, "machine.psi": 1.0}  # with the value; others as the value itself
_BANDS = {
    "machine.R": (50e-6, 0.2), "machine.rated_current": (2e-4, 0.6),
    "machine.max_speed": (0.12, 8.0), "machine.peak_current": (1.0, 8.0),
    "inverter.current_full_scale": (1.0, 9.0), "inverter.dead_time": (1e-4, 0.08),
    "inverter.adc_bits": (8.0, 20.0), "machine.inertia": (2e-3, 60.0),
    "sensor.counts": (16.0, 2.0**24),
}  # fmt: skip


@pytest.mark.parametrize("path", sorted(_BANDS))
@pytest.mark.parametrize("end", [0, 1])
def test_doubt_begins_at_the_end_of_its_band(path: str, end: int) -> None:
    now, words = _SEEN[path]
    wanted = _BANDS[path][end]
    outward = 1.03 if end else 0.97
    for step, doubted in ((outward, True), (1.0 / outward, False)):
        ratio = (wanted * step / now) ** _GROWS.get(path, 1.0)
        if path == "sensor.counts":
            ratio = 4.0 * round(ratio * now / 4.0 + (1.0 if end == int(doubted) else -1.0)) / now
        axis = entered(printed_axis("winch"), path, ratio)
        said = doubt(axis, path)
        mine = words.split("{")[0].split(";")[0].strip()
        assert (mine in said and bool(said)) is doubted or (not doubted and mine not in said), said
        if doubted:
            assert f"{_BANDS[path][0]:g} to {_BANDS[path][1]:g} is usual" in said


@pytest.mark.parametrize(("ratio", "doubted"), [(0.81, False), (0.79, True), (5.9, False),
                                                (6.1, True)])  # fmt: skip
def test_saliency_beyond_its_band(ratio: float, doubted: bool) -> None:
    axis = entered(printed_axis("winch"), "machine.Lq", ratio * 8.0 / 17.0)
    assert ("times Ld; 0.8 to 6" in doubt(axis, "machine.Lq")) is doubted


@pytest.mark.parametrize(("ratio", "doubted"), [(0.31, False), (0.29, True), (39.0, False),
                                                (41.0, True)])  # fmt: skip
def test_a_short_circuit_current_beyond_its_band(ratio: float, doubted: bool) -> None:
    now = 0.15997 / 8e-3 / (7.1 * 2**0.5)
    axis = entered(printed_axis("winch"), "machine.Ld", now / ratio)
    assert ("short-circuit current" in doubt(axis, "machine.psi")) is doubted


@pytest.mark.parametrize(("ratio", "doubted"), [(0.25, False), (0.23, True), (2.0, False),
                                                (2.2, True)])  # fmt: skip
def test_control_beside_the_pwm(ratio: float, doubted: bool) -> None:
    axis = entered(printed_axis("winch"), "inverter.control_frequency", ratio)
    assert ("PWM frequency; 0.24 to 2.1" in doubt(axis, "inverter.control_frequency")) is doubted


def test_counts_come_in_fours() -> None:
    axis = entered(printed_axis("winch"), "sensor.counts", 409.0 / 4096.0)
    assert "fours" in doubt(axis, "sensor.counts")
