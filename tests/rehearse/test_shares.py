"""Shares of a figure's variance: those of functions whose shares are known, and of a scenario."""

import math
from types import SimpleNamespace
from typing import Any, cast

import numpy as np
import pytest
from scipy.stats import norm, qmc, sobol_indices

from oarlock.errors import InputError
from oarlock.rehearse.shares import shares
from oarlock.rehearse.vary import Study, Tolerance, study
from tests.rehearse.test_vary import SHORT
from tests.speed_axis import tuned_winch

NAMES = ("flux", "inertia", "R", "bus")


def law(z: Any) -> Any:
    """Parts of 9, 2 and 0, and 1 of two values together; the last does nothing."""
    return 3.0 * z[0] + z[1] ** 2 + z[0] * z[2]


def drawn(many: int, *, noise: float = 0.0, dead: int = 0, seed: int = 5) -> Study:
    z = norm.ppf(qmc.Sobol(4, scramble=True, seed=seed).random(many) * 0.9999 + 5e-5)
    made = law(z.T) + noise * np.random.default_rng(seed).normal(size=many)
    ends = ["tripped"] * dead + ["done"] * (many - dead)
    figures = [SimpleNamespace(ended=e, peak_current=float(v))
               for e, v in zip(ends, made, strict=True)]  # fmt: skip
    known = tuple(Tolerance(name, 0.01 * (n + 1)) for n, name in enumerate(NAMES))
    stds = np.array([one.std for one in known])
    return Study(tolerances=known, factors=1.0 + stds * z, figures=cast(Any, tuple(figures)))


def test_shares_are_those_of_the_law_and_of_a_library_with_its_own_draws() -> None:
    found = shares(drawn(512), "peak_current")
    by_name = {one.name: one.share for one in found.alone}
    expected = {"flux": 9 / 12, "inertia": 2 / 12, "R": 0.0, "bus": 0.0}
    for name, share in expected.items():
        assert by_name[name] == pytest.approx(share, abs=0.02)
    assert found.together == pytest.approx(1 / 12, abs=0.03)
    assert [one.name for one in found.alone[:2]] == ["flux", "inertia"]
    theirs = sobol_indices(func=law, n=4096, dists=[norm()] * 4, rng=1).first_order
    for name, share in zip(NAMES, theirs, strict=True):
        assert by_name[name] == pytest.approx(float(share), abs=0.03)
    assert found.sentence.startswith("flux 7")
    assert "several together" in found.sentence


def test_each_share_has_an_uncertainty_that_covers_it() -> None:
    off = []
    for many in (32, 64, 128):
        found = shares(drawn(many, noise=2.0), "peak_current")
        truth = {"flux": 9 / 16, "inertia": 2 / 16, "R": 0.0, "bus": 0.0}
        off += [abs(one.share - truth[one.name]) / (one.std + 0.03) for one in found.alone]
    assert np.mean(np.array(off) <= 2.0) > 0.8


def test_a_value_that_does_nothing_has_no_share_however_few_the_draws() -> None:
    idle = [one.share for seed in range(12)
            for one in shares(drawn(64, noise=4.0, seed=seed), "peak_current").alone
            if one.name in {"R", "bus"}]  # fmt: skip
    assert np.mean(idle) < 0.02
    assert np.mean(np.array(idle) == 0.0) > 0.3  # less than noise makes of nothing: none


def test_machines_that_do_not_come_to_the_end_are_left_out_and_few_are_refused() -> None:
    assert shares(drawn(256, dead=30), "peak_current").alone[0].name == "flux"
    with pytest.raises(InputError, match="tell no shares"):
        shares(drawn(16, dead=2), "peak_current")
    same = drawn(64)
    for one in same.figures:
        cast(Any, one).peak_current = 3.0
    with pytest.raises(InputError, match="the same on all"):
        shares(same, "peak_current")


def test_of_a_scenario_the_inertia_makes_the_current_of_a_ramp() -> None:
    """Its peak is noise's; what heats the winding is inertia times acceleration over flux."""
    found = shares(study(SHORT, tuned_winch(), 48, seed=2), "rms_current")
    assert sum(one.share for one in found.alone) + found.together == pytest.approx(1.0)
    assert all(0.0 <= one.share <= 1.0 and math.isfinite(one.std) for one in found.alone)
    told = {one.name: one.share for one in found.alone}
    assert {one.name for one in found.alone[:2]} == {"inertia", "flux"}
    assert all(0.4 < told.pop(name) < 0.6 for name in ("inertia", "flux"))
    assert max(told.values()) < 0.05
    assert found.together < 0.1


def test_what_is_stated_of_a_share_is_what_it_scatters_by() -> None:
    """Over draws that are made anew, neither far too much nor far too little."""
    found = [
        {one.name: one for one in shares(drawn(64, noise=2.0, seed=seed), "peak_current").alone}
        for seed in range(30)
    ]
    for name in ("flux", "inertia"):
        scatter = float(np.std([one[name].share for one in found]))
        stated = float(np.mean([one[name].std for one in found]))
        assert 0.4 < stated / scatter < 2.5
