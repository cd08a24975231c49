"""Reading logs: the page, its traces at any zoom, values at the cursors, moments to jump to, cells, clouds."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from fastapi import Depends, Query, Request
from fastapi.responses import JSONResponse, RedirectResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.core.rounds.progress import Station
from uchiwa.core.tables.table import Table
from uchiwa.core.viewing import arrangement as arranging
from uchiwa.core.viewing.alignment import WORDS, Alignment, at_speed
from uchiwa.core.viewing.arrangement import PURPOSES
from uchiwa.core.viewing.limits import passed
from uchiwa.core.viewing.operating import operating_point
from uchiwa.core.viewing.window import MOST_POINTS, index_at, nearest_index, value_at
from uchiwa.services.reading import Reader
from uchiwa.store import arrangements, ready_logs
from uchiwa.store.database import unit_of_work
from uchiwa.web.drawer import trace_bytes
from uchiwa.web.pages import render
from uchiwa.web.requests.fragment import is_fragment
from uchiwa.web.requests.session import Fields, FromOurForm
from uchiwa.web.round_context import RoundPage, in_round
from uchiwa.web.routing import router as new_router
from uchiwa.web.strips.stretch import Stretch, strips_for
from uchiwa.web.strips.value_map import value_map
from uchiwa.web.strips.view import (
    HERE,
    AlignedLog,
    AsAsked,
    OfLogs,
    StripsQuery,
    arrangement_of,
    limits_for,
    merged_traces,
    opened,
    plan,
    tables_of,
)

router = new_router()
Keys = Annotated[list[str], Query(max_length=80)]
_TRAIL_S = 8.0


def _where(asked: StripsQuery) -> str:
    return f"{asked.page.path}/read"


@router.get(HERE)
def reading(request: Request, asked: AsAsked) -> Response:
    """The page; without a log named, the round's first one that can be read."""
    if not asked.logs:
        with unit_of_work():
            first = ready_logs.first_of(asked.page.round)
        if first is None:
            raise BadInput("this round has no log that can be read yet", advice="open Logs and upload one")
        return RedirectResponse(f"{_where(asked)}?log={first.id}", 303)
    with unit_of_work():
        reader = Reader(asked.page.job, asked.user.shop_id)
        shown = plan(asked, reader, _where(asked))
        if is_fragment(request):
            return JSONResponse(shown)
        tables = tables_of(reader, asked)
        others = _others(asked)
        everything = merged_traces([reader.open(log) for log in asked.logs])
    return render(
        request,
        "read.html",
        asked.user,
        page=asked.page,
        plan=shown,
        purposes=PURPOSES,
        alignments=WORDS,
        tables=[value_map(table) for table in tables],
        others=others,
        traces=[
            {"key": trace.key, "title": trace.title, "unit": trace.unit, "computed": trace.computed}
            for trace in everything.values()
        ],
    )


def _others(asked: StripsQuery) -> list[dict[str, Any]]:
    """The job's other logs that can be laid beside the first: the baseline and the last round's first."""
    first = asked.first
    here = {log.id for log in asked.logs}
    rows = ready_logs.of_job(asked.page.job)
    last = max((row.round.number for row in rows if row.round.number < first.round.number), default=None)
    stem = first.name.rsplit(".", 1)[0].rstrip("0123456789 ")
    like = [row for row in rows if row.round.number == last]
    like = [row for row in like if row.name.startswith(stem)] or like
    best = like[0].id if like else None
    return [
        {
            "id": row.id,
            "name": row.name,
            "round": row.round.number,
            "baseline": row.baseline,
            "last": row.id == best,
            "here": row.id in here,
        }
        for row in rows
    ]


def _stretch(
    start: Annotated[float, Query(allow_inf_nan=False)],
    end: Annotated[float, Query(allow_inf_nan=False)],
    pad: Annotated[float, Query(ge=0, le=1)] = 0.5,
    points: Annotated[int, Query(ge=100, le=MOST_POINTS)] = MOST_POINTS,
) -> Stretch:
    return Stretch(min(start, end), max(start, end), pad, points)


@router.get(HERE + "/strips")
def strips(asked: OfLogs, stretch: Annotated[Stretch, Depends(_stretch)], fit: bool = False) -> Response:
    """The traces of the arrangement from `start` to `end` of the common time, and beyond by `pad` of that."""
    with unit_of_work():
        reader = Reader(asked.page.job, asked.user.shop_id)
        data = strips_for(asked, reader, stretch, fit=fit)
    return Response(data, media_type=trace_bytes.MEDIA_TYPE)


