"""What the reading page shows: logs laid over each other, an arrangement of strips, and what lies in them."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated, Any

from fastapi import Depends, HTTPException, Query, Request

from uchiwa.core.checks.finding import Finding
from uchiwa.core.checks.thresholds import Thresholds
from uchiwa.core.errors import BadInput
from uchiwa.core.logs.drives import TITLES, DriveKind
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.rounds.progress import Station
from uchiwa.core.tables.table import Table
from uchiwa.core.viewing.alignment import Alignment, Place, places, usual_place
from uchiwa.core.viewing.arrangement import PURPOSES, Arrangement, check_axes, fitted, parse
from uchiwa.core.viewing.limits import Limit, limits_of
from uchiwa.core.whole_number import whole_number
from uchiwa.services.reading import OpenLog, Reader, Trace
from uchiwa.store import arrangements, findings, notes, ready_logs
from uchiwa.store.collected import drive_words, drives_of
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import LogFile, LogNote, User
from uchiwa.web.drawer import trace_bytes
from uchiwa.web.requests.session import Person
from uchiwa.web.round_context import RoundPage, round_page

HERE = "/jobs/{job_id}/rounds/{number}/read"
MOST_LOGS = 6
MOST_SPANS = 600
_SHOWN_DRIVES = (
    DriveKind.COLD_START,
    DriveKind.WARM_UP,
    DriveKind.IN_GEAR_WARM_UP,
    DriveKind.WARM_IDLE,
    DriveKind.CRUISE,
    DriveKind.ROLL_ON,
    DriveKind.PULL,
)


@dataclass(frozen=True)
class StripsQuery:
    """What the address of the page asks for; every answer of the page is for this.

    Attributes:
        user: who asks.
        page: the round.
        logs: of the job, in the order in which they are laid over each other.
        show: the arrangement as text, a purpose's id, or empty.
        by: how they are aligned.
        place: number of the place of each log by which it is aligned, by the log's id.
    """

    user: User
    page: RoundPage
    logs: tuple[LogFile, ...]
    show: str
    by: Alignment
    place: dict[int, int]

    @property
    def first(self) -> LogFile:
        """The first log; there must be one."""
        return self.logs[0]


@dataclass(frozen=True)
class StripsAddress:
    """What the address of the page names: logs, an arrangement, and how and by which place the logs are aligned."""

    log: Annotated[list[int] | None, Query()] = None
    show: Annotated[str, Query(max_length=2000)] = ""
    by: Alignment = Alignment.TIME
    place: Annotated[list[str] | None, Query()] = None


def asked(
    request: Request, user: Person, job_id: int, number: int, named: Annotated[StripsAddress, Depends()]
) -> StripsQuery:
    """The logs and the arrangement that an address names.

    Raises:
        HTTPException: 404 if there is no such round, or a log is not one of the job's that can be read.
    """
    wanted = list(dict.fromkeys(named.log or []))
    if len(wanted) > MOST_LOGS:
        raise BadInput(f"{len(wanted)} logs are too many to lay over each other", advice=f"choose up to {MOST_LOGS}")
    with unit_of_work():
        page = round_page(request, user, job_id, number, Station.LOGS)
        found = ready_logs.chosen(page.job, wanted)
    if any(one not in found for one in wanted):
        raise HTTPException(404)
    chosen: dict[int, int] = {}
    for text in named.place or []:
        log_id, _, nth = text.partition(":")
        numbers = whole_number(log_id), whole_number(nth)
        if numbers[0] is not None and numbers[1] is not None:
            chosen[numbers[0]] = numbers[1]
    return StripsQuery(user, page, tuple(found[one] for one in wanted), named.show, named.by, chosen)


AsAsked = Annotated[StripsQuery, Depends(asked)]


def with_log(asked: AsAsked) -> StripsQuery:
    """What an address asks for, with a log at least.

    Raises:
        BadInput: it names none.
    """
    if not asked.logs:
        raise BadInput("no log is named", advice="open one on the Reading page")
    return asked


OfLogs = Annotated[StripsQuery, Depends(with_log)]


@dataclass(frozen=True)
class AlignedLog:
    """A log with the place by which it is aligned.

    Attributes:
        log: opened.
        places: to choose from.
        chosen: number of the one that was.
        offset: the log's own time at which the common time is 0, s.
    """

    log: OpenLog
    places: tuple[Place, ...]
    chosen: int
    offset: float

    @property
    def place(self) -> Place | None:
        """The place it is aligned by; None if the log has none."""
        return self.places[self.chosen] if self.places else None


def aligned_log(log: OpenLog, asked_: StripsQuery) -> AlignedLog:
    """A log laid as the address asks."""
    found = places(
        asked_.by,
        drives_of(log.log),
        log.markers() if asked_.by is Alignment.MARKER else (),
        log.log.duration_s or 0.0,
    )
    chosen = asked_.place.get(log.log.id, usual_place(found))
    chosen = min(chosen, len(found) - 1) if found else 0
    offset = found[chosen].start if found and asked_.by in (Alignment.MARKER, Alignment.PULL) else 0.0
    return AlignedLog(log, found, chosen, offset)


def opened(asked_: StripsQuery, reader: Reader, keys: list[str] | None) -> list[AlignedLog]:
    """Every log that is asked for, laid; with only some channels if these are named."""
    wanted = None if keys is None else [*keys, "marker"]
    return [aligned_log(reader.open(log, wanted), asked_) for log in asked_.logs]


def merged_traces(logs: Sequence[OpenLog]) -> dict[str, Trace]:
    """Everything that at least one of the logs can show."""
    found: dict[str, Trace] = {}
    for log in logs:
        for key, trace in log.traces().items():
            found.setdefault(key, trace)
    return found


def arrangement_of(asked_: StripsQuery, traces: dict[str, Trace]) -> tuple[Arrangement, str]:
    """The arrangement to show, and the id of the purpose or the name of the kept one that it is, if it is one.

    Raises:
        BadInput: it cannot be drawn.
    """
    units = {key: trace.unit for key, trace in traces.items()}
    kept = arrangements.of_person(asked_.user)
    by_purpose = {purpose.id: purpose for purpose in PURPOSES}
    show = asked_.show or PURPOSES[0].id
    if show in by_purpose:
        return fitted(by_purpose[show], units), show
    if show in kept:
        return kept[show], show
    arrangement = parse(show)
    check_axes(arrangement, units)
    name = next((name for name, one in kept.items() if one == arrangement), "")
    if not name:
        name = next((purpose.id for purpose in PURPOSES if fitted(purpose, units) == arrangement), "")
    return arrangement, name


def tables_of(reader: Reader, asked_: StripsQuery) -> list[Table]:
    """The tables in which the operating point can be shown, of the first log's calibration."""
    if not asked_.logs:
        return []
    calibration = reader.calibration_of(asked_.first.round)
    return list(calibration.tables) if calibration is not None else []


