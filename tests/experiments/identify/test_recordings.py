"""Two terminals, open terminals, a measured speed: recordings that no drive made."""

import math
import re
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from benchmarks.machines import sensed

from oarlock.errors import InputError
from oarlock.experiments.identify.estimate import estimate
from oarlock.experiments.identify.evidence import VoltageLine
from oarlock.experiments.identify.mechanics import SpeedTrapezoids
from oarlock.experiments.identify.soundness import soundness
from oarlock.machine import Axis
from oarlock.records import Finding, Record
from oarlock.records.imports.columns import FORMS, form_of
from oarlock.records.imports.recording import CHANNELS
from oarlock.simulate.plant_parameters import PlantParameters
from tests.conftest import play_on_model


def record(experiment: str, settings: Any = None, **columns: Any) -> Record:
    return Record(
        experiment=experiment,
        sample_time=1e-4,
        columns={name: np.asarray(c, dtype=float) for name, c in columns.items()},
        units={name: CHANNELS[name][0] for name in columns},
        settings=settings or {},
        drive="file bench.csv",
    )


def failed(finding: Finding) -> dict[str, str]:
    return {check.code: check.sentence for check in finding.failed}


def emf(psi: float, pairs: int, rpm: float, noise: float = 0.0, scale: float = 1.0) -> Record:
    t = np.arange(0, 0.6, 1e-4)
    speed = rpm * math.tau / 60 * (1 + 0.03 * np.sin(5 * t))
    theta = np.cumsum(speed) * 1e-4
    rng = np.random.default_rng(3)
    v = scale * math.sqrt(3) * psi * pairs * speed * np.cos(pairs * theta)
    v += 0.03 * float(np.abs(v).max()) * np.cos(5 * pairs * theta) + rng.normal(0, noise, t.size)
    return record("flux", t=t, vab=v, theta_m=theta)


def test_open_terminals_tell_the_flux(axis: Axis) -> None:
    finding = estimate(emf(0.155, 4, 700.0, noise=1.0), axis)
    assert finding.holds, finding.failed
    found = finding.estimates["machine.psi"]
    assert abs(found.value / 0.155 - 1.0) < 0.003
    assert abs(found.value - 0.155) < 2.5 * (found.std or 0.0)


def test_slips_of_a_voltage_recording_are_named(axis: Axis) -> None:
    assert "poles" in failed(estimate(emf(0.155, 2, 700.0), axis))["pole pairs"]
    degrees = emf(0.155, 4, 700.0)
    wrong = {**degrees.columns, "theta_m": np.degrees(degrees["theta_m"])}
    assert "degrees" in failed(estimate(replace(degrees, columns=wrong), axis))["pole pairs"]
    phase = estimate(emf(0.155, 4, 700.0, scale=1 / math.sqrt(3)), axis)
    assert "line to line" in failed(phase)["against datasheet"]
    # 20 rpm and four pole pairs are 1.3 periods a second, of which 0.6 s were recorded.
    with pytest.raises(InputError, match="only 0 whole periods of voltage"):
        estimate(emf(0.155, 4, 20.0), axis)
    with pytest.raises(InputError, match="only 1 whole period of voltage"):
        estimate(emf(0.155, 4, 65.0), axis)


def test_direct_current_through_two_terminals(axis: Axis) -> None:
    i = np.linspace(-8, 8, 33)
    v = 2 * 0.862 * i + np.random.default_rng(1).normal(0, 0.004, i.size) + 0.02
    finding = estimate(record("resistance", i=i, vab=v), axis)
    assert finding.holds, finding.failed
    assert finding.estimates["machine.R"].value == pytest.approx(0.862, rel=0.005)
    drawn = finding.evidence
    assert isinstance(drawn, VoltageLine)
    assert drawn.line == pytest.approx(2 * 0.862 * drawn.fit_x, rel=0.005, abs=1e-3)
    assert drawn.fit_y == pytest.approx(2 * 0.862 * drawn.fit_x + 0.02, abs=0.01)
    doubled = estimate(record("resistance", i=i, vab=2 * v), axis)
    assert "line to line" in failed(doubled)["against datasheet"]
    assert "amplitude" in failed(estimate(record("resistance", i=0.02 * i, vab=0.02 * v), axis))
    with pytest.raises(InputError, match="never changes"):
        estimate(record("resistance", i=0 * i + 2.0, vab=v), axis)


