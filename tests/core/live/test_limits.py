"""A session's limits hold in every correction, over sessions and limits drawn at random."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import make_log, make_table
from tests.seeds import seeds
from uchiwa.core.errors import BadInput
from uchiwa.core.live.limits import OPENING_PERCENT_A_S, RUNNING_RPM, LiveLimits
from uchiwa.core.logs.signal import rate, since
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.proposal import FuelProposal, fuel_proposal
from uchiwa.core.tables.table import Calibration, Constant

CALIBRATION = Calibration(
    "c", "C", (Constant("displacement", "displacement", 2.0, "L"), Constant("cylinders", "cylinders", 4, "1")),
    (make_table([[50.0] * 3, [50.0] * 3]),),
)  # fmt: skip


def session(seed: int):
    """Speeds that stand still now and then, a coolant that warms, a throttle that opens and closes, any error."""
    rng = np.random.default_rng(seed)
    size = int(rng.integers(400, 1500))
    knots = np.arange(0, size + 80, 80)

    def path(low: float, high: float) -> np.ndarray:
        return np.interp(np.arange(size), knots, rng.uniform(low, high, knots.size))

    speed = path(900, 3100)
    for at in rng.integers(0, size, int(rng.integers(0, 3))):
        speed[at : at + 30] = 0.0
    return make_log(
        10.0,
        engine_speed=speed,
        manifold_pressure=path(35, 85),
        throttle_position=path(5, 60),
        coolant_temperature=np.clip(rng.uniform(40, 90) + np.arange(size) * rng.uniform(0, 0.08), None, 95),
        lambda_measured=rng.uniform(0.85, 1.15) + rng.normal(0, 0.01, size),
        lambda_target=np.where(path(0, 1) < rng.uniform(0, 0.4), 0.0, 1.0),
        short_term_trim=0.0,
        long_term_trim=0.0,
        loop_state=0.0,
    )


limits = st.builds(
    LiveLimits, on=st.just(True), after_s=st.floats(0, 60), coolant=st.floats(40, 95), opening=st.booleans(),
    samples=st.integers(1, 200), seconds=st.floats(0, 10), percent=st.floats(0.5, 25), strength=st.floats(1, 100),
)  # fmt: skip


def corrected(seed: int, held: LiveLimits) -> tuple[FuelProposal, dict[str, np.ndarray]] | None:
    log = session(seed)
    try:
        found = fuel_proposal([log], CALIBRATION, "ve_main", held.policy(Policy(delay=(0.1, 1.0), transients="none")))
    except BadInput:
        return None
    return found, {channel.quantity: channel.values for channel in log.rasters[0].channels} | {
        "time": log.rasters[0].time
    }


@settings(max_examples=seeds(30, 60))
@given(st.integers(0, 2**32 - 1), limits)
def test_only_samples_within_the_limits_count(seed, held):
    made = corrected(seed, held)
    if made is None:
        return
    found, signals = made
    used = found.evidence.sieve.used
    running = since(signals["time"], signals["engine_speed"] > RUNNING_RPM)
    assert (running[used] >= held.after_s).all()
    assert (signals["coolant_temperature"][used] >= held.coolant).all()
    assert (signals["lambda_target"][used] > 0).all()
    if held.opening:
        assert (rate(signals["time"], signals["throttle_position"])[used] > OPENING_PERCENT_A_S).all()


@settings(max_examples=seeds(30, 60))
@given(st.integers(0, 2**32 - 1), limits)
def test_no_cell_moves_without_its_evidence_or_beyond_the_limit(seed, held):
    made = corrected(seed, held)
    if made is None:
        return
    found, _ = made
    factor, bins = found.correction.factor, found.bins
    moved = found.correction.after != found.table.grid
    assert (np.abs(factor - 1) <= held.percent / 100 + 1e-9).all()
    assert (bins.samples[moved] >= held.samples - 1e-6).all()
    assert (bins.dwell[moved] >= held.seconds - 1e-6).all()


@pytest.mark.parametrize("key", ["after_s", "coolant", "samples", "percent", "load_limit", "strength"])
def test_a_limit_that_is_none_is_refused_by_name(key):
    with pytest.raises(BadInput, match=key):
        LiveLimits.read({key: -1000})
