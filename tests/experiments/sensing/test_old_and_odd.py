"""Records without what they are usually read with, and pushes whose torque goes away."""

import numpy as np
import pytest

from oarlock.experiments.sensing.push import _lasting, _Push
from oarlock.experiments.sensing.rest import read_rest
from oarlock.records import Record
from tests.speed_axis import known_winch


@pytest.mark.parametrize(("settings", "taken"), [({}, 0.0), ({"offsets": [0.3, 0.3, 0.3]}, 0.3)])
def test_of_a_record_that_names_no_offsets_none_were_taken_off(
    settings: dict[str, object], taken: float
) -> None:
    rng = np.random.default_rng(1)
    columns = {f"i{p}": 0.2 + 0.01 * rng.normal(size=400) for p in "abc"}
    record = Record(
        experiment="currents at rest", sample_time=1e-4, settings=settings,  # type: ignore[arg-type]
        columns={**columns, "theta_m": np.zeros(400)}, units={},
    )  # fmt: skip
    found = read_rest(record, known_winch())
    for phase in "abc":
        assert found.estimates[f"inverter.offset_{phase}"].value == pytest.approx(
            0.2 + taken, abs=3e-3
        )


@pytest.mark.parametrize(
    ("power", "lasts"), [(2.0, True), (1.0, False), (0.5, False)], ids=["stays", "gone", "back"]
)
def test_a_torque_that_stays_moves_three_times_as_far_in_the_second_half(
    power: float, lasts: bool
) -> None:
    t = np.linspace(0.0, 1.0, 101)
    push = _Push(t=t, moved=0.3 * t**power, acceleration=0.6, std=0.01)
    assert _lasting(push, stuck=False).passed is lasts
    assert _lasting(push, stuck=True).passed  # nothing is judged
