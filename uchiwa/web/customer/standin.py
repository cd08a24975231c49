"""The stand-in cars of the demo, driven from the customer's page."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from uchiwa.core.briefs.brief import Brief
from uchiwa.core.errors import BadInput
from uchiwa.core.logs.drives import TITLES, DriveKind
from uchiwa.core.logs.log import Log
from uchiwa.core.tables.image.files import read_image
from uchiwa.core.tables.table import Calibration
from uchiwa.standin.cars import StandInCar
from uchiwa.standin.defects import changed, rows, without
from uchiwa.standin.fleet import FLEET
from uchiwa.standin.layouts import flash, layout_of
from uchiwa.standin.simulate import simulate
from uchiwa.store.models import Job

_DRIVES = {
    DriveKind.COLD_START: "cold_start",
    DriveKind.WARM_UP: "cold_morning",
    DriveKind.IN_GEAR_WARM_UP: "in_gear_warm_up",
    DriveKind.WARM_IDLE: "warm_idle",
    DriveKind.CRUISE: "steady_cruise",
    DriveKind.ROLL_ON: "roll_on",
    DriveKind.PULL: "full_load_pull",
}
WAYS = {
    "asked": "as asked",
    "cold": "with a cold engine",
    "short": "only the beginning",
    "forgot": "without the coolant channel",
}


def standin_of(job: Job) -> StandInCar | None:
    """The stand-in car of a demo job, by its title."""
    named = [car for car in FLEET.values() if str(job.car.title).startswith(car.title)]
    return max(named, key=lambda car: len(car.title), default=None)


def flash_file(car: StandInCar, data: bytes) -> Calibration:
    """What the car's controller runs after the stand-in flasher has verified and taken an image file.

    Raises:
        BadInput: the flasher refuses it.
    """
    return flash(car, read_image(data, "the image", layout_of(car).base)[0], "the image")


@dataclass(frozen=True)
class Performed:
    """A drive that is asked of a stand-in car: which, in which way, and the number that chance follows from."""

    drive: str
    way: str
    seed: int


def drive_and_write(
    car: StandInCar, calibration: Calibration, revision: int, brief: Brief | None, wish: Performed
) -> tuple[str, bytes]:
    """Perform a drive of the brief and write it in the dialect of the car's own logger.

    Returns:
        The file's name and its bytes.

    Raises:
        BadInput: the brief has no such drive, or there is no such way to do it.
    """
    drive, way, seed = wish.drive, wish.way, wish.seed
    if drive not in {kind.value for kind in _DRIVES} or way not in WAYS:
        raise BadInput("the stand-in car cannot do that", advice="choose a drive of the brief")
    kind = DriveKind(drive)
    mark = f"{calibration.id}, revision {revision}"
    log = simulate(car, calibration, _DRIVES[kind], seed, revision=mark)
    log = _in_a_way(replace(log, notes={"revision": mark}), way)
    wanted = [ask.quantity for ask in brief.asked] if brief is not None else None
    return f"{TITLES[kind]} {seed}.csv", car.logger.write(log, wanted)


def _in_a_way(log: Log, way: str) -> Log:
    if way == "cold":
        return changed(log, coolant_temperature=lambda time, values, _: np.minimum(values, 31.0 + 0.05 * time))
    if way == "short":
        return rows(log, log.rasters[0].time < 25.0)
    if way == "forgot":
        return without(log, "coolant_temperature")
    return log
