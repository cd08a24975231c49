"""The units that a person likes to see, for the car at hand."""

from __future__ import annotations

from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.quantities.display import AFR, IMPERIAL, LAMBDA, METRIC, DisplayUnits
from uchiwa.core.tables.table import Calibration
from uchiwa.store.models import Job, User

MEASURES, MIXTURES = (METRIC, IMPERIAL), (LAMBDA, AFR)


def display_of(user: User, job: Job, calibration: Calibration) -> DisplayUnits:
    """A person's units; air-fuel ratios are of the calibration's fuel, else of the car's."""
    ratio = calibration.constant("stoichiometric_ratio")
    return DisplayUnits(user.measures, user.mixture, ratio or CarFile.loads(job.car.file).known_fuel.stoichiometric)
