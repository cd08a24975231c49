"""The address map of an image, and the lines of sensors."""

from __future__ import annotations

import itertools

import pytest

from uchiwa.core.cars.sensors import PRESSURE_LINES, fit_line
from uchiwa.standin.fleet import car_named
from uchiwa.standin.layouts import layout_of
from uchiwa.web.shop.image_map import WIDTH, image_map
from uchiwa.web.shop.sensor_line import sensor_line


def test_every_table_has_its_place_on_the_map_in_the_order_of_addresses():
    layout = layout_of(car_named("corvid-pike"))
    first = layout.tables[0].place
    drawn = image_map(layout, [(first.address, first.address + 2), (layout.base, layout.base + 1)])
    assert [block.title for block in drawn.blocks] == [table.title for table in layout.tables]
    assert all(one.x >= 0 and one.x + one.width <= WIDTH for one in (*drawn.whole, *drawn.blocks))
    ordered = sorted(zip(layout.tables, drawn.blocks, strict=True), key=lambda one: one[0].place.address)
    assert all(a[1].x < b[1].x for a, b in itertools.pairwise(ordered))
    assert len({block.label_y for block in drawn.blocks}) == len(drawn.blocks)


def test_only_changes_that_lie_among_the_tables_are_drawn_enlarged():
    layout = layout_of(car_named("corvid-pike"))
    first = layout.tables[0].place
    (one,) = image_map(layout, [(first.address, first.address + 2), (layout.base, layout.base + 1)]).changed
    assert one[0] == pytest.approx(image_map(layout, ()).blocks[0].x)


def test_a_sensor_line_goes_through_its_points_and_shows_what_is_left_over():
    common = PRESSURE_LINES["3bar"]
    exact = sensor_line(common.line, common.points, "kPa")
    assert all(point.y == pytest.approx(point.line_y, abs=0.11) for point in exact.points)
    measured = ((0.5, 10.0), (2.5, 165.0), (4.5, 305.0))
    fit = fit_line(measured)
    drawn = sensor_line(fit.line, measured, "kPa")
    above = [point.y < point.line_y for point in drawn.points]
    assert above == [residual > 0 for residual in fit.residuals]
    assert drawn.ends[1] > drawn.ends[3], "more volts are more pressure, and up is up"
