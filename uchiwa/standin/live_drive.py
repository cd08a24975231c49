"""A stand-in car driven while others look on: its rows as they are recorded, obeying an overlay and, if wished, advice."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

import numpy as np

from uchiwa.core.cars.fuels import stoichiometric_ratio
from uchiwa.core.logs.log import Log
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.quantities.units import convert
from uchiwa.core.tables.table import Calibration
from uchiwa.standin.advised import AdvisedDriver, Goal
from uchiwa.standin.cars import StandInCar
from uchiwa.standin.logger import AFR
from uchiwa.standin.lookup import Lookup
from uchiwa.standin.simulate import LOG_EVERY, LOGGED, STEP_S, Run, recorded

OVERLAY = "fuel_overlay"
_LAST_OF_DRIVE_S = 7200.0


@dataclass(frozen=True)
class PassedChannel:
    """A channel as the car's logger calls it, and how it turns readings into its unit."""

    name: str
    unit: str
    column: int
    decimals: int
    scale: float
    offset: float
    by_ethanol: bool = False


def as_recorded(value: float, decimals: int) -> float:
    """One value rounded as numpy rounds a whole recording: Python's own `round` takes another neighbour near a half."""
    power = 10.0**decimals
    return float(np.rint(value * power)) / power + 0.0


class LiveDrive:
    """A drive that is recorded while it is driven.

    Args:
        car, calibration: the car and what its controller runs.
        drive_name: see `drives.DRIVES`.
        seed: of road, driver and noise.
        revision: mark of the calibration.
        wanted: quantities that its logger records; all that it knows, if not given.
        advised: whether the driver goes where the phone says.
        longest_s: the drive ends after so long at the latest.
    """

    def __init__(
        self,
        car: StandInCar,
        calibration: Calibration,
        drive_name: str,
        seed: int,
        *,
        revision: str = "",
        wanted: Collection[str] | None = None,
        advised: bool = False,
        longest_s: float = _LAST_OF_DRIVE_S,
    ) -> None:
        self.car, self.calibration, self.drive_name = car, calibration, drive_name
        self.revision = revision or calibration.id
        self.run = Run(car, calibration, drive_name, seed, driver=AdvisedDriver)
        self.advised, self.longest_s = advised, longest_s
        self.rows: list[tuple[float, ...]] = []
        self.overlay_number = 0
        self.every = car.logger.every
        self.channels = passed_channels(car, wanted)
        self._ethanol = next(
            (place + 1 for place, (_, quantity, _) in enumerate(LOGGED) if quantity == "ethanol_content"), 0
        )

    @property
    def driver(self) -> AdvisedDriver:
        """Who drives."""
        if not isinstance(self.run.driver, AdvisedDriver):
            raise TypeError("the driver takes no advice")
        return self.run.driver

    @property
    def done(self) -> bool:
        """Whether the drive is over."""
        return self.run.driver.done or self.run.time >= self.longest_s

    def next_row(self) -> list[float]:
        """Drive on until the logger has another row: time in s, then each channel in the logger's unit."""
        while True:
            self.driver.load = self.run.engine.state.pressure / self.run.barometer
            self.run.step()
            number = self.run.number
            row = self.run.row() if number % LOG_EVERY == 0 else None
            self.run.time += STEP_S
            self.run.number += 1
            if row is None:
                continue
            self.rows.append(row)
            if (number // LOG_EVERY) % self.every == 0:
                return self._passed(row)

    def _passed(self, row: tuple[float, ...]) -> list[float]:
        found = [as_recorded(row[0], 3)]
        for channel in self.channels:
            value = as_recorded(row[channel.column], LOGGED[channel.column - 1][2])
            if channel.by_ethanol:
                value *= float(stoichiometric_ratio(np.array([row[self._ethanol]]))[0])
            found.append(as_recorded(value * channel.scale + channel.offset, channel.decimals))
        return found

    def lay_over(self, factors: list[list[float]] | None, table_id: str = "", number: int = 0) -> None:
        """Drive by an overlay from now on, or by the car's own calibration."""
        if factors is None:
            self.run.controller.overlay, self.overlay_number = None, 0
            return
        table = self.calibration.table(table_id)
        self.run.controller.overlay = Lookup.of(table.with_grid(np.array(factors)))
        self.overlay_number = number

    def told(self, speed: float | None, load: float) -> None:
        """Go there, if this driver listens."""
        if self.advised:
            self.driver.goal = Goal(speed, load)

    def recording(self) -> Log:
        """What was recorded in the car, in canonical units."""
        return recorded(self.car, self.rows, self.drive_name, self.revision, {OVERLAY})


def passed_channels(car: StandInCar, wanted: Collection[str] | None = None) -> tuple[PassedChannel, ...]:
    """The channels that a car's logger passes on, up to its limit, and the overlay."""
    logger = car.logger
    columns = {quantity: place + 1 for place, (_, quantity, _) in enumerate(LOGGED)}
    there = {
        channel.quantity
        for channel in recorded(car, [tuple([0.0] * (len(LOGGED) + 1))] * 2, "", "").rasters[0].channels
    }
    chosen = [one for one in (wanted if wanted is not None else logger.names) if one in logger.names and one in there]
    found: list[PassedChannel] = []
    for quantity in chosen[: logger.limit]:
        written = logger.names[quantity]
        scale, offset = 1.0, 0.0
        if written.unit and written.unit != AFR:
            none, one = convert(np.array([0.0, 1.0]), written.unit, QUANTITIES[quantity].unit)
            scale, offset = 1.0 / float(one - none), -float(none) / float(one - none)
        found.append(
            PassedChannel(
                written.name, written.unit, columns[quantity], written.decimals, scale, offset, written.unit == AFR
            )
        )
    found.append(PassedChannel("Fuel overlay", "%", columns[OVERLAY], 3, 1.0, 0.0))
    return tuple(found)