@router.get(HERE + "/at")
def values(
    asked: OfLogs,
    key: Keys,
    at: Annotated[float, Query(allow_inf_nan=False)],
    other: Annotated[float | None, Query(allow_inf_nan=False)] = None,
    table: str = "",
) -> Response:
    """Values of traces at the cursor, and at the second one, of every log; and the place in a table."""
    limits = limits_for(asked.user)
    with unit_of_work():
        reader = Reader(asked.page.job, asked.user.shop_id)
        chosen = next((one for one in tables_of(reader, asked) if one.id == table), None)
        axes = [axis.quantity for axis in (chosen.x, chosen.y) if axis is not None] if chosen is not None else []
        answer: list[dict[str, Any]] = []
        for log in opened(asked, reader, [*key, *axes]):
            found: dict[str, Any] = {}
            for name in key:
                value = _value(log, asked.by, name, at)
                second = None if other is None else _value(log, asked.by, name, other)
                beyond = passed(limits, name, value)
                found[name] = {
                    "value": trace_bytes.number(value),
                    "other": trace_bytes.number(second),
                    "limit": beyond.words if beyond is not None else "",
                }
            answer.append(
                {
                    "id": log.log.log.id,
                    "time": at + log.offset if asked.by is not Alignment.SPEED else None,
                    "values": found,
                    "cell": _cell(log, asked.by, chosen, at) if chosen is not None else None,
                }
            )
    return JSONResponse({"at": at, "other": other, "logs": answer})


def _value(log: AlignedLog, by: Alignment, key: str, at: float) -> float | None:
    if log.log.problem(key):
        return None
    time, signal = log.log.source(key)
    if by is Alignment.SPEED:
        place = log.place
        if place is None or log.log.problem("engine_speed"):
            return None
        first, last = (
            index_at(log.log.stored.main_time, place.start),
            index_at(log.log.stored.main_time, place.end, "right"),
        )
        return at_speed(log.log.source("engine_speed")[1].samples(first, last), log.log.whole(key)[first:last], at)
    moment = at + log.offset
    if not time.extent[0] - 1 <= moment <= time.extent[1] + 1:
        return None
    found = value_at(time, signal, moment)
    return None if found is None else found[1]


def _cell(log: AlignedLog, by: Alignment, table: Table, at: float) -> dict[str, Any] | None:
    """Where in a table the engine was, and where it came from in the seconds before."""
    if by is Alignment.SPEED:
        return None
    for axis in (table.x, table.y):
        if axis is not None and (said := log.log.problem(axis.quantity)):
            return {"problem": said}
    time = log.log.stored.main_time
    moment = at + log.offset
    here = nearest_index(time, moment)
    if here is None or not time.extent[0] - 1 <= moment <= time.extent[1] + 1:
        return None
    x, y = log.log.along(table, min(index_at(time, moment - _TRAIL_S), here), here + 1)
    found = operating_point(table, x, y)
    return {
        "i": found.i,
        "j": found.j,
        "x": trace_bytes.number(found.x),
        "y": trace_bytes.number(found.y),
        "value": trace_bytes.number(found.value),
        "trail": found.trail,
    }


@router.get(HERE + "/arrange")
def arrange(
    asked: AsAsked, do: Literal["add", "remove", "up", "down"], key: Annotated[str, Query(max_length=200)]
) -> Response:
    """The arrangement after a trace was added to it, taken out or moved."""
    with unit_of_work():
        reader = Reader(asked.page.job, asked.user.shop_id)
        traces = merged_traces([reader.open(log) for log in asked.logs])
        now, _ = arrangement_of(asked, traces)
    units = {name: trace.unit for name, trace in traces.items()}
    match do:
        case "add":
            if key not in traces:
                raise BadInput(f"no log that is open has “{key.removeprefix(':')}”", advice="choose one of the list")
            changed = arranging.added(now, key, units)
        case "remove":
            changed = arranging.removed(now, key)
        case "up" | "down":
            changed = arranging.moved(now, key, -1 if do == "up" else 1, units)
    return JSONResponse({"show": str(changed)})


@router.get(HERE + "/find")
def find(asked: AsAsked, typed: Annotated[str, Query(max_length=80)] = "") -> Response:
    """Traces whose name has what was typed."""
    with unit_of_work():
        reader = Reader(asked.page.job, asked.user.shop_id)
        traces = merged_traces([reader.open(log) for log in asked.logs])
        now, _ = arrangement_of(asked, traces)
    keys = arranging.completions(typed, {key: trace.title for key, trace in traces.items()}, now.traces)
    return JSONResponse(
        [
            {"key": key, "title": traces[key].title, "unit": traces[key].unit, "computed": traces[key].computed}
            for key in keys
        ]
    )


@router.post(HERE + "/keep", dependencies=[FromOurForm])
@in_round(Station.LOGS)
def keep(page: RoundPage, form: Fields) -> Response:
    """Keep an arrangement for this person under a name, or drop it."""
    name = str(form.get("name", ""))
    if form.get("drop"):
        arrangements.drop(page.user, name)
    else:
        name = arrangements.keep(page.user, name, arranging.parse(str(form.get("show", ""))[:2000]))
    return JSONResponse({"name": name})
