"""Fuel proposals against the hidden truth of the stand-in cars; `python -m bench.held_out` takes more seeds and cars."""

from __future__ import annotations

import io

import numpy as np
import pytest

from bench.accuracy import DRIVE, measure, rms_percent, table_of, true_factor
from tests.seeds import seeds
from uchiwa.core.logs.log import Log
from uchiwa.core.logs.readers import read_log
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.proposal import fuel_proposal
from uchiwa.standin.fleet import car_named
from uchiwa.standin.simulate import simulate
from uchiwa.standin.wideband import Wideband

pytestmark = pytest.mark.loop
PIKE, WREN, TERN = (car_named(one) for one in ("corvid-pike", "bramble-wren", "larkspur-tern"))


def test_speed_density_over_seeds():
    rows = []
    for seed in range(100, 100 + seeds(2, 10)):
        log = simulate(PIKE, PIKE.base(), DRIVE, seed)
        rows.append((f"seed {seed}", measure(PIKE, PIKE.base(), log, Wideband())))
    print("\n" + table_of(rows))
    every = [one for _, one in rows]
    median = {name: float(np.median([one.rms[name] for one in every])) for name in every[0].rms}
    assert median["surface"] <= 0.9
    assert median["surface"] <= 0.4 * median["plain nearest"]
    assert median["surface"] < 0.5 * median["nearest"]
    assert median["weighted"] <= 0.8 * median["plain nearest"]
    assert median["weighted"] < median["nearest"]
    assert all(abs(one.delay - 1) <= 0.25 for one in every)
    assert np.mean([one.covered for one in every]) >= 0.90
    assert np.median([one.width for one in every]) >= 0.5


def written(log: Log) -> Log:
    """A log as the car's own logger writes it and Uchiwa reads it back."""
    return read_log(WREN.logger.write(log), "road.txt")


def test_moving_ethanol_is_as_accurate_as_a_fixed_fuel():
    found: dict[str, list[float]] = {"fixed": [], "moving": []}
    for seed in range(100, 100 + seeds(1, 3)):
        for name, ethanol_to in (("fixed", None), ("moving", 70.0)):
            log = written(simulate(WREN, WREN.base(), DRIVE, seed, ethanol_to=ethanol_to))
            content = log.quantities["ethanol_content"].values
            assert (content[0], content[-1]) == (
                pytest.approx(20, abs=1),
                pytest.approx(70 if ethanol_to else 20, abs=3),
            )
            proposal = fuel_proposal([log], WREN.base(), "ve_main", Policy())
            truth = true_factor(WREN, proposal.table)
            found[name].append(rms_percent(proposal.estimate.factor, truth, proposal.bins.dwell >= 0.5))
    print("\nRMS error, %: " + ", ".join(f"{name} {np.round(values, 3)}" for name, values in found.items()))
    assert max(found["moving"]) <= 0.9
    assert np.median(found["moving"]) <= 1.25 * np.median(found["fixed"])


def test_a_meters_curve_from_trims_alone_in_two_rounds():
    out = io.StringIO()
    for seed in range(300, 300 + seeds(1, 5)):
        calibration = TERN.base()
        for number in range(2):
            log = simulate(TERN, calibration, DRIVE, seed + 50 * number)
            steps = np.unique(np.round(log.quantities["short_term_trim"].values / 0.78125, 6))
            assert (steps == np.round(steps)).all()
            proposal = fuel_proposal([log], calibration, "maf_curve", Policy())
            calibration = calibration.with_table(proposal.corrected)
            curve = calibration.table("maf_curve")
            driven = proposal.bins.dwell >= 2.0
            error = rms_percent(np.ones(curve.shape), true_factor(TERN, curve), driven)
            print(f"  seed {seed} round {number + 1}: {error:.2f} % in {driven.sum()} points", file=out)
            assert (np.diff(curve.values) > 0).all()
        assert error <= 1.0, out.getvalue()
    print("\n" + out.getvalue())
