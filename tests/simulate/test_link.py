"""The link that feeds the bridge, against charges and energies worked out by themselves."""

import math
from dataclasses import replace

import numpy as np
import pytest
from numpy.typing import NDArray

from oarlock.drive.contract.trips import OVER_VOLTAGE
from oarlock.simulate import layout as k
from oarlock.simulate.drive_model import DriveModel
from oarlock.simulate.plant_parameters import Modulation, PlantParameters
from tests.simulate.test_cascade import TS, columns, drive, rigid

CAPACITANCE = 1e-3  # F
HELD = {"MODE": k.MODE_FIXED, "REF_D": 10.0}
FAST = 200.0  # rad/s
BRAKED = [{"SAMPLES": 1500.0, "MODE": float(k.MODE_ROTOR), "REF_Q": -12.0}]


def fed(**changes: object) -> PlantParameters:
    """A machine behind a link of 1 mF, its shaft held fast."""
    kept = {"link": CAPACITANCE, "feed": 2.0, "brake": 1e3, "brake_stuck": True, **changes}
    return replace(rigid(), **kept)  # type: ignore[arg-type]


def volts(model: DriveModel) -> NDArray[np.float64]:
    found = columns(model)
    assert len(found) == 1
    return found[0].astype(np.float64)


def left_alone(
    model: DriveModel, begins: float, samples: int
) -> tuple[NDArray[np.float64], list[float]]:
    """Return (s, V) of a bus that begins at a voltage, sample by sample."""
    model._state[k.V_BUS] = begins
    seen = []
    for _ in range(samples):
        model.advance(1)
        seen.append(model.bus)
    return TS * np.arange(1, samples + 1, dtype=np.float64), seen


def test_a_steady_loss_lets_the_bus_sag_to_where_the_supply_gives_it() -> None:
    plant = fed()
    model = drive(plant, [{"SAMPLES": 16000, **HELD}], "vdc")
    assert model.trip == 0
    loss = 1.5 * plant.R * 10.0**2  # W, at standstill
    # V·(V0 − V)/R_s = P
    wanted = 0.5 * plant.bus + math.sqrt(0.25 * plant.bus**2 - plant.feed * loss)
    assert volts(model)[-1] == pytest.approx(wanted, rel=2e-5)


def test_what_the_dead_time_takes_from_the_voltage_is_not_drawn() -> None:
    plant = fed(dead_voltage=8.0, dead_knee=0.02)
    model = drive(plant, [{"SAMPLES": 16000, **HELD}], "vdc")
    loss = 1.5 * plant.R * 10.0**2  # of copper alone, though more voltage is asked for
    wanted = 0.5 * plant.bus + math.sqrt(0.25 * plant.bus**2 - plant.feed * loss)
    assert volts(model)[-1] == pytest.approx(wanted, rel=5e-5)


def test_the_bus_charges_as_its_capacitor_and_the_supply_say() -> None:
    model = DriveModel(fed())
    t, seen = left_alone(model, 100.0, 200)
    bus = model.plant.bus
    charged = bus - (bus - 100.0) * np.exp(-t / (2.0 * CAPACITANCE))
    assert seen == pytest.approx(charged, rel=1e-9)


@pytest.mark.parametrize("bridge", [Modulation.AVERAGED, Modulation.SPACE_VECTOR])
def test_what_braking_gives_back_is_in_the_capacitor(bridge: Modulation) -> None:
    """Energy balance: of the shaft, lost in copper, stored in the windings and in the link."""
    plant = fed(brake=0.0, brake_stuck=False, feed=1e4, link=20e-3, modulation=bridge,
                dead_time=0.0)  # fmt: skip
    model = drive(plant, BRAKED, "iq vdc", begins=FAST)
    assert model.trip == 0
    turned = 0.5 * plant.inertia * (FAST**2 - float(model._state[k.OMEGA]) ** 2)
    copper = 1.5 * plant.R * float(np.sum(columns(model)[0].astype(np.float64) ** 2)) * TS
    wound = 0.75 * plant.Lq * float(model._state[k.I_Q]) ** 2
    gained = 0.5 * plant.link * (model.bus**2 - plant.bus**2)
    assert model.bus > plant.bus + 5.0
    assert gained == pytest.approx(turned - copper - wound, rel=0.02)


