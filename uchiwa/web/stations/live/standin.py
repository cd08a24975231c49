"""The stand-in car of a demo job, driving and passing its samples on, in a process of its own."""

from __future__ import annotations

import subprocess
import sys

from uchiwa.core.errors import BadInput
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.settings import Settings
from uchiwa.standin.cars import StandInCar
from uchiwa.standin.drives import DRIVES
from uchiwa.store import calibrations, links, revisions
from uchiwa.store.database import run_again, unit_of_work
from uchiwa.store.locks import lock_job
from uchiwa.store.models import Job
from uchiwa.web.customer.standin import standin_of

_driving: list[subprocess.Popen[bytes]] = []


def can_drive(job: Job) -> StandInCar | None:
    """The stand-in of a job's car; None for a real one."""
    return standin_of(job)


def drive_it(job: Job, drive: str, speed: float, settings: Settings) -> None:
    """Have the car drive. Call outside a transaction.

    Raises:
        BadInput: there is no such drive, or its link was ended.
    """
    car = standin_of(job)
    if car is None or drive not in DRIVES:
        raise BadInput("the stand-in car cannot do that", advice=f"its drives are {', '.join(DRIVES)}")
    token, calibration, mark = _for_the_car(job)
    if token is None:
        raise BadInput(
            "its link was ended", where="the stand-in car", advice="renew the customer’s link on the Brief page"
        )
    folder = settings.home / "stand-in"
    folder.mkdir(parents=True, exist_ok=True)
    flashed = folder / f"{job.id}.json"
    flashed.write_text(calibration, encoding="utf-8")
    _driving[:] = [driver for driver in _driving if driver.poll() is None]
    where = f"http://127.0.0.1:{settings.port}/c/{token}"
    words = ("--car", car.id, "--link", where, "--calibration", str(flashed), "--drive", drive, "--speed", f"{speed:g}")
    _driving.append(
        subprocess.Popen(
            [sys.executable, "-m", "uchiwa", "standin", "live", *words, "--mark", mark, "--with-parent"],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
    )


@run_again
def _for_the_car(job: Job) -> tuple[str | None, str, str]:
    """A link for it, the calibration that it runs, and the mark of that."""
    with unit_of_work():
        lock_job(job.id)
        # A demo job whose customer has no link yet gets one: whoever tries this alone need not know of links first.
        token = links.for_mail(job, f"stand-in {job.id}") if links.current(job) is not None else links.make(job)
        revision = revisions.offered(job)
        if revision is None:
            raise BadInput("there is no calibration for the car", advice="give the job one first")
        content = calibrations.content(revision.calibration)
        return token, calibration_json.dumps(content), f"{content.id}, revision {revision.number}"
