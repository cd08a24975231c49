"""The car file, and the calibration of its sensors."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from fastapi import Request
from fastapi.responses import RedirectResponse, Response
from starlette.datastructures import FormData

from uchiwa.core.cars.car_file import OWN, CarFile
from uchiwa.core.cars.fuels import FUELS
from uchiwa.core.cars.sensors import PRESSURE_LINES, WIDEBAND_LINES, CommonLine, LineFit, fit_line
from uchiwa.core.errors import BadInput
from uchiwa.core.typed_number import plain_number
from uchiwa.core.whole_number import whole_number
from uchiwa.services.idle_cell import idle_cell
from uchiwa.store import car_files, events, import_results, log_files
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Job
from uchiwa.store.three_way import merge, read_seen
from uchiwa.web.pages import render, say
from uchiwa.web.requests.session import Fields, FromOurForm, Person
from uchiwa.web.round_context import job_of, locked_job
from uchiwa.web.routing import router as new_router
from uchiwa.web.shop.sensor_line import SensorLine, sensor_line

_NOTHING: Mapping[str, str] = {}
router = new_router()
_NUMBER = re.compile(r"[-+]?\d{1,30}(?:[.,]\d{1,30})?")


def _points(text: str) -> list[list[float]]:
    """Points written one a line, as `volts reading`, with any signs between the two numbers.

    Raises:
        BadInput: a line does not hold two numbers; it is named.
    """
    points: list[list[float]] = []
    for number, line in enumerate(text.splitlines(), start=1):
        if not line.strip():
            continue
        found = [float(plain_number(one)) for one in _NUMBER.findall(line)]
        if len(found) != 2:
            raise BadInput(
                "a point is two numbers, volts and reading",
                where=f"line {number} of the points",
                advice="write for example “1.0 0.80”",
            )
        points.append(found)
    return points


def _read(form: FormData) -> CarFile:
    """The car file from its form; empty fields are not known."""
    data: dict[str, Any] = {}
    for key in CarFile.model_fields:
        if key in ("wideband_points", "pressure_points", "dead_times"):
            data[key] = _points(str(form.get(key, "")))
        elif key == "ratios":
            data[key] = [float(plain_number(one)) for one in _NUMBER.findall(str(form.get(key, "")))]
        elif key in ("knock_sensor", "automatic"):
            data[key] = form.get(key) == "yes"
        else:
            value = str(form.get(key, "")).strip()
            if value:
                data[key] = value if key == "logger" else plain_number(value)
    if "banks" in data:
        data["banks"] = whole_number(data["banks"]) or data["banks"]
    return CarFile.read(data)


def _fit(points: tuple[tuple[float, float], ...]) -> LineFit | None:
    try:
        return fit_line(points)
    except BadInput:
        return None


def _picture(
    chosen: str | None, own: tuple[tuple[float, float], ...], lines: dict[str, CommonLine], unit: str
) -> SensorLine | None:
    """The line that a car file names, or the one through its own points; None without either."""
    if chosen in lines:
        return sensor_line(lines[chosen].line, lines[chosen].points, unit)
    fit = _fit(own) if chosen == OWN else None
    return None if fit is None else sensor_line(fit.line, own, unit)


def _written(points: tuple[tuple[float, float], ...]) -> str:
    return "\n".join(f"{volts:g} {reading:g}" for volts, reading in points)


@router.get("/jobs/{job_id}/car")
def car(request: Request, user: Person, job_id: int) -> Response:
    """The car file as a form; the margin shows the lines of its sensors and where the car idles."""
    with unit_of_work():
        job = job_of(user, job_id)
        return _page(request, user, job)


def _page(request: Request, user: Person, job: Job, problem: str = "", typed: Mapping[str, str] = _NOTHING) -> Response:
    file = CarFile.loads(job.car.file)
    values = {
        "job": job,
        "car": file,
        "typed": typed,
        "seen": typed.get("seen", file.model_dump_json()),
        "problem": problem,
        "fuels": FUELS,
        "wideband_lines": WIDEBAND_LINES,
        "pressure_lines": PRESSURE_LINES,
        "own": OWN,
        "wideband_fit": _fit(file.wideband_points),
        "pressure_fit": _fit(file.pressure_points),
        "wideband_text": typed.get("wideband_points", _written(file.wideband_points)),
        "pressure_text": typed.get("pressure_points", _written(file.pressure_points)),
        "dead_text": typed.get("dead_times", _written(file.dead_times)),
        "wideband_picture": _picture(file.wideband_line, file.wideband_points, WIDEBAND_LINES, "λ"),
        "pressure_picture": _picture(file.pressure_sensor, file.pressure_points, PRESSURE_LINES, "kPa"),
        "volt_logs": log_files.with_volts(job),
        "idle": idle_cell(job),
        "reading": log_files.being_read(job),
    }
    return render(request, "car.html", user, status=400 if problem else 200, **values)


@router.post("/jobs/{job_id}/car", dependencies=[FromOurForm])
def keep(request: Request, user: Person, form: Fields, job_id: int) -> Response:
    """Keep the car file; logs whose readings depend on it are read anew."""
    with unit_of_work():
        job = locked_job(user, job_id)
        before = CarFile.loads(job.car.file)
        try:
            mine = _read(form).model_dump(mode="json")
            seen = read_seen(str(form.get("seen", "")))
            file = CarFile.read(merge(seen, mine, before.model_dump(mode="json"), "The car file"))
        except BadInput as error:
            typed = {key: str(value) for key, value in form.items()}
            return _page(request, user, job, str(error), typed)
        car_files.keep(job, file)
        ids: list[int] = []
        if file.knowledge() != before.knowledge():
            ids = import_results.read_again(log_files.arrived(job))
        if file != before:
            events.record(job, "car", "Changed the car file", author=user)
    count = len(ids)
    say(request, f"Saved. {count} log{'s are' if count != 1 else ' is'} read anew with it." if count else "Saved.")
    return RedirectResponse(f"/jobs/{job_id}/car", 303)
