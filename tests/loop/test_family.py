"""Fuel proposals on the family: engines whose physics differ in kind, none of which the estimators assume."""

from __future__ import annotations

from functools import cache

import numpy as np
import pytest

from bench.family import ESTIMATORS, Judged, judge, table_of
from tests.kept import once
from tests.seeds import seeds
from uchiwa.core.evidence.regions import Region
from uchiwa.standin.family.member import member
from uchiwa.standin.family.physics import VARIANTS

SEEDS, MINUTES = seeds(26, 78), 25.0


@cache
def family() -> tuple[Judged, ...]:
    """Some members of each kind, judged."""
    found: tuple[Judged, ...] = once("family", lambda: tuple(judge(member(number, MINUTES)) for number in range(SEEDS)))
    print("\n" + table_of(list(found)))
    return found


def of(variant: str, key: str) -> float:
    """The median of a figure over a variant's members, %."""
    return float(np.nanmedian([getattr(one, key) for one in family() if one.variant == variant]))


def test_cells_acted_on_are_near_the_truth_whatever_the_physics():
    assert np.nanmedian([one.acted for one in family()]) <= 0.45
    assert np.nanmedian([one.long for one in family()]) <= 0.4
    assert max(of(variant.name, "acted") for variant in VARIANTS) <= 1.2


@pytest.mark.parametrize("variant", [one.name for one in VARIANTS])
def test_delay_and_film_make_no_kind_of_engine_worse(variant):
    assert of(variant, "long") <= of(variant, "plain") + 0.05


@pytest.mark.parametrize("name", ESTIMATORS)
@pytest.mark.parametrize("region", list(Region))
def test_intervals_hold_in_every_region(name, region):
    inside = sum(one.inside[name, region][0] for one in family())
    cells = sum(one.inside[name, region][1] for one in family())
    assert cells >= 20
    assert inside >= 0.9 * cells, f"{inside} of {cells}"
    assert cells < 200 or inside <= 0.995 * cells, f"{inside} of {cells}: wider than they need be"


@pytest.mark.parametrize("variant", [one.name for one in VARIANTS])
@pytest.mark.parametrize("name", ESTIMATORS)
def test_intervals_hold_on_every_kind_of_engine(name, variant):
    told = [one.inside[name, region] for one in family() if one.variant == variant for region in Region]
    inside, cells = (sum(one[at] for one in told) for at in (0, 1))
    assert inside >= 0.87 * cells, f"{inside} of {cells}"


def test_hardly_any_cell_moves_the_wrong_way():
    acted = sum(one.cells[0] for one in family())
    assert sum(one.against for one in family()) <= 0.002 * acted


def test_a_member_is_drawn_by_its_number_alone():
    one, other = member(7, 2.0), member(7, 2.0)
    assert np.array_equal(one.factor, other.factor)
    for a, b in zip(one.logs, other.logs, strict=True):
        assert all(np.array_equal(x.time, y.time) for x, y in zip(a.rasters, b.rasters, strict=True))
    assert len({variant.name for variant in VARIANTS}) == len(VARIANTS) >= 8
