"""Shapes and grids: what a number becomes before it is drawn."""

from __future__ import annotations

import math
import re
from datetime import timedelta

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import make_log, make_table
from uchiwa.core.proposals.fuel.explanation import explain
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.proposal import fuel_proposal
from uchiwa.core.quantities.unit_words import unit_words
from uchiwa.core.rounds.progress import RoundFacts, Station, standings
from uchiwa.core.tables.difference import difference
from uchiwa.core.tables.table import Calibration
from uchiwa.store.clock import now
from uchiwa.web.grid.grid import View, bar, difference_grid, diverging, fuel_grid, one_hue
from uchiwa.web.pages import ago, cut, duration, figure, size, thousands
from uchiwa.web.stations.fuel.sieve import sieve_parts
from uchiwa.web.stations.fuel.spread_picture import spread_picture
from uchiwa.web.svg import fan
from uchiwa.web.svg.error_path import error_path

TABLE = make_table([[50.0, 60.0, 70.0], [55.0, 65.0, 75.0]])
CALIBRATION = Calibration("c", "C", (), (TABLE,))


@pytest.fixture
def proposal():
    log = make_log(
        engine_speed=np.repeat([1000.0, 2000.0], 100),
        manifold_pressure=40.0,
        coolant_temperature=np.concatenate([np.full(20, 60.0), np.full(180, 90.0)]),
        throttle_position=10.0,
        lambda_measured=np.repeat([1.08, 0.95], 100),
        lambda_target=1.0,
        short_term_trim=0.0,
        long_term_trim=0.0,
    )
    return fuel_proposal(
        [log],
        CALIBRATION,
        "ve_main",
        Policy(estimator="nearest", delay=(0, 0), unreached="leave", without=("transient",)),
    )


@pytest.mark.parametrize(
    ("percent", "fill"),
    [
        (0.0, ""),
        (0.2, ""),
        (0.6, "add-1"),
        (-0.6, "cut-1"),
        (5.9, "add-6"),
        (12.0, "add-12"),
        (-50.0, "cut-12"),
        (math.nan, ""),
    ],
)
def test_fill_of_an_error(percent, fill):
    assert diverging(percent) == fill


@given(st.floats(-40, 40))
def test_fill_is_symmetric_and_never_weaker_for_more(percent):
    level = int((re.findall(r"\d+", diverging(percent)) or ["0"])[0])
    mirrored = int((re.findall(r"\d+", diverging(-percent)) or ["0"])[0])
    more = int((re.findall(r"\d+", diverging(percent * 1.5)) or ["0"])[0])
    assert level == mirrored <= more


def test_the_bar_grows_with_time_and_never_vanishes():
    lengths = [bar(seconds) for seconds in (0.0, 0.01, 1.0, 5.0, 20.0, 900.0)]
    assert lengths == [0, 1, 2, 5, 10, 10]


def test_one_hue_spans_the_scale():
    assert [one_hue(share) for share in (-1.0, 0.0, 0.5, 1.0, 2.0)] == ["val-0", "val-0", "val-6", "val-12", "val-12"]


def test_the_grid_tells_evidence_from_value(proposal):
    waiting = proposal.correction.after != proposal.table.grid
    grid = fuel_grid(proposal, View.ERROR, waiting)
    assert grid.corner == "kPa / rpm"
    assert grid.columns == ("1000", "2000", "3000")
    assert [head for head, _ in grid.rows] == ["80", "40"]
    low = grid.rows[1][1]
    assert [cell.text for cell in low] == ["+8.0", "−5.0", ""]
    assert "add-8" in low[0].classes and "state-changed" in low[0].classes and "waiting" in low[0].classes
    assert "cut-5" in low[1].classes
    assert "never" in low[2].classes and "ev-0" in low[2].classes
    assert low[2].words == "3000 rpm, 40 kPa: never visited"
    assert [cell.text for cell in fuel_grid(proposal, View.PROPOSED, waiting).rows[1][1]] == ["54.0", "57.0", "70.0"]
    assert [cell.text for cell in fuel_grid(proposal, View.DIFFERENCE, waiting).rows[1][1]] == ["+8.0", "−5.0", "·"]
    assert [cell.text for cell in fuel_grid(proposal, View.EVIDENCE, waiting).rows[1][1]] == ["80", "100", ""]


