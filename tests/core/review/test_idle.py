"""What is said of idle, warm-up and clamps before a draft leaves."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from uchiwa.core.review.reviewed import ReviewedDraft
from uchiwa.core.review.rules import review
from uchiwa.core.tables.table import Calibration
from uchiwa.standin.special_cars import automatic_base, supercharged_base

BASE = automatic_base()
BLOWN = supercharged_base()


def changed(table_id: str, *cells: tuple[int, int, float], by: Calibration = BASE) -> Calibration:
    table = by.table(table_id)
    grid = table.grid.copy()
    for i, j, value in cells:
        grid[j, i] = value
    return by.with_table(table.with_grid(grid))


def rules(draft: Calibration, base: Calibration = BASE, **known: object) -> set[str]:
    own = {"warm_factor", "rises_with_temperature", "gear_below_neutral", "no_gear_row", "clamp_below_signal"}
    return {one.rule for one in review(ReviewedDraft(base, draft, **known))} & own


@pytest.mark.parametrize(("i", "value"), [(9, 103.0), (10, 98.0), (4, 99.0)])
def test_a_factor_that_is_not_a_hundred_when_warm_or_below_it_is_asked_about(i, value):
    assert "warm_factor" in rules(changed("warmup", (i, 0, value)))


def test_an_ordinary_change_is_not():
    assert rules(changed("warmup", (3, 0, 111.5))) == set()
    assert rules(changed("idle_air", (3, 0, 2.6), (3, 1, 2.75)), automatic=True) == set()


def test_what_rises_with_temperature_is_asked_about_by_its_cell():
    found = [
        one
        for one in review(ReviewedDraft(BASE, changed("idle_air", (5, 0, 3.9))))
        if one.rule == "rises_with_temperature"
    ]
    assert found[0].cells == ((5, 0),)
    assert "rises_with_temperature" in rules(changed("warmup", (2, 0, 108.0)))


def test_an_automatic_needs_more_air_in_gear():
    draft = changed("idle_air", (3, 0, 2.7))
    assert "gear_below_neutral" in rules(draft, automatic=True)
    assert "gear_below_neutral" not in rules(draft)
    table = BASE.table("idle_air")
    curve = replace(table, y=None, values=table.grid[0])
    bare = BASE.with_table(curve)
    moved = bare.with_table(curve.with_grid(curve.grid + 0.1))
    assert "no_gear_row" in rules(moved, bare, automatic=True)


def test_a_clamp_below_what_the_car_gave_is_asked_about():
    table = BLOWN.table("signal_clamp")
    draft = BLOWN.with_table(table.with_grid(np.minimum(table.grid, 3.0)))
    reached = {"signal_clamp": ((2000.0, 4000.0, 6000.0), (2.4, 3.3, 3.7))}
    assert rules(draft, BLOWN, reached=reached) == {"clamp_below_signal"}
    fine = BLOWN.with_table(table.with_grid(np.minimum(table.grid, 3.9)))
    assert rules(fine, BLOWN, reached=reached) == set()
