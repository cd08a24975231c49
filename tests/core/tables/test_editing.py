"""Edits of cells: hand-worked numbers and properties."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from tests.conftest import make_table
from uchiwa.core.errors import BadInput
from uchiwa.core.quantities.display import DisplayUnits, scale_of, shown_table
from uchiwa.core.tables.editing.area import Area
from uchiwa.core.tables.editing.breakpoints import read_breakpoints, rebroken
from uchiwa.core.tables.editing.clipboard import Joining, copied, pasted, read_numbers
from uchiwa.core.tables.editing.filling import Direction, filled
from uchiwa.core.tables.editing.line import VERBS, edited
from uchiwa.core.tables.editing.smoothing import smoothed
from uchiwa.core.tables.editing.steps import LedgeDirection, limited, steps_above
from uchiwa.core.tables.table import Axis, Table, frozen

SPEEDS = [1000.0, 1500.0, 2500.0, 3000.0, 4000.0]
LOADS = [20.0, 40.0, 80.0, 100.0]


def grid_table(values, decimals: int = 1, role: str = "spark_advance", unit: str = "deg") -> Table:
    values = np.asarray(values, dtype=float)
    return Table(
        "t", "Spark advance", role, unit,
        Axis("engine_speed", "rpm", frozen(SPEEDS[: values.shape[1]])),
        Axis("manifold_pressure", "kPa", frozen(LOADS[: values.shape[0]])),
        frozen(values), -100, 400, decimals,
    )  # fmt: skip


FLAT = grid_table(np.full((4, 5), 10.0))
grids = arrays(np.float64, (4, 5), elements=st.integers(-300, 600).map(lambda n: n / 10))
masks = arrays(np.bool_, (4, 5)).filter(lambda mask: mask.any())
pins = arrays(np.bool_, (4, 5))


def cells(mask) -> list[tuple[int, int]]:
    return [(int(i), int(j)) for j, i in np.argwhere(mask)]


def area_of(mask, pinned=None) -> Area:
    return Area(np.asarray(mask), np.zeros((4, 5), dtype=bool) if pinned is None else np.asarray(pinned))


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("x*1.05", 10.5),
        ("x-4", 6.0),
        ("min(x, 8)", 8.0),
        ("14", 14.0),
        ("+5 %", 10.5),
        ("−5%", 9.5),
        ("was + 1", 13.0),
        ("x + engine_speed/1000", 12.5),
        ("where(manifold_pressure > 50, x + 2, x + 1)", 12.0),
    ],
)
def test_the_cell_line_computes_from_the_cells_own_value(text, expected):
    base = grid_table(np.full((4, 5), 12.0))
    after = edited(FLAT, Area.of(FLAT, [(2, 2)]), text, base)
    assert after.table.grid[2, 2] == pytest.approx(expected)
    assert after.changed.sum() == 1
    assert after.sentence.startswith("Spark advance: ")


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("", "the cell line is empty"),
        ("x*", "this is not a formula"),
        ("y + 1", "“y” is not known for a cell"),
        ("rate(x)", "rate has no meaning for a cell"),
        ("x / (x - 10)", "1000 rpm × 20 kPa: this gives no number"),
        ("x > 3", "this is a condition"),
        ("smooth", "write smooth 40"),
        ("smooth 0", "smoothing by 0 %"),
        ("smooth 40 99", "smoothing 99 times"),
        ("fill sideways", "write fill across"),
        ("steps -1", "above 0"),
        ("shape row 33", "there is no row at 33"),
        ("x", "this changes nothing"),
        ("__import__('os')", "this call is not allowed"),
    ],
)
def test_a_cell_line_that_cannot_be_applied_says_why(text, said):
    with pytest.raises(BadInput, match=None) as error:
        edited(FLAT, Area.of(FLAT, [(0, 0)]), text)
    assert said in str(error.value)


def test_every_verb_can_be_written_as_it_is_shown():
    rng = np.random.default_rng(3)
    table = grid_table(rng.uniform(10, 60, (4, 5)).round(1))
    for verb in VERBS.values():
        written = verb.written.replace("60", "80")
        assert edited(table, Area.whole(table), written).changed.any()


def test_lines_are_straight_in_the_breakpoints_not_in_the_cells():
    table = grid_table([[10, 0, 0, 0, 40]] * 4)
    after = filled(table, Area.of(table, [(i, 1) for i in range(5)]), Direction.ACROSS)
    # 1000 … 4000 rpm: 10 + 30 · (1500 − 1000) / 3000 = 15, and so on
    assert after[1].tolist() == pytest.approx([10, 15, 25, 30, 40])
    assert (after[0] == table.grid[0]).all()
    tall = grid_table([[10] * 5, [0] * 5, [0] * 5, [50] * 5])
    up = filled(tall, Area.of(tall, [(3, j) for j in range(4)]), Direction.UP)
    assert up[:, 3].tolist() == pytest.approx([10, 20, 40, 50])


def test_filling_both_ways_restores_any_bilinear_surface_from_its_edges():
    x, y = np.meshgrid(SPEEDS, LOADS)
    whole = 5 + x / 500 + y / 10 + x * y / 1e5
    hollow = whole.copy()
    hollow[1:-1, 1:-1] = 0
    table = grid_table(hollow)
    assert filled(table, Area.whole(table), Direction.BOTH) == pytest.approx(whole)
    with pytest.raises(BadInput, match="whole rectangle"):
        filled(table, Area.of(table, [(0, 0), (2, 2)]), Direction.BOTH)
    with pytest.raises(BadInput, match="nothing between"):
        filled(table, Area.of(table, [(0, 0), (1, 0)]), Direction.ACROSS)


def test_smoothing_leaves_a_slope_and_takes_a_spike():
    x, y = np.meshgrid(SPEEDS, LOADS)
    plane = 3 + x / 200 + y / 8
    assert smoothed(grid_table(plane), Area.whole(FLAT), 100) == pytest.approx(plane)
    spike = np.full((4, 5), 10.0)
    spike[1, 2] = 20
    after = smoothed(grid_table(spike), Area.of(FLAT, [(2, 1)]), 50)
    assert after[1, 2] == pytest.approx(15)
    assert (after != spike).sum() == 1


@given(grids, masks, pins, st.floats(1, 100), st.integers(1, 5))
def test_smoothing_never_leaves_the_selection_and_keeps_pins(grid, mask, pinned, percent, passes):
    after = smoothed(grid_table(grid), area_of(mask, pinned), percent, passes)
    assert (after == grid)[~mask | pinned].all()


def neighbours_within(grid, free, most: float) -> bool:
    for axis in (0, 1):
        steps = np.abs(np.diff(grid, axis=axis))
        both = free[1:] & free[:-1] if axis == 0 else free[:, 1:] & free[:, :-1]
        if (steps[both] > most + 1e-9).any():
            return False
    return True


@given(grids, masks, pins, st.integers(1, 200).map(lambda n: n / 10))
def test_lowering_holds_the_limit_and_never_raises(grid, mask, pinned, most):
    area = area_of(mask, pinned)
    after = limited(grid_table(grid), area, most, LedgeDirection.LOWER)
    assert (after <= grid).all()
    assert (after == grid)[~area.open].all()
    assert neighbours_within(after, area.open, most)
    # nothing in the area stands above a neighbour by more, whether that one may move or not
    for axis in (0, 1):
        step = np.diff(after, axis=axis)
        low = area.open[1:] if axis == 0 else area.open[:, 1:]
        high = area.open[:-1] if axis == 0 else area.open[:, :-1]
        assert (step[low] <= most + 1e-9).all()
        assert (-step[high] <= most + 1e-9).all()


@given(grids, masks, pins, st.integers(1, 200).map(lambda n: n / 10))
def test_evening_out_holds_the_limit_inside_the_selection(grid, mask, pinned, most):
    area = area_of(mask, pinned)
    after = limited(grid_table(grid), area, most, LedgeDirection.BOTH)
    assert (after == grid)[~area.open].all()
    assert neighbours_within(after, area.open, most)


def test_a_ledge_is_evened_from_both_sides_or_taken_down():
    table = grid_table([[10, 10, 20, 20, 20]] * 4)
    both = limited(table, Area.whole(table), 4, LedgeDirection.BOTH)
    assert both[0].tolist() == pytest.approx([11, 13, 17, 19, 20], abs=1.01)
    assert not steps_above(both, 4).any()
    lower = limited(table, Area.whole(table), 4, LedgeDirection.LOWER)
    assert lower[0].tolist() == [10, 10, 14, 18, 20]
    assert steps_above(table.grid, 4)[0].tolist() == [False, True, True, False, False]


def test_a_row_takes_anothers_shape_and_keeps_its_level():
    table = grid_table([[10, 20, 30, 20, 10], [50] * 5, [5] * 5, [0] * 5])
    scaled = edited(table, Area.of(table, [(i, 1) for i in range(5)]), "shape row 20").table.grid[1]
    assert scaled == pytest.approx(np.array([10, 20, 30, 20, 10]) * 50 / 18, abs=0.051)
    shifted = edited(table, Area.of(table, [(i, 2) for i in range(5)]), "shape row 20 shifted").table.grid[2]
    assert shifted.tolist() == pytest.approx([-3, 7, 17, 7, -3])
    column = edited(table, Area.of(table, [(1, j) for j in range(4)]), "shape column 2500 shifted").table.grid[:, 1]
    assert column.mean() == pytest.approx(table.grid[:, 1].mean(), abs=0.05)


def test_pins_hold_and_are_told_of():
    area = Area.of(FLAT, [(0, 0), (1, 0)], pinned=[(0, 0)])
    after = edited(FLAT, area, "x+1")
    assert after.table.grid[0, :2].tolist() == [10, 11]
    assert after.sentence.endswith("in 1 cell, 1 pinned kept")
    with pytest.raises(BadInput, match="free them first"):
        Area.of(FLAT, [(0, 0)], pinned=[(0, 0)])


def test_limits_of_the_table_hold_and_are_told_of():
    after = edited(FLAT, Area.of(FLAT, [(0, 0)]), "x*1000")
    assert after.table.grid[0, 0] == 400
    assert "1 held at the table's limit" in after.sentence


def test_text_of_a_spreadsheet_goes_in_and_out_highest_row_first():
    table = grid_table(np.arange(20).reshape(4, 5))
    area = Area.of(table, [(i, j) for i in (1, 2) for j in (1, 2)])
    text = copied(table.grid, area, 1)
    assert text == "11.0\t12.0\n6.0\t7.0"
    back, where = pasted(table, Area.of(table, [(3, 3)]), read_numbers(text + "\r\n"), Joining.REPLACE)
    assert back[3, 3:].tolist() == [11, 12]
    assert back[2, 3:].tolist() == [6, 7]
    assert where.count == 4
    added, _ = pasted(table, area, read_numbers("0,5"), Joining.ADD)
    assert added[1:3, 1:3].tolist() == [[6.5, 7.5], [11.5, 12.5]]
    multiplied, _ = pasted(table, area, read_numbers("2\t3\n4\t5"), Joining.MULTIPLY)
    assert multiplied[1:3, 1:3].tolist() == [[24, 35], [22, 36]]


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("", "nothing to paste"),
        ("1\t2\n3", "pasted line 2: this line has 1 cells and the first has 2"),
        ("1\tlow", "pasted line 1, cell 2: “low” is not a number"),
        ("1.5\t2,5", "pasted line 1, cell 2: “2,5” has a decimal comma"),
        ("1.234,5", "pasted line 1, cell 1: “1.234,5” is not a number"),
        ("1\t\t2", "pasted line 1, cell 2: the cell is empty"),
        ("nan", "“nan” is not a number"),
        ("1e999", "is not a number"),
        ("1\t2\t3", "do not fit 2 × 2 chosen cells"),
        ("12 %", "is not a number"),
    ],
)
def test_text_that_cannot_be_pasted_names_line_and_cell(text, said):
    area = Area.of(FLAT, [(0, 0), (1, 0), (0, 1), (1, 1)])
    with pytest.raises(BadInput) as error:
        pasted(FLAT, area, read_numbers(text), Joining.REPLACE)
    assert said in str(error.value)


def test_a_block_does_not_hang_over_the_edge():
    with pytest.raises(BadInput, match="room for 1 × 1"):
        pasted(FLAT, Area.of(FLAT, [(4, 0)]), read_numbers("1\t2\n3\t4"), Joining.REPLACE)


def test_other_breakpoints_read_off_the_old_table():
    table = make_table([[10, 20, 40], [50, 60, 80]])
    after = rebroken(table, np.array([1000.0, 1500.0, 2500.0, 4000.0]), np.array([40.0, 60.0, 90.0]))
    assert after.grid.tolist() == [[10, 15, 30, 40], [30, 35, 50, 60], [50, 55, 70, 80]]
    assert read_breakpoints("1000 1500;2500\n4000", "x").tolist() == [1000, 1500, 2500, 4000]
    for text, said in (
        ("1000", "2 to 256"),
        ("1000 900", "x, breakpoint 2: 900 does not rise"),
        ("1000 a", "not a number"),
    ):
        with pytest.raises(BadInput) as error:
            read_breakpoints(text, "x")
        assert said in str(error.value)


@given(st.lists(st.integers(5, 80), min_size=2, max_size=20, unique=True))
def test_breakpoints_that_stay_keep_their_values_exactly(points):
    table = make_table([[10.1, 20.3, 40.7], [50.9, 60.1, 80.3]])
    x = np.array(sorted({*(50.0 * one for one in points), 1000.0, 3000.0}))
    after = rebroken(table, x, np.array([40.0, 80.0]))
    for i, point in enumerate(table.x.breakpoints):
        if point in x:
            at = int(np.flatnonzero(x == point)[0])
            assert (after.grid[:, at] == table.grid[:, i]).all()


def test_edits_are_meant_in_the_units_that_are_seen():
    pressure = Table(
        "p",
        "Pressure",
        "other",
        "kPa",
        Axis("coolant_temperature", "degC", frozen([0, 100])),
        None,
        frozen([100, 200]),
        0,
        400,
        1,
    )
    imperial = DisplayUnits("imperial")
    seen = shown_table(pressure, imperial)
    assert seen.unit == "psi"
    assert seen.x.breakpoints.tolist() == pytest.approx([32, 212])
    after = edited(pressure, Area.of(pressure, [(0, 0)]), "20", display=imperial).table
    assert after.grid[0].tolist() == [137.9, 200]  # 20 psi = 137.895 kPa; the other cell is not converted to and fro
    target = Table(
        "l",
        "λ target",
        "lambda_target",
        "1",
        Axis("engine_speed", "rpm", frozen([0, 100])),
        None,
        frozen([1, 1]),
        0.6,
        1.2,
        3,
    )
    afr = edited(
        target, Area.of(target, [(1, 0)]), "12.5", display=DisplayUnits(mixture="afr", stoichiometric=14.7)
    ).table
    assert afr.grid[0].tolist() == [1, 0.85]
    assert scale_of("g/s", DisplayUnits("imperial")).factor == pytest.approx(60 / 453.59237)
