"""A map carried over to another car: by hand, and over random axes and values."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import make_table
from uchiwa.core.errors import BadInput
from uchiwa.core.shelf.carrying import Changes, changed, compared_with, onto, spark_down
from uchiwa.core.tables.table import Axis, Calibration, Constant, Table, frozen
from uchiwa.standin.fleet import car_named

OWN = Calibration(
    "mine", "Mine",
    (Constant("displacement", "displacement", 2.0, "L"), Constant("injector_flow", "injector_flow", 5.0, "g/s")),
    (make_table([[50.0] * 3, [50.0] * 3]),),
)  # fmt: skip


def laid(x, y, values, *, x_unit="rpm", y_unit="kPa", unit="%", **more) -> Table:
    return Table(
        more.get("id", "ve_main"), "Volumetric efficiency", more.get("role", "volumetric_efficiency"), unit,
        Axis(more.get("x_quantity", "engine_speed"), x_unit, frozen(x)),
        Axis(more.get("y_quantity", "manifold_pressure"), y_unit, frozen(y)), frozen(values), 0, 160, 1,
    )  # fmt: skip


def start(table: Table) -> Calibration:
    return Calibration("other", "Known good", (), (table,))


def test_a_table_is_looked_up_at_the_cars_breakpoints():
    """By hand: between 500 and 2500 rpm and 400 and 800 hPa; 3000 rpm lies beyond and has the last value."""
    table = laid([500, 2500], [400, 800], [[10, 30], [50, 70]], y_unit="hPa")
    step, left = onto(OWN, start(table))
    assert step.content.table("ve_main").grid.tolist() == [[15, 25, 30], [55, 65, 70]]
    assert "1 table carried over from “Known good”: Volumetric efficiency" in step.sentence
    assert left == ("2 cells lie beyond the start map’s breakpoints and have its last value",)
    assert step.content.constants == OWN.constants


def test_a_table_that_is_laid_the_other_way_is_turned():
    table = laid([40, 80], [1000, 2000, 3000], [[1, 2], [3, 4], [5, 6]], x_unit="kPa", y_unit="rpm",
                 x_quantity="manifold_pressure", y_quantity="engine_speed")  # fmt: skip
    step, left = onto(OWN, start(table))
    assert step.content.table("ve_main").grid.tolist() == [[1, 3, 5], [2, 4, 6]]
    assert left == ()


@pytest.mark.parametrize(
    ("table", "why"),
    [
        (laid([500, 2500], [1, 2], [[1, 2], [3, 4]], y_unit="1", y_quantity="pressure_ratio"), "lies over engine speed × pressure ratio"),
        (replace(laid([500, 2500], [40, 80], [[1, 2], [3, 4]]), role="spark_advance"), "the start map has none"),
        (laid([500, 2500], [40, 80], [[1, 2], [3, 4]], unit="bar"), "bar"),
    ],
)  # fmt: skip
def test_what_does_not_fit_is_said_and_nothing_is_half_taken(table, why):
    with pytest.raises(BadInput, match=why):
        onto(OWN, start(table))


def test_a_table_of_another_id_is_known_by_its_role():
    step, _ = onto(OWN, start(laid([1000, 3000], [40, 80], [[10, 30], [50, 70]], id="another")))
    assert step.content.table("ve_main").grid[0].tolist() == [10, 20, 30]


axes = st.lists(st.integers(1, 8000), min_size=2, max_size=6, unique=True).map(sorted)


@given(axes, axes, st.integers(0, 2**32 - 1))
def test_on_its_own_breakpoints_a_map_is_itself_and_no_value_leaves_its_range(x, y, seed):
    values = np.round(np.random.default_rng(seed).uniform(1, 159, (len(y), len(x))), 1)
    known = start(laid(x, y, values))
    again, left = onto(replace(OWN, tables=(laid(x, y, np.zeros_like(values)),)), known)
    assert np.array_equal(again.content.tables[0].grid, values)
    assert left == ()
    step, _ = onto(OWN, known)
    grid = step.content.table("ve_main").grid
    assert values.min() - 0.051 <= grid.min() <= grid.max() <= values.max() + 0.051


def test_changes_are_steps_with_their_reasons():
    base = car_named("corvid-pike").base()
    asked = Changes(injector_flow=8.2, displacement=base.constant("displacement"), spark_down=4, spark_why="95 octane")
    steps = list(changed(base, asked))
    assert [step.sentence for step in steps] == [
        f"Injector flow {base.constant('injector_flow'):g} → 8.2 g/s, for this car",
        f"Spark 4° down in {base.table('spark_main').grid.size} cells, for 95 octane",
    ]
    last = steps[-1].content
    assert last.constant("injector_flow") == 8.2
    assert np.allclose(last.table("spark_main").grid, base.table("spark_main").grid - 4, atol=0.051)


def test_spark_does_not_fall_below_its_minimum():
    table = replace(
        laid([1000, 2000], [40, 80], [[2.0, 10.0], [20.0, 30.0]], role="spark_advance", unit="deg"), minimum=0
    )
    after, cells = spark_down(start(table), 4)
    assert after.tables[0].grid.tolist() == [[0, 6], [16, 26]]
    assert cells == 4


@pytest.mark.parametrize(
    ("asked", "why"),
    [(Changes(stoichiometric_ratio=9.8), "no stoichiometric ratio"), (Changes(spark_down=4), "no table of spark")],
)
def test_a_change_that_the_map_cannot_have_is_refused(asked, why):
    with pytest.raises(BadInput, match=why):
        list(changed(OWN, asked))


@pytest.mark.parametrize("key", ["spark_down", "injector_flow", "displacement"])
def test_numbers_out_of_range_are_refused(key):
    with pytest.raises(BadInput, match=key):
        Changes.read({key: -3})


def test_another_cars_map_is_compared_on_this_cars_breakpoints():
    table = laid([500, 2500], [40, 80], [[10, 30], [50, 70]])
    other, apart = compared_with(OWN, start(table))
    assert other.table("ve_main").x.breakpoints.tolist() == [1000, 2000, 3000]
    assert apart == ("over other breakpoints, compared on this car’s: Volumetric efficiency",)
    with pytest.raises(BadInput, match="no table in common"):
        compared_with(OWN, start(replace(table, role="spark_advance")))


def test_a_unit_that_cannot_be_turned_is_refused_not_overruled():
    flow = next(constant for constant in OWN.constants if constant.role == "injector_flow")
    odd = replace(
        OWN,
        constants=tuple(replace(constant, unit="kPa") if constant is flow else constant for constant in OWN.constants),
    )
    with pytest.raises(BadInput, match="kPa"):
        list(changed(odd, Changes(injector_flow=8.2)))
    told, apart = compared_with(OWN, odd)
    assert "injector_flow" not in {constant.role for constant in told.constants}
    assert any("injector flow cannot be compared" in one for one in apart)


def test_a_constant_is_compared_in_this_cars_unit():
    flow = next(constant for constant in OWN.constants if constant.role == "injector_flow")
    hourly = replace(flow, value=flow.value * 3.6, unit="kg/h")
    other = replace(OWN, constants=tuple(hourly if constant is flow else constant for constant in OWN.constants))
    told, _ = compared_with(OWN, other)
    assert told.constant("injector_flow") == pytest.approx(flow.value)
