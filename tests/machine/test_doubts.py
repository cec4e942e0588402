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


def test_counts_come_in_fours() -> None:
    axis = entered(printed_axis("winch"), "sensor.counts", 409.0 / 4096.0)
    assert "fours" in doubt(axis, "sensor.counts")