def test_the_review_grid_marks_changes_without_evidence():
    after = TABLE.grid.copy()
    after[0, 0], after[1, 2] = 55.0, 74.0
    change = difference(CALIBRATION, CALIBRATION.with_table(TABLE.with_grid(after))).tables[0]
    dwell = np.zeros((2, 3))
    dwell[0, 0] = 4.0
    rows = dict(difference_grid(change, dwell).rows)
    assert rows["40"][0].text == "+10.0" and "unseen" not in rows["40"][0].classes
    assert rows["80"][2].text == "−1.3" and "unseen" in rows["80"][2].classes
    assert rows["80"][0].text == "·"
    assert "unseen" not in " ".join(cell.classes for _, cells in difference_grid(change, None).rows for cell in cells)


def test_the_sieve_adds_up(proposal):
    parts = sieve_parts(proposal.evidence, proposal.policy)
    assert parts[0].id == "used"
    assert sum(part.samples for part in parts) == 200
    cold = next(part for part in parts if part.id == "cold")
    assert (cold.samples, cold.share, cold.switchable) == (20, 10, True)
    assert [part.samples for part in parts[1:]] == sorted((part.samples for part in parts[1:]), reverse=True)
    assert all(part.share == 0 for part in parts if not part.samples)


def test_the_fan_has_a_rib_for_each_station():
    ribs = fan.wide_fan(standings(RoundFacts(1, logs_ready=1)))
    assert [rib.station for rib in ribs] == list(Station)
    middle = ribs[3]
    assert middle.turn == pytest.approx(0, abs=0.01)
    assert middle.x == pytest.approx(280, abs=0.1)
    for rib in ribs:
        assert 0 < rib.x < 560 and 0 < rib.y < 96
        assert re.fullmatch(r"M [\d. -]+ A [\d. -]+ L [\d. -]+ A [\d. -]+ Z", rib.path)
    assert all(abs(rib.turn) <= 90 for rib in fan.large_fan(standings(RoundFacts(1))))


def test_the_error_path_keeps_to_its_box():
    shape = error_path([6.0, 2.0, 0.5, 40.0], 400, 100, 4, 8.0)
    assert [point.y for point in shape.points] == [25.0, 75.0, 93.8, 0.0]
    assert [point.x for point in shape.points] == [50.0, 150.0, 250.0, 350.0]
    assert (shape.band, shape.floor) == (25.0, 75.0)
    assert error_path([], 400, 100, 3, 8.0).line == ""


def test_the_spread_shows_where_the_samples_lie(proposal):
    picture = spread_picture(explain(proposal, 0, 0), 388, 64)
    assert picture is not None
    assert len(picture.dots) == 80
    assert all(0 <= dot.x <= 388 and 0 <= dot.y <= 64 for dot in picture.dots)
    assert picture.zero < picture.mean
    assert picture.ticks[0][1] == "0"
    assert spread_picture(explain(proposal, 1, 2), 388, 64) is None


@pytest.mark.parametrize(
    ("passed", "text"),
    [
        (timedelta(seconds=5), "5 s"),
        (timedelta(minutes=3), "3 min"),
        (timedelta(hours=7), "7 h"),
        (timedelta(days=2), "2 d"),
        (timedelta(weeks=3), "3 w"),
        (timedelta(seconds=-9), "0 s"),
    ],
)
def test_how_long_ago(passed, text):
    assert ago(now() - passed) == text
    assert ago(None) == ""


def test_figures_as_people_read_them():
    assert duration(3725.4) == "62:05"
    assert (duration(None), figure(None)) == ("", "")
    assert (size(2_400_000), size(900)) == ("2.4 MB", "0.9 kB")
    assert thousands(18940) == "18\u202f940"
    assert figure(-12.3456) == "−12.35"
    assert [cut(-12.36), cut(-0.04), cut(3), cut(-1.25, 2)] == ["−12.4", "0.0", "3.0", "−1.25"]
    assert (unit_words("degC"), unit_words("1"), unit_words("kPa")) == ("°C", "", "kPa")
