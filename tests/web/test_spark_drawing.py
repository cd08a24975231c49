"""What the Spark station draws: ticks, curves, labels, ladders, hills, levels and fills."""

from __future__ import annotations

import itertools
import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.core.proposals.torque.test_proposal import calibration, limit_table, noisy
from tests.core.proposals.torque.test_proposal import ladder as runs
from uchiwa.core.proposals.knock_limit.policy import ThresholdPolicy
from uchiwa.core.proposals.knock_limit.proposal import threshold_proposal
from uchiwa.core.proposals.torque.policy import TorquePolicy
from uchiwa.core.proposals.torque.proposal import torque_proposal
from uchiwa.core.pulls.overlay import PullView, overlay
from uchiwa.core.pulls.recognised import pulls_of
from uchiwa.web.grid.proposal_grid import TableView, turned
from uchiwa.web.pages import sheet_words
from uchiwa.web.proposal_sheets.state import with_form
from uchiwa.web.stations.spark.grid import limit_grid, torque_grid
from uchiwa.web.stations.spark.ladder_picture import hill, ladder
from uchiwa.web.stations.spark.level_picture import level_picture
from uchiwa.web.stations.spark.pull_picture import _labels, picture, readings


@given(st.lists(st.tuples(st.floats(0, 40), st.floats(0, 100)), min_size=1, max_size=9))
def test_every_curve_has_its_number_and_labels_do_not_touch(places):
    found = _labels([(row, 760.0 + x / 10, y) for row, (x, y) in enumerate(places)])
    heights = sorted(one.y for one in found)
    assert all(b - a >= 13.0 - 1e-9 for a, b in itertools.pairwise(heights))
    assert sorted(row for one in found for row in one.rows) == list(range(len(places)))


def session():
    return runs(18, 18, 12, 15, 18.5, 19)


def test_the_bands_of_pulls_stand_below_each_other_on_one_speed_axis():
    found = [pulls_of(one)[0] for one in session()]
    drawn = overlay(found, PullView())
    shown = picture(drawn, 3000.0, 5000.0)
    assert [one.title for one in shown.strips][:2] == ["torque", "power"]
    edges = [(one.top, one.top + one.height) for one in shown.strips]
    assert all(below[0] > above[1] for above, below in itertools.pairwise(edges))
    assert shown.band[0] < shown.band[1]
    assert sum(len(end.rows) for end in shown.ends) == 6
    for strip in shown.strips:
        assert all(strip.top - 1 <= y <= strip.top + strip.height + 1 for y, _ in strip.marks)
    told = readings(drawn, [str(one) for one in range(6)], shown)
    assert len(told["curves"]) == len(shown.strips)
    assert all(len(row) == len(told["speeds"]) for curve in told["curves"] for row in curve["rows"])


def test_a_ladder_has_a_rung_for_each_column_and_what_is_higher_stands_higher():
    proposal = torque_proposal(session(), calibration(), "spark", TorquePolicy())
    shown = ladder(proposal)
    assert len(shown.rungs) == len(proposal.decisions)
    for rung, one in zip(shown.rungs, proposal.decisions, strict=True):
        assert (rung.after < rung.before) == (one.after > one.spark)
        assert rung.clean < rung.before
        assert math.isnan(rung.knocked)
        assert rung.best_high <= rung.best <= rung.best_low
    assert [x for x, _ in shown.speeds] == sorted(x for x, _ in shown.speeds)


def test_a_hill_has_a_dot_for_each_run_and_needs_two():
    proposal = torque_proposal(session(), calibration(), "spark", TorquePolicy())
    decision = proposal.decisions[2]
    shown = hill(proposal, decision)
    assert [run for *_, run in shown.dots] == [one + 1 for one in decision.gain.runs]
    assert shown.curve.count(",") == 60
    lonely = torque_proposal(runs(18), calibration(), "spark", TorquePolicy())
    assert hill(lonely, lonely.decisions[0]) is None


def test_the_level_lies_below_the_limit_that_is_proposed_for_it():
    found = threshold_proposal([noisy()], limit_table(), "limit", ThresholdPolicy())
    shown = level_picture(found, 0)
    assert len(shown.dots) > 400
    limits = [float(pair.split(",")[1]) for pair in shown.after.split()]
    assert sum(y < max(limits) for _, y in shown.dots) < 0.02 * len(shown.dots) or min(limits) < min(
        y for _, y in shown.dots
    )
    grid = limit_grid(found, TableView.PROPOSED, np.zeros(found.table.shape, dtype=bool))
    assert [cell.text for cell in grid.rows[0][1]] == [f"{value:.2f}" for value in found.after[0]]


def test_a_grid_marks_what_waits_what_follows_and_what_was_never_run():
    proposal = torque_proposal(session(), calibration(), "spark", TorquePolicy())
    waiting = proposal.after != proposal.table.grid
    grid = torque_grid(proposal, TableView.CHANGE, waiting)
    cells = {(one.i, one.j): one for _, row in grid.rows for one in row}
    for (i, j), one in cells.items():
        assert ("waiting" in one.classes) == bool(waiting[j, i])
        assert ("never" in one.classes) == bool(proposal.knock.dwell[j, i] <= 0)
        assert (one.text == "·") == (not waiting[j, i])
    assert "add-" in cells[3, 4].classes
    present = torque_grid(proposal, TableView.PRESENT, waiting)
    assert present.rows[0][1][0].text == "18.0"


@pytest.mark.parametrize(
    ("change", "fill"),
    [(0.0, ""), (float("nan"), ""), (0.1, "add-1"), (6.0, "add-12"), (-20.0, "cut-12"), (-3.0, "cut-6")],
)
def test_amber_puts_in_and_indigo_takes_out(change, fill):
    assert turned(change, 6.0) == fill


def test_forms_change_only_what_they_hold():
    old = {"margin": 0.5, "slope": 3.0, "noise": []}
    assert with_form(old, {"margin": "1,5", "slope": " ", "csrf": "x"}, ("margin", "slope")) == old | {"margin": "1.5"}


def test_steps_of_spark_are_told_in_words():
    knock = {"kind": "knock", "events": 7, "clusters": [{"counts": True}, {"counts": False}], "policy": {"margin": 0.5}}
    assert sheet_words(knock) == "7 events, 1 places held to be real, margin 0.5°"
    torque = {"kind": "torque", "pulls": [1, 2], "policy": {"most": 2, "knock_margin": 1}}
    assert sheet_words(torque) == "2 pulls, at most 2° a round, 1° below knock"
    assert (
        sheet_words({"kind": "fuel grade", "points": 2.0, "degrees_per_point": 1.5})
        == "2 octane points less, 1.5° a point"
    )
    assert "99 %" in sheet_words({"kind": "knock limit", "policy": {"quantile": 99.0, "margin": 1.3}})
