"""A Corvid Pike on poorer fuel, its spark set a few degrees low, with one place where it knocks all the same."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from uchiwa.core.tables.table import Axis, Calibration, Table, frozen
from uchiwa.standin.cars import CARS, StandInCar, calibrated
from uchiwa.standin.knocking import KnockSensor, KnockTruth

_LOW = 3.5
_HOT = 7.0
_LIMIT_SPEEDS = (1000, 2000, 3000, 4000, 5000, 6000)


def sprint_base() -> Calibration:
    """Fuel right, spark low at load but for a hot spot around 2600 rpm, and a table of knock limits that is too tight."""
    base = calibrated(CARS["corvid-pike"])
    table = base.table("spark_main")
    grid = table.grid.copy()
    grid[8:] -= _LOW
    grid[10:, 5:7] += _HOT
    limits = Table(
        "knock_limit", "Knock limit", "knock_limit", "V", Axis("engine_speed", "rpm", frozen(list(map(float, _LIMIT_SPEEDS)))),
        None, frozen([0.62, 0.8, 1.05, 1.2, 1.5, 1.9]), 0.0, 10.0, 2,
    )  # fmt: skip
    spark = table.with_grid(np.round(grid, 1))
    return replace(
        base.with_table(spark),
        title="Corvid Pike 2.0 turbo, fuel done",
        tables=(*base.with_table(spark).tables, limits),
    )


def sprint_car() -> StandInCar:
    """The car: its sensor is fooled by snaps of the throttle, and its knock channels can be recorded."""
    pike = CARS["corvid-pike"]
    truth = replace(pike.truth, knock=KnockTruth(base=39.0, per_kpa=0.21))
    return replace(
        pike, truth=truth, base=sprint_base, knock_channels=True, knock_sensor=KnockSensor(snap=0.5),
        file=pike.file.model_copy(update={"mass": 1240.0, "drag_area": 0.66}),
    )  # fmt: skip
