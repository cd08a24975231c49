"""A clamp from pulls before boost."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import make_log
from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import Log
from uchiwa.core.proposals.clamp.explanation import explain
from uchiwa.core.proposals.clamp.policy import ClampPolicy
from uchiwa.core.proposals.clamp.proposal import clamp_proposal
from uchiwa.core.proposals.clamp.report import report
from uchiwa.core.tables.table import Axis, Calibration, Table, frozen

SPEEDS = [1000.0, 2000, 3000, 4000, 5000, 6000, 7000]
VOLTS = [0.0, 0.7, 1.4, 2.1, 2.8, 3.5, 4.2, 5.0]


def truth(speed: np.ndarray) -> np.ndarray:
    """What the unboosted car gives at full load, V."""
    return 1.6 + 2.2 * np.sqrt(speed / 6000.0)


def calibration(*, turned: bool = False) -> Calibration:
    x, y = Axis("engine_speed", "rpm", frozen(SPEEDS)), Axis("airflow_voltage", "V", frozen(VOLTS))
    through = np.repeat(np.array(VOLTS)[:, None], len(SPEEDS), axis=1)
    table = Table("clamp", "Signal clamp", "airflow_clamp", "V", x, y, frozen(through), 0, 5, 3)
    if turned:
        table = replace(table, x=y, y=x, values=frozen(through.T))
    return Calibration("c", "C", (), (table,))


def pull(seed: int = 0, low: float = 1500, high: float = 6400, **changes: object) -> Log:
    """Idle, then a pull in 8 s at 20 Hz."""
    rng = np.random.default_rng(seed)
    size = 240
    speed = np.concatenate([np.full(80, 850.0), np.linspace(low, high, 160)])
    wide = np.arange(size) >= 80
    signal = np.where(wide, truth(speed), 1.1) + 0.01 * rng.normal(size=size)
    usual = {
        "engine_speed": speed, "airflow_voltage": signal, "throttle_position": np.where(wide, 100.0, 2.0),
        "manifold_pressure": np.where(wide, 98.0, 35.0), "barometric_pressure": 99.0,
    }  # fmt: skip
    return make_log(
        20.0, f"pull {seed}.csv", **{key: value for key, value in (usual | changes).items() if value is not None}
    )


def test_the_clamp_lies_the_margin_above_what_the_car_gave_and_nothing_falls():
    proposal = clamp_proposal([pull(0), pull(1)], calibration(), "clamp", ClampPolicy())
    at = np.array(SPEEDS[1:6])
    assert proposal.limit[1:6] == pytest.approx(np.minimum(truth(at) * 1.05, 5.0), rel=0.02)
    assert (np.diff(proposal.after, axis=0) >= -1e-9).all()
    assert (np.diff(proposal.evidence.reached) >= 0).all()
    # Speeds not reached follow the nearest that was.
    assert proposal.limit[0] == pytest.approx(proposal.limit[1])
    assert str(proposal.state[-1, 0]) == "filled"


def test_breakpoints_are_spread_over_what_was_seen_and_zero_stays():
    proposal = clamp_proposal([pull()], calibration(), "clamp", ClampPolicy())
    points = proposal.table.y.breakpoints
    assert points[0] == 0
    assert np.diff(points[1:]) == pytest.approx(np.full(6, np.diff(points[1:]).mean()), abs=2e-3)
    assert points[1] == pytest.approx(1.08, abs=0.05)
    assert points[-1] == pytest.approx(proposal.limit.max(), abs=0.01)
    assert proposal.respread
    kept = clamp_proposal([pull()], calibration(), "clamp", ClampPolicy(respread=False))
    assert (kept.table.y.breakpoints == VOLTS).all()
    assert not kept.respread


@given(st.integers(0, 10_000), st.booleans())
def test_no_boosted_signal_passes_and_no_other_is_touched(seed, respread):
    rng = np.random.default_rng(seed)
    proposal = clamp_proposal([pull(seed % 7)], calibration(), "clamp", ClampPolicy(respread=respread))
    table = proposal.corrected
    speed = rng.uniform(2000, 6000, 300)
    reached = np.interp(speed, SPEEDS, proposal.evidence.reached)
    boosted = reached * rng.uniform(1.0, 1.5, 300)
    out = table.lookup(speed, np.minimum(boosted, 5.0))
    assert (out <= reached * 1.05 * 1.002 + 2e-3).all()
    # Two breakpoints below the clamp everything goes through as it came.
    below = table.y.breakpoints[np.maximum(np.searchsorted(table.y.breakpoints, reached * 0.8) - 2, 0)]
    assert table.lookup(speed, below) == pytest.approx(np.round(below, 3), abs=2e-3)


def test_either_way_of_laying_it_gives_the_same():
    plain = clamp_proposal([pull()], calibration(), "clamp", ClampPolicy(respread=False))
    turned = clamp_proposal([pull()], calibration(turned=True), "clamp", ClampPolicy(respread=False))
    assert (turned.after == plain.after.T).all()
    assert (turned.state == plain.state.T).all()


def test_the_ceiling_of_the_sensor_is_never_passed():
    proposal = clamp_proposal([pull()], calibration(), "clamp", ClampPolicy(ceiling=3.6, respread=False))
    assert proposal.after.max() <= 3.6
    assert any("ceiling" in note for note in proposal.notes)


def test_pins_hold_and_keep_the_breakpoints():
    proposal = clamp_proposal([pull()], calibration(), "clamp", ClampPolicy(pinned=((3, 7),)))
    assert proposal.after[7, 3] == 5.0
    assert not proposal.respread


def test_a_cell_explains_itself_and_the_report_has_every_cell():
    proposal = clamp_proposal([pull()], calibration(), "clamp", ClampPolicy(respread=False))
    account = explain(proposal, 7, 3)
    assert account.steps[-1].value == account.after == pytest.approx(account.reached * 1.05, abs=2e-3)
    assert account.moments
    assert explain(proposal, 1, 3).steps[2].words.startswith("within what the car gave")
    told = report(proposal)
    assert len(told["cells"]) == 56
    assert told["speeds"][3]["samples"] > 10


@pytest.mark.parametrize(
    ("log", "words"),
    [
        (pull(manifold_pressure=np.where(np.arange(240) > 80, 150.0, 35.0)), "already holds boost"),
        (pull(manifold_pressure=None), "cannot be told"),
        (pull(airflow_voltage=None), "no airflow voltage|no airflow"),
        (pull(throttle_position=40.0), "no log holds full load"),
        (pull(throttle_position=None), "neither throttle nor pedal"),
    ],
)
def test_what_cannot_be_told_is_one_sentence(log, words):
    with pytest.raises(BadInput, match=words):
        clamp_proposal([log], calibration(), "clamp", ClampPolicy())


def test_a_persons_word_stands_in_for_the_pressure():
    proposal = clamp_proposal([pull(manifold_pressure=None)], calibration(), "clamp", ClampPolicy(before_boost=True))
    assert any("person's word" in note for note in proposal.notes)
