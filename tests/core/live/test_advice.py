"""What the driver is told: the nearest cell still wanted, kept to until it is full, and less driving by it."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.core.live.advised import covers_in
from tests.seeds import seeds
from uchiwa.core.briefs.coverage import Coverage, cruise_cells, load_shares, speeds_of
from uchiwa.core.live.advice import HEARD_S, LEAD_S, Adviser, Ask, Engine
from uchiwa.standin.cars import pike_base

TABLE = pike_base().by_role("volumetric_efficiency")[0]
CELLS = cruise_cells(TABLE)


def coverage(seconds: np.ndarray | None = None, enough: float = 2.0) -> Coverage:
    return Coverage(TABLE, CELLS, np.zeros(TABLE.shape) if seconds is None else seconds, enough)


def at(cell: tuple[int, int] | None, moment: float = 10.0, coolant: float = 90.0) -> Engine:
    i, j = cell or (0, 0)
    load = float(load_shares(TABLE)[j, i]) if cell else None
    return Engine(moment, float(speeds_of(TABLE)[j, i]) if cell else 850.0, load, coolant, cell)


def test_the_engine_has_to_run_and_be_warm_first():
    assert Adviser().advise(coverage(), Engine(1, 0.0, None, 90.0, None)).ask is Ask.START
    cold = Adviser().advise(coverage(), at(CELLS[5], coolant=60))
    assert cold.ask is Ask.WARM_UP
    assert "60" in cold.more
    assert cold.words == "Drive gently until warm"
    assert Adviser().advise(coverage(), at(CELLS[5], coolant=60), warms_idling=True).words == "Let it idle until warm"


def test_it_stays_in_a_cell_until_that_is_full():
    adviser, seconds = Adviser(), np.zeros(TABLE.shape)
    i, j = CELLS[10]
    first = adviser.advise(coverage(seconds), at((i, j)))
    assert first.cell == (i, j)
    assert first.here
    assert first.words.endswith("2 s more")
    seconds[j, i] = 0.9
    assert adviser.advise(coverage(seconds), at((i, j))).words.endswith("2 s more")
    seconds[j, i] = 2.0
    assert adviser.advise(coverage(seconds), at((i, j))).cell != (i, j)


def test_the_next_is_said_just_before_the_last_has_enough():
    adviser, seconds = Adviser(), np.zeros(TABLE.shape)
    i, j = CELLS[10]
    assert adviser.advise(coverage(seconds), at((i, j), 10.0)).cell == (i, j)
    seconds[j, i] = 2.0 - LEAD_S
    following = adviser.advise(coverage(seconds), at((i, j), 11.0))
    assert following.cell != (i, j)
    assert not following.here
    seconds[j, i] = 1.8
    assert adviser.advise(coverage(seconds), at((i, j), 11.8)).cell == following.cell


def test_the_last_cell_of_all_is_held_to_its_end():
    seconds = np.full(TABLE.shape, 9.0)
    i, j = CELLS[10]
    seconds[j, i] = 1.9
    told = Adviser().advise(coverage(seconds), at((i, j)))
    assert told.cell == (i, j)
    assert told.words.endswith("1 s more")


def test_a_cell_that_cannot_be_had_is_left_for_a_while():
    adviser, seconds = Adviser(), np.full(TABLE.shape, 9.0)
    wanted = [CELLS[0], CELLS[-1]]
    for i, j in wanted:
        seconds[j, i] = 0.0
    near = (CELLS[0][0] + 1, CELLS[0][1])
    told = [adviser.advise(coverage(seconds), at(near, moment)).cell for moment in range(0, 60, 2)]
    assert told[0] == CELLS[0]
    assert CELLS[-1] in told


def test_what_was_said_stays_for_a_few_seconds_whatever_the_engine_passes_through():
    adviser, seconds = Adviser(), np.full(TABLE.shape, 9.0)
    left, right = CELLS[0], CELLS[-1]
    for i, j in (left, right):
        seconds[j, i] = 0.0
    beside = {one: (one[0] + (1 if one == left else -1), one[1]) for one in (left, right)}
    assert adviser.advise(coverage(seconds), at(beside[left], 0.0)).cell == left
    assert adviser.advise(coverage(seconds), at(beside[right], 1.0)).cell == left
    assert adviser.advise(coverage(seconds), at(beside[right], HEARD_S + 0.5)).cell == right
    assert (
        adviser.advise(coverage(seconds), at(left, HEARD_S + 1.0)).cell == left
    )  # there already: it may as well hold it
    seconds[left[1], left[0]] = 2.0
    assert adviser.advise(coverage(seconds), at(left, HEARD_S + 1.5)).cell == right


def test_when_all_is_covered_it_says_so():
    assert Adviser().advise(coverage(np.full(TABLE.shape, 3.0)), at(CELLS[0])).ask is Ask.DONE
    enough = np.zeros(TABLE.shape)
    for i, j in CELLS[: int(0.8 * len(CELLS))]:
        enough[j, i] = 3.0
    assert "Enough for the brief" in Adviser().advise(coverage(enough), at(CELLS[0]), 0.0, 60.0).more


def test_idle_is_asked_for_where_the_engine_idles():
    assert Adviser().advise(coverage(), at(None), idle_wanted_s=12.3).ask is Ask.IDLE
    assert Adviser().advise(coverage(), at(CELLS[20]), idle_wanted_s=12.3).ask is Ask.HOLD


def test_without_a_brief_nothing_is_asked():
    assert Adviser().advise(None, at(CELLS[0])).ask is Ask.NOTHING


@given(st.lists(st.sampled_from(CELLS), min_size=1, max_size=20, unique=True), st.sampled_from(CELLS))
def test_only_cells_still_wanted_are_asked_for(left, here):
    seconds = np.full(TABLE.shape, 5.0)
    for i, j in left:
        seconds[j, i] = 0.0
    told = Adviser().advise(coverage(seconds), at(here))
    assert told.cell in left
    if here in left:
        assert told.cell == here


@pytest.mark.parametrize("seed", [2, 7][: seeds(1, 2)])
def test_the_same_driver_covers_the_brief_sooner_by_it(seed):
    """Ten seeds are run, and printed, by `python -m bench.advice`."""
    alone, advised = covers_in(seed, advised=False), covers_in(seed, advised=True)
    assert advised < 0.75 * alone


def test_of_two_as_near_the_one_among_others_is_said():
    middle = next((i, j) for i, j in CELLS if all((i + a, j) in CELLS for a in range(-2, 3)))
    seconds = np.full(TABLE.shape, 9.0)
    left, right = (middle[0] - 1, middle[1]), (middle[0] + 1, middle[1])
    for i, j in (left, right, (right[0] + 1, right[1])):
        seconds[j, i] = 0.0
    i, j = middle
    speeds, loads = speeds_of(TABLE), load_shares(TABLE)
    between = (speeds[j, i - 1] + speeds[j, i + 1]) / 2
    assert (
        Adviser().advise(coverage(seconds), Engine(10.0, float(between), float(loads[j, i]), 90.0, middle)).cell
        == right
    )