def limits_for(user: User) -> tuple[Limit, ...]:
    """The limits beyond which values are coloured."""
    return limits_of(Thresholds.loads(user.shop.thresholds))


def plan(asked_: StripsQuery, reader: Reader, where: str) -> dict[str, Any]:
    """Everything the page needs besides the traces, as JSON data.

    Args:
        where: the address of the reading page.
    """
    logs = [reader.open(log) for log in asked_.logs]
    traces = merged_traces(logs)
    arrangement, name = arrangement_of(asked_, traces)
    ids = [log.id for log in asked_.logs]
    found = findings.of_logs(asked_.logs)
    noted = notes.of_logs(ids)
    return {
        "address": where,
        "by": asked_.by.value,
        "show": str(arrangement),
        "arrangement": name,
        "kept": sorted(arrangements.of_person(asked_.user)),
        "strips": [[_trace(key, traces, logs) for key in strip] for strip in arrangement.strips],
        "logs": [_log(aligned_log(log, asked_), found.get(log.log.id, []), noted) for log in logs],
        "limits": [
            {
                "key": limit.quantity,
                "above": limit.above,
                "value": limit.value,
                "words": limit.words,
                "grave": limit.grave,
            }
            for limit in limits_for(asked_.user)
        ],
    }


def _trace(key: str, traces: dict[str, Trace], logs: Sequence[OpenLog]) -> dict[str, Any]:
    one = traces.get(key)
    return {
        "key": key,
        "title": one.title if one is not None else _title(key, logs),
        "unit": one.unit if one is not None else "",
        "decimals": one.decimals if one is not None else 2,
        "missing": {log.log.id: said for log in logs if (said := log.problem(key))},
        "whole": [trace_bytes.number(value) for value in (one.low, one.mean, one.high)]
        if one is not None
        else [None] * 3,
    }


def _title(key: str, logs: Sequence[OpenLog]) -> str:
    book = logs[0].book if logs else None
    if key in QUANTITIES:
        return QUANTITIES[key].title
    return book[key].title if book is not None and key in book else key.removeprefix(":").replace("_", " ")


def _log(one: AlignedLog, found: Sequence[Finding], noted: Sequence[LogNote]) -> dict[str, Any]:
    log = one.log.log
    return {
        "id": log.id,
        "name": log.name,
        "round": log.round.number,
        "words": drive_words(log),
        "revision": json.loads(log.notes).get("revision", ""),
        "baseline": log.baseline,
        "start": one.log.start,
        "end": one.log.end,
        "offset": one.offset,
        "step": _step(one.log),
        "places": [{"start": p.start, "end": p.end, "words": p.words} for p in one.places],
        "place": one.chosen,
        "drives": [
            {"kind": d.kind.value, "title": TITLES[d.kind], "start": d.start, "end": d.end, "note": d.note}
            for d in drives_of(log)
            if d.kind in _SHOWN_DRIVES
        ],
        "findings": [
            {"severity": f.severity.value, "words": f.tuner, "rule": f.rule.replace("_", " "), "spans": f.spans}
            for f in found
            if f.spans
        ],
        "markers": list(one.log.markers()),
        "notes": [note_data(note) for note in noted if note.log_id == log.id],
    }


def _step(log: OpenLog) -> float:
    time = log.stored.main_time
    return (time.extent[1] - time.extent[0]) / max(time.size - 1, 1)


def note_data(note: LogNote) -> dict[str, Any]:
    """A note as JSON data."""
    return {
        "id": note.id,
        "start": note.start_s,
        "end": note.end_s,
        "text": note.text,
        "shown": note.shown,
        "author": note.author.name,
    }
