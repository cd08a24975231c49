"""What every report says of a cell first."""

from __future__ import annotations

from uchiwa.core.proposals.cell_entry import cell_entry
from uchiwa.standin.cars import pike_base
from uchiwa.standin.fleet import car_named


def test_a_cell_of_a_surface_has_its_place_and_both_values():
    table = pike_base().table("ve_main")
    after = table.grid + 1.5
    entry = cell_entry(table, after, 3, 2)
    assert entry == {
        "i": 3,
        "j": 2,
        "x": table.x.breakpoints[3],
        "y": table.y.breakpoints[2],
        "before": table.grid[2, 3],
        "after": table.grid[2, 3] + 1.5,
    }


def test_a_curve_has_no_second_breakpoint():
    calibration = car_named("larkspur-tern").base()
    curve = next(table for table in calibration.tables if table.y is None)
    entry = cell_entry(curve, curve.grid, 1, 0)
    assert entry["y"] is None
    assert entry["before"] == entry["after"] == curve.grid[0, 1]
