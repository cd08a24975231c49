"""Small tables laid either way, with uneven breakpoints, for the properties that must hold whichever way it is."""

from __future__ import annotations

import numpy as np
from hypothesis import strategies as st

from uchiwa.core.tables.table import Axis, Table, frozen


def _points(draw, low: float, high: float, least: int, most: int) -> np.ndarray:
    size = draw(st.integers(least, most))
    steps = np.array(draw(st.lists(st.floats(0.5, 2.0), min_size=size - 1, max_size=size - 1)))
    return low + (high - low) * np.concatenate(([0.0], np.cumsum(steps))) / steps.sum()


@st.composite
def tables(draw, role: str = "volumetric_efficiency", load: str | None = None) -> Table:
    """A table of speed and load, laid either way, with values that bend."""
    load = load or draw(st.sampled_from(["manifold_pressure", "pressure_ratio", "engine_load"]))
    scale = 100.0 if load == "manifold_pressure" else 1.0
    speeds = Axis("engine_speed", "rpm", frozen(_points(draw, 700, 6600, 3, 8)))
    loads = Axis(load, "kPa" if scale > 1 else "1", frozen(_points(draw, 0.2 * scale, 1.8 * scale, 3, 8)))
    x, y = (speeds, loads) if draw(st.booleans()) else (loads, speeds)
    middle = {"volumetric_efficiency": 70.0, "spark_advance": 25.0}[role]
    at_x, at_y = np.meshgrid(np.linspace(0, 3, x.size), np.linspace(0, 3, y.size))
    values = np.round(middle + 0.15 * middle * np.sin(at_x + draw(st.floats(0, 3))) * np.cos(at_y), 1)
    return Table("under_work", "T", role, "%" if scale else "deg", x, y, frozen(values), None, None, 1)


def operating(table: Table, speed: np.ndarray, load: np.ndarray) -> dict[str, np.ndarray]:
    """Signals that place samples on such a table: `speed` in rpm, `load` as a share of 1.8 times ambient."""
    quantity = table.x.quantity if table.y is not None and table.y.quantity == "engine_speed" else table.y.quantity
    return {"engine_speed": speed, quantity: load * (100.0 if quantity == "manifold_pressure" else 1.0)}
