"""The loop closed without a browser: correct, flash, drive again, over several seeds."""

from __future__ import annotations

import numpy as np
import pytest

from tests.seeds import FULL, seeds
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.proposal import fuel_proposal
from uchiwa.standin.cars import true_grid
from uchiwa.standin.fleet import car_named
from uchiwa.standin.simulate import simulate

pytestmark = pytest.mark.loop
CAR = car_named("corvid-pike")


def rms(calibration, driven) -> float:
    table = calibration.table("ve_main")
    return float(np.sqrt(np.mean((table.grid[driven] / true_grid(CAR, table)[driven] * 100 - 100) ** 2)))


@pytest.mark.parametrize("estimator", ["nearest", "weighted"] if FULL else ["weighted"])
def test_error_falls_to_under_half_in_one_round_and_stays_small(estimator):
    print(f"\n{estimator}: RMS VE error against the truth, %, cells with at least 2 s")
    for seed in range(21, 21 + seeds(1, 10)):
        calibration, found = CAR.base(), []
        for number in range(3):
            log = simulate(CAR, calibration, "mixed_road", seed + number)
            proposal = fuel_proposal([log], calibration, "ve_main", Policy(estimator=estimator))
            driven = proposal.bins.dwell >= 2.0
            before = rms(calibration, driven)
            calibration = calibration.with_table(proposal.corrected)
            found += [before, rms(calibration, driven)]
        print(
            f"  seed {seed}: " + "  ".join(f"{a:.2f} → {b:.2f}" for a, b in zip(found[::2], found[1::2], strict=True))
        )
        assert found[1] < found[0] / 2
        assert found[-1] < 1.5


def test_a_perfect_table_is_hardly_touched():
    base = CAR.base()
    table = base.table("ve_main")
    perfect = base.with_table(table.with_grid(table.rounded(true_grid(CAR, table))))
    log = simulate(CAR, perfect, "mixed_road", 5)
    proposal = fuel_proposal([log], perfect, "ve_main", Policy())
    change = np.abs(proposal.correction.factor[proposal.reached] - 1) * 100
    assert np.median(change) < 0.5
    assert np.percentile(change, 90) < 1.5
