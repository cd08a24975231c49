"""The heads of a table's grid, the same on every page."""

from __future__ import annotations

from uchiwa.core.tables.table import Axis, Table, frozen
from uchiwa.web.grid.table_grid import Showing, as_grid, drawn


def test_states_and_units_are_words_in_the_heads_of_a_table():
    coolant = Axis("coolant_temperature", "degC", frozen([-20.0, 20.0]))
    gears = Axis("in_gear", "1", frozen([0.0, 1.0]))
    table = Table("t", "T", "idle_airflow", "g/s", coolant, gears, frozen([[4.0, 3.0], [5.0, 4.0]]), 0, 50, 2)
    grid = as_grid(table, drawn(table, table, None, (), Showing.VALUE))
    assert grid.corner == "°C"
    assert grid.columns == ("−20", "20")
    assert [head for head, _ in grid.rows] == ["in gear", "neutral"]
