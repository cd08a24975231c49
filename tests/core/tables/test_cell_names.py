"""Cells and rows as people name them."""

from __future__ import annotations

from uchiwa.core.tables.editing.cellname import cell_name, row_name
from uchiwa.core.tables.table import Axis, Table, frozen

COOLANT = Axis("coolant_temperature", "degC", frozen([0.0, 20.0]))


def table(rows: Axis | None) -> Table:
    values = frozen([1.0, 2.0]) if rows is None else frozen([[1.0, 2.0], [3.0, 4.0]])
    return Table("t", "T", "idle_airflow", "g/s", COOLANT, rows, values, 0, 50, 2)


def test_a_state_is_a_word_and_a_number_has_its_unit():
    gears = Axis("in_gear", "1", frozen([0.0, 1.0]))
    assert cell_name(table(gears), 1, 1) == "20 °C, in gear"
    assert [row_name(gears, at) for at in (0, 1)] == ["neutral", "in gear"]
    speeds = Axis("engine_speed", "rpm", frozen([800.0, 1200.0]))
    assert cell_name(table(speeds), 0, 1) == "0 °C × 1200 rpm"
    assert row_name(speeds, 1) == "1200 rpm"


def test_a_curve_has_one_place():
    assert cell_name(table(None), 1, 0) == "20 °C"
