"""A round's airflow by every way its logs allow."""

from __future__ import annotations

import json

from uchiwa.core.airflow.crosscheck import CrossCheck, air_of, cross_check
from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.errors import BadInput
from uchiwa.core.logs.recognition.doubt import ask
from uchiwa.core.proposals.fuel.evidence import QUANTITIES
from uchiwa.services.log_cache import from_logs
from uchiwa.store import calibrations, channels, jobs, revisions, samples
from uchiwa.store.models import Job, LogFile, Round

_COMPUTED = ("speed_density_air", "fuel_based_air")


def airflow_of(job: Job, round_: Round) -> tuple[CrossCheck, list[LogFile]]:
    """The cross-check of a round's accepted logs, against the revision they were recorded with.

    Raises:
        BadInput: there is no usable log.
        DoubtError: a channel that it would use is in doubt.
    """
    logs = jobs.usable_logs(round_)
    revision = revisions.running(job, round_)
    if not logs or revision is None:
        raise BadInput("there is no log to compute from", advice="accept at least one log of this round")
    base = calibrations.content(revision.calibration)
    car = CarFile.model_validate(json.loads(job.car.file)) if job.car.file != "{}" else None
    book = channels.book_of(job.shop_id)
    needed = set(QUANTITIES) | {"engine_speed", "ethanol_content", "battery_voltage"}
    measured = {"airflow", "coolant_temperature"}.union(*(book.needs(way, base) for way in _COMPUTED))
    needed |= measured

    def checked() -> CrossCheck:
        read = samples.read(logs, needed)
        ask(read, measured)
        return cross_check([air_of(log, base, car, book) for log in read])

    used = tuple(book.written_out(way) for way in (*_COMPUTED, "fuel_error"))
    more = (revision.calibration.content_hash, job.car.file, used)
    return from_logs("airflow", logs, more, checked), logs