def test_a_sine_through_two_terminals(axis: Axis) -> None:
    t = np.arange(0, 0.2, 1e-4)
    Z = 2 * (0.862 + 1j * math.tau * 100.0 * 8.25e-3)
    i = 2.0 * np.cos(math.tau * 100.0 * t)
    v = np.real(2.0 * Z * np.exp(1j * math.tau * 100.0 * t))
    v += np.random.default_rng(2).normal(0, 0.05, t.size)
    good = record("inductance_d", {"frequency": 100.0}, t=t, i=i, vab=v)
    finding = estimate(good, axis)
    assert finding.holds, finding.failed
    assert finding.estimates["machine.Ld"].value == pytest.approx(8.25e-3, rel=0.005)
    back = estimate(replace(good, columns={**good.columns, "i": -i}), axis)
    assert "phase" in failed(back)
    with pytest.raises(InputError, match="no frequency"):
        estimate(replace(good, settings={}), axis)


def test_a_measured_speed_stands_for_the_angle(axis: Axis, truth: PlantParameters) -> None:
    plant = replace(truth, brake=0.0)
    played = play_on_model(SpeedTrapezoids(), sensed(axis, plant), plant)
    speed = np.gradient(played["theta_m"], played["t"])
    columns = {"t": played["t"], "speed": speed, "iq": played["iq"]}
    finding = estimate(record("inertia", **columns), axis)
    psi = axis.machine.psi.value / plant.psi  # J goes with the flux that is assumed
    J = finding.estimates["machine.inertia"].value
    assert pytest.approx(plant.total_inertia * psi, rel=0.02) == J


# What is wrong with the recording itself


def test_missing_samples_clipping_and_a_sagging_bus(axis: Axis) -> None:
    t = np.delete(np.arange(1000) * 1e-3, [100, 300, 301, 500, 700])
    i = np.clip(10 * np.sin(40 * t), -7.0, 7.0)
    bad = record("flux", t=t, iq=i, vdc=320.0 - 120.0 * (t > 0.5))
    told = {c.code: c for c in soundness(bad, axis)}
    assert not told["samples"].passed
    assert "at its end" in told["clipped"].sentence
    assert "sags" in told["bus"].sentence
    assert not told["bus"].passed
    assert not told["clipped"].passed
    fine = record("flux", t=np.arange(1000) * 1e-3, iq=np.sin(np.arange(1000) * 0.04),
                  vdc=np.full(1000, 318.0))  # fmt: skip
    assert all(c.passed for c in soundness(fine, axis))


def test_what_is_missing_is_named() -> None:
    with pytest.raises(InputError, match="vab"):
        form_of("flux", {"t"})
    with pytest.raises(InputError, match="nothing that can be identified"):
        form_of("lunch", {"t"})
    assert form_of("inertia", {"t", "speed", "iq"}).needs == ("t", "speed", "iq")


def test_the_page_on_records_names_every_form() -> None:
    page = (Path(__file__).parents[3] / "docs" / "records.md").read_text()
    for quantity, forms in FORMS.items():
        section = page.split(f"## {quantity}")[1].split("\n## ")[0]
        for form in forms:
            line = next((x for x in section.splitlines()
                         if set(re.findall(r"`([\w]+)`", x)) >= {*form.needs, *form.settings}),
                        "")  # fmt: skip
            assert line, f"{quantity}: {form.needs} is not on the page"
