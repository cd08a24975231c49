"""The shop's computed channels: written, tried on a log, kept; and the names that formulas know."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Any

import numpy as np
from fastapi import Depends, Form, Query, Request
from fastapi.responses import JSONResponse, RedirectResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.core.formulas.computed import SHIPPED, Book, Computed, check_channel
from uchiwa.core.formulas.language import FUNCTIONS, FormulaError
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.viewing.pyramid import InMemory
from uchiwa.core.viewing.window import Line, drawn, figures
from uchiwa.services.reading import OpenLog, Reader
from uchiwa.store import channels as store
from uchiwa.store import jobs, log_files
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import LogFile, User
from uchiwa.web.pages import render, say
from uchiwa.web.requests.session import FromOurForm, Person
from uchiwa.web.routing import router as new_router
from uchiwa.web.svg.scale import Scale, broken_path

router = new_router()
_HERE = "/shop/channels"
_MOST_LOGS = 40
_MOST_NAMES = 10
_PREVIEW = (380, 92)
Name = Annotated[str, Form(max_length=80)]
Text = Annotated[str, Form(max_length=2000)]


def _logs(user: User) -> list[LogFile]:
    """The shop's latest logs, to try a formula on."""
    return log_files.latest_of_shop(user.shop_id, _MOST_LOGS)


def _open(user: User, log_id: int | None, book: Book) -> OpenLog | None:
    found = next((log for log in _logs(user) if log_id is None or log.id == log_id), None)
    if found is None:
        return None
    job = jobs.find(user.shop_id, found.job_id)
    if job is None:
        return None
    reader = Reader(job, user.shop_id)
    reader.book = book
    return reader.open(found)


def _path(line: Line) -> str:
    """A trace over its whole range."""
    width, height = _PREVIEW
    up = Scale.around(line.values, height - 4.0, 4.0)
    along = Scale(float(line.time[0]), float(line.time[-1]), 0.0, width)
    return broken_path(along.places(line.time), up.places(line.values))


def _tried(user: User, computed: Computed, log_id: int | None) -> dict[str, Any]:
    """What a channel gives on a log, or what is wrong with it and where."""
    book = store.book_of(user.shop_id)
    try:
        log = _open(user, log_id, book)
        calibration, car = (log.calibration, log.car) if log is not None else (None, None)
        changed = check_channel(computed, book, calibration, car)
        meaning = changed.meaning(computed.id, calibration, car)
    except FormulaError as error:
        return {
            "problem": error.what,
            "advice": error.advice,
            "before": computed.formula[: error.position],
            "at": computed.formula[error.position : error.position + error.length] or " ",
            "after": computed.formula[error.position + error.length :],
        }
    except BadInput as error:
        return {"problem": error.what, "advice": error.advice, "before": computed.formula, "at": "", "after": ""}
    tried: dict[str, Any] = {"unit": meaning.unit, "note": meaning.note, "problem": "", "exact": meaning.exact}
    if log is None:
        return tried
    log = _open(user, log_id, changed)
    if log is None:
        return tried
    lacking = log.problem(computed.id)
    tried |= {"log": log.log, "lacking": lacking}
    if not lacking:
        values = np.asarray(log.workings(computed.formula).channel(computed.id), dtype=np.float64)
        line = drawn(InMemory(log.time), InMemory(values), log.start, log.end, 2 * _PREVIEW[0])
        tried |= {"path": _path(line), "figures": figures(InMemory(values), 0, values.size)}
        tried["gaps"] = float(np.mean(~np.isfinite(values)) * 100)
    return tried


def _page(request: Request, user: User, computed: Computed, log_id: int | None, problem: str = "") -> Response:
    with unit_of_work():
        own = store.of_shop(user.shop_id)
        tried = _tried(user, computed, log_id) if computed.formula else None
        logs = _logs(user)
        book = store.book_of(user.shop_id)
        needed = {name for other in book for name in book.formula(other.id).names}
    mine = {other.id for other in own}
    return render(
        request,
        "channels.html",
        user,
        status=400 if problem else 200,
        own=own,
        shipped=[other for other in SHIPPED if other.id not in mine],
        replaced={other.id for other in SHIPPED} & mine,
        needed=needed,
        computed=computed,
        tried=tried,
        logs=logs,
        log_id=log_id,
        problem=problem,
        functions=FUNCTIONS.values(),
        size=_PREVIEW,
    )


@router.get(_HERE)
def channels(request: Request, user: Person, edit: str = "", log: int | None = None) -> Response:
    """All computed channels; one of them in the margin to be changed, or a new one."""
    with unit_of_work():
        book = store.book_of(user.shop_id)
    computed = book[edit] if edit in book else Computed("", "", "")
    return _page(request, user, computed, log)


def _typed(name: Name = "", title: Name = "", formula: Text = "", unit: Name = "") -> Computed:
    """A channel as it stands in the form."""
    words = " ".join(title.split()) or name.strip().replace("_", " ")
    return Computed(name.strip(), words, formula.strip(), unit.strip())


AsTyped = Annotated[Computed, Depends(_typed)]


@router.post(_HERE + "/try", dependencies=[FromOurForm])
def try_out(request: Request, user: Person, computed: AsTyped, log: Annotated[int | None, Form()] = None) -> Response:
    """What a formula gives, as it stands while it is typed."""
    computed = replace(computed, id=computed.id or "as_typed")
    with unit_of_work():
        tried = _tried(user, computed, log) if computed.formula else None
    return render(request, "_channel_tried.html", user, tried=tried, size=_PREVIEW)


@router.post(_HERE, dependencies=[FromOurForm])
def keep(request: Request, user: Person, typed: AsTyped, log: Annotated[int | None, Form()] = None) -> Response:
    """Keep a computed channel for the shop."""
    try:
        with unit_of_work():
            store.keep(user, typed)
    except BadInput as error:
        return _page(request, user, typed, log, str(error))
    say(request, f"{typed.id} is kept: in strips, bins, conditions and checks, for all cars of the shop.")
    return RedirectResponse(f"{_HERE}?edit={typed.id}", 303)


@router.post(_HERE + "/{name}/drop", dependencies=[FromOurForm])
def drop(request: Request, user: Person, name: str) -> Response:
    """Drop one of the shop's own; a shipped one of the same name counts again."""
    with unit_of_work():
        store.drop(user.shop_id, name)
    say(request, f"{name} is dropped.")
    return RedirectResponse(_HERE, 303)


@router.get(_HERE + "/names")
def names(user: Person, typed: Annotated[str, Query(max_length=60)] = "") -> Response:
    """Names and functions that a formula may go on with; those that begin with what was typed come first."""
    with unit_of_work():
        book = store.book_of(user.shop_id)
    found: dict[str, dict[str, str]] = {
        quantity.id: {
            "key": quantity.id,
            "title": f"{quantity.title}, {quantity.unit}" if quantity.unit != "1" else quantity.title,
        }
        for quantity in QUANTITIES.values()
    }
    found |= {computed.id: {"key": computed.id, "title": f"{computed.title}, computed"} for computed in book}
    found |= {
        key: {"key": key, "title": function.words, "write": function.written} for key, function in FUNCTIONS.items()
    }
    part = typed.lower()
    matching = [one for key, one in found.items() if part in key or part in one["title"].lower()]
    matching.sort(key=lambda one: (not one["key"].startswith(part), part not in one["key"], len(one["key"])))
    return JSONResponse(matching[:_MOST_NAMES])
