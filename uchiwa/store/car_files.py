"""The car file of a job."""

from __future__ import annotations

from uchiwa.core.cars.car_file import CarFile
from uchiwa.store.models import Car, Job


def keep(job: Job, file: CarFile) -> None:
    """Keep what a job's car file says now."""
    Car.update(file=file.model_dump_json()).where(Car.id == job.car_id).execute()