def test_a_brake_resistor_goes_on_and_off_and_takes_what_comes() -> None:
    shaft = fed(brake=0.0, brake_stuck=False, chop_from=360.0, chop_ohm=30.0)
    model = drive(shaft, BRAKED, "vdc iq", begins=FAST)
    assert model.trip == 0
    bus, iq = (c.astype(np.float64) for c in columns(model))
    assert 358.0 < bus.max() < 364.0
    after = bus[int(np.argmax(bus > 355.0)) :]
    assert np.any(np.diff(np.sign(np.diff(after))) != 0.0)  # to and fro
    turned = 0.5 * shaft.inertia * (FAST**2 - float(model._state[k.OMEGA]) ** 2)
    copper = 1.5 * shaft.R * float(np.sum(iq**2)) * TS
    assert 0.3 * (turned - copper) < model.burnt < turned - copper
    bare = drive(replace(shaft, chop_from=0.0, chop_ohm=0.0), BRAKED, "vdc", begins=FAST)
    assert bare.burnt == 0.0
    assert bare.bus > 400.0


def test_a_battery_takes_back_what_a_rectifier_does_not() -> None:
    braked = fed(brake=0.0, brake_stuck=False)
    kept, given = (drive(replace(braked, takes_back=back), BRAKED, "vdc", begins=FAST)
                   for back in (False, True))  # fmt: skip
    assert volts(kept).max() > 400.0
    power = 12.0 * 1.5 * braked.pole_pairs * braked.psi * FAST  # W, of the shaft as it begins
    assert volts(given).max() - 320.0 < braked.feed * power / 320.0
    assert volts(given).max() > 320.0 + 2.0
    assert given.bus < volts(given).max()


def test_the_drive_trips_above_what_it_bears() -> None:
    model = drive(fed(brake=0.0, brake_stuck=False), BRAKED, "vdc", TRIP_OVER=370.0, begins=FAST)
    assert model.trip == OVER_VOLTAGE.number == k.TRIP_OVERVOLTAGE
    assert 365.0 < volts(model).max() <= 371.0


@pytest.mark.parametrize("along", [(10.0, 0.0), (6.0, 8.0), (0.0, 10.0)])
def test_what_the_windings_hold_goes_to_the_link_as_the_gates_go_off(
    along: tuple[float, float],
) -> None:
    """Along q too, in a machine that is the same both ways."""
    plant = fed(feed=1e4)
    plant = replace(plant, Lq=plant.Ld, Lq_saturated=plant.Ld, across=0.0)
    row = {"MODE": k.MODE_FIXED, "REF_D": along[0], "REF_Q": along[1]}
    rows = [{"SAMPLES": 1600.0, **row}, {"SAMPLES": 200.0, "MODE": float(k.MODE_OFF)}]
    bus = volts(drive(plant, rows, "vdc"))
    gained = 0.5 * CAPACITANCE * (bus[-1] ** 2 - bus[1600] ** 2)
    assert gained == pytest.approx(0.75 * plant.Ld * 10.0**2, rel=0.05)


def test_a_link_alone_empties_through_its_brake_resistor_alone() -> None:
    """Above what a rectifier gives, the capacitor has nothing but the resistor on it."""
    plant = fed(chop_from=330.0, chop_ohm=47.0)
    model = DriveModel(plant)
    model._state[k.CHOPS] = 1.0
    t, seen = left_alone(model, 400.0, 60)
    assert min(seen) > 330.0
    assert seen == pytest.approx(400.0 * np.exp(-t / (47.0 * CAPACITANCE)), rel=1e-6)
