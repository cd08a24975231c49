"""How long a stand-in driver takes to cover what a brief asks for, alone or going where the phone says."""

from __future__ import annotations

import numpy as np

from uchiwa.core.briefs.coverage import Coverage, cruise_cells, load_shares, speeds_of
from uchiwa.core.live.advice import Adviser, Ask, Engine
from uchiwa.core.live.batch import Batch
from uchiwa.core.live.filling import Filling
from uchiwa.core.live.growth import Growth
from uchiwa.core.live.opening import Opening
from uchiwa.standin.fleet import car_named
from uchiwa.standin.live_drive import LiveDrive

SHARE, CELL_S = 0.6, 2.0
"""What makes a cruise count, as in the standard brief."""
_EACH = 12
_LONGEST_S = 2400.0


def covers_in(seed: int, *, advised: bool, car_name: str = "corvid-pike") -> float:
    """Seconds until so many of the wanted cells were visited for so long; infinite if the drive ends before."""
    car = car_named(car_name)
    drive = LiveDrive(car, car.base(), "steady_cruise", seed, advised=advised)
    calibration = drive.calibration
    table = (calibration.by_role("volumetric_efficiency") or calibration.by_role("maf_curve"))[0]
    growth = Growth(
        Opening.read({"channels": [{"name": channel.name, "unit": channel.unit} for channel in drive.channels]}),
        car.file.knowledge(),
    )
    filling, adviser, cells = Filling(table), Adviser(), cruise_cells(table)
    loads, speeds = load_shares(table), speeds_of(table)
    number = 0
    while not drive.done and drive.run.time < _LONGEST_S:
        number += 1
        growth.add(Batch(number, np.array([drive.next_row() for _ in range(_EACH)])))
        filling.follow(growth)
        if filling.problem:
            continue
        coverage = Coverage(table, cells, filling.seconds, CELL_S)
        if coverage.share >= SHARE:
            return growth.seconds
        told = adviser.advise(coverage, _engine(growth, filling, loads))
        if told.ask is Ask.HOLD and told.cell is not None and table.y is not None:
            i, j = told.cell
            drive.told(float(speeds[j, i]), float(loads[j, i]))
    return float("inf")


def _engine(growth: Growth, filling: Filling, loads: np.ndarray) -> Engine:
    table = filling.table
    x, y, inside = filling.cells_of(growth, growth.size - 1)
    cell = None
    if inside[-1]:
        cell = (int(table.x.nearest(x[-1:])[0]), int(table.y.nearest(y[-1:])[0]) if table.y is not None else 0)
    load = float(loads[cell[1], cell[0]]) if cell is not None else None
    return Engine(growth.seconds, growth.latest("engine_speed"), load, growth.latest("coolant_temperature"), cell)
