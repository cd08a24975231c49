"""The Logs station: upload, what became of each log, what was found in it, and what its channels are."""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Annotated, Literal

from fastapi import Body, Depends, Form, HTTPException, UploadFile
from fastapi.responses import JSONResponse, RedirectResponse, Response, StreamingResponse

from uchiwa.core.checks.finding import Finding
from uchiwa.core.logs.drives import TITLES, DriveKind
from uchiwa.core.logs.log import Log
from uchiwa.core.logs.recognition.channel_reading import can_be_said
from uchiwa.core.logs.recognition.knowledge import Assignment, channel_key
from uchiwa.core.logs.writers import FORMATS, write_log
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.rounds.progress import Station
from uchiwa.services import importing, upload_pieces
from uchiwa.store import audit, events, import_results, log_files, log_states, memory, samples, uploads
from uchiwa.store import jobs as store
from uchiwa.store.collected import collected, drive_words, drives_of
from uchiwa.store.models import LogFile
from uchiwa.web.pages import render, say
from uchiwa.web.requests.fragment import is_fragment
from uchiwa.web.requests.session import FromOurForm
from uchiwa.web.round_context import (
    RoundPage,
    in_locked_round,
    in_open_round,
    in_round,
)
from uchiwa.web.routing import router as new_router

router = new_router()
_HERE = "/jobs/{job_id}/rounds/{number}/logs"
_DRAWN = (
    DriveKind.COLD_START,
    DriveKind.WARM_UP,
    DriveKind.IN_GEAR_WARM_UP,
    DriveKind.WARM_IDLE,
    DriveKind.CRUISE,
    DriveKind.ROLL_ON,
    DriveKind.PULL,
)


@router.get(_HERE)
@in_round(Station.LOGS)
def logs(page: RoundPage, show: int | None = None, q: str = "", drive: str = "") -> Response:
    """The logs of a round, sought by name, revision, drive or finding; the margin shows one of them."""
    state = collected(page.job, page.round)
    words = {log.id: drive_words(log) for log in state.logs if log.state == log_states.READY}
    files = [
        log for log in state.logs if _matches(log, words.get(log.id, ""), state.found.get(log.id, []), q[:80], drive)
    ]
    shown = next((log for log in files if log.id == show), files[-1] if files else None)
    channels = log_files.channels_of(shown) if shown is not None else []
    earlier = log_files.earlier_baselines(page.job, page.round)
    reading = any(log.state in (log_states.STORED, log_states.IMPORTING) for log in state.logs)
    template = "_logs_list.html" if is_fragment(page.request, "list") else "logs.html"
    return render(
        page.request,
        template,
        page.user,
        page=page,
        files=files,
        total=len(state.logs),
        shown=shown,
        channels=channels,
        reading=reading,
        found=state.found,
        words=words,
        items=state.items,
        recording=any(log.state == log_states.RECORDING for log in state.logs),
        bands=_bands(shown) if shown is not None and shown.state == log_states.READY else [],
        kinds=[(kind.value, TITLES[kind]) for kind in _DRAWN],
        repairs=json.loads(shown.repairs) if shown is not None else [],
        quantities=QUANTITIES,
        formats=list(FORMATS),
        baselines=earlier,
        q=q,
        drive=drive,
    )


def _matches(log: LogFile, words: str, found: list[Finding], q: str, drive: str) -> bool:
    if drive and drive not in {one.kind.value for one in drives_of(log)}:
        return False
    if not q.strip():
        return True
    said = [log.name, words, log.notes, log.message, *(f"{finding.rule} {finding.tuner}" for finding in found)]
    return q.strip().lower() in " ".join(said).lower()


def _bands(log: LogFile) -> list[dict[str, object]]:
    """Drives as bands of a picture 600 units wide, one row for each kind that occurs."""
    drives = [drive for drive in drives_of(log) if drive.kind in _DRAWN]
    length = max(log.duration_s or 0.0, 1e-9)
    kinds = [kind for kind in _DRAWN if any(drive.kind is kind for drive in drives)]
    return [
        {
            "title": TITLES[kind],
            "bars": [
                {
                    "x": round(600 * drive.start / length, 2),
                    "w": round(max(600 * drive.seconds / length, 2.0), 2),
                    "said": f"{drive.start:.0f} to {drive.end:.0f} s {drive.note}".strip(),
                }
                for drive in drives
                if drive.kind is kind
            ],
        }
        for kind in kinds
    ]


@router.post(_HERE + "/upload", dependencies=[FromOurForm])
@in_open_round(Station.LOGS)
def upload(page: RoundPage, files: list[UploadFile]) -> Response:
    """Keep the raw files; a worker imports them."""
    known: list[str] = []
    given = [file for file in files if file.filename]
    for file in given:
        name = file.filename or ""
        log, new = uploads.receive(page.job, page.round, name, file.file)
        if not new:
            known.append(f"{name} is the same file as {log.name}, which is already here")
    if known:
        say(page.request, "; ".join(known) + ".")
    elif not given:
        say(page.request, "No file was chosen.", bad=True)
    if is_fragment(page.request):
        return JSONResponse({"to": page.path + "/logs"})
    return RedirectResponse(page.path + "/logs", 303)


@router.get(_HERE + "/pieces")
@in_round(Station.LOGS)
def arrived(page: RoundPage, file: Annotated[upload_pieces.SentFile, Depends()]) -> Response:
    """How much of a file is here already."""
    return JSONResponse({"received": upload_pieces.arrived(page.round, file)})


@router.post(_HERE + "/pieces", dependencies=[FromOurForm])
@in_open_round(Station.LOGS)
def piece(
    page: RoundPage,
    file: Annotated[upload_pieces.SentFile, Depends()],
    start: int,
    body: Annotated[bytes, Body(media_type="application/octet-stream")] = b"",
) -> Response:
    """Keep the next piece of a file."""
    taken = upload_pieces.take_piece(page.round, file, start, body, by_customer=False)
    return JSONResponse(taken.answer(), taken.refused or 200)


def _log_of(page_job: int, log_id: int) -> LogFile:
    log = log_files.find(page_job, log_id)
    if log is None:
        raise HTTPException(404)
    return log


def _own_log(page: RoundPage, log_id: int) -> LogFile:
    """A log of this very round: what an ended round was worked with stays as it was, by whichever address."""
    log = _log_of(page.job.id, log_id)
    if log.round_id != page.round.id:
        raise HTTPException(404)
    return log


def _back(page: RoundPage, log_id: int) -> Response:
    return RedirectResponse(f"{page.path}/logs?show={log_id}", 303)


@router.post(_HERE + "/{log_id}/accept", dependencies=[FromOurForm])
@in_open_round(Station.LOGS)
def accept(page: RoundPage, log_id: int, accepted: Annotated[bool, Form()]) -> Response:
    """Use a log in this round, or leave it out."""
    importing.accept(page.job, page.round, _own_log(page, log_id), accepted=accepted)
    return _back(page, log_id)


@router.post(_HERE + "/{log_id}/baseline", dependencies=[FromOurForm])
@in_locked_round(Station.LOGS)
def baseline(page: RoundPage, log_id: int, baseline: Annotated[bool, Form()]) -> Response:
    """Mark a log as one of the car when it runs well, or take the mark off."""
    log = _log_of(page.job.id, log_id)
    log_files.mark_baseline(log, baseline=baseline)
    said = f"{log.name}: the car runs well" if baseline else f"{log.name} is no longer a log of the car running well"
    events.record(page.job, "baseline", said, author=page.user, round_=page.round)
    return _back(page, log_id)


@router.post(_HERE + "/{log_id}/again", dependencies=[FromOurForm])
@in_open_round(Station.LOGS)
def again(page: RoundPage, log_id: int) -> Response:
    """Read and check a log anew from its raw bytes."""
    import_results.read_again([_own_log(page, log_id)])
    return _back(page, log_id)


@dataclass(frozen=True)
class ChannelForm:
    """The form in which a person says what a channel of a log is; `as_unit` where the file's unit is wrong."""

    name: Annotated[str, Form(max_length=190)]
    unit: Annotated[str, Form(max_length=32)] = ""
    quantity: Annotated[str, Form(max_length=64)] = ""
    as_unit: Annotated[str, Form(max_length=40)] = ""


@router.post(_HERE + "/{log_id}/channel", dependencies=[FromOurForm])
@in_open_round(Station.LOGS)
def channel(
    page: RoundPage,
    log_id: int,
    form: Annotated[ChannelForm, Depends()],
    back: Annotated[Literal["", "fuel", "spark", "airflow"], Form()] = "",
) -> Response:
    """Say what a channel is; remembered for this car and for this header, and the round's logs are read anew."""
    log = _own_log(page, log_id)
    name, unit, quantity, as_unit = form.name, form.unit, form.quantity, form.as_unit
    if quantity not in ("", "auto") and quantity not in QUANTITIES:
        raise HTTPException(400, "There is no such quantity.")
    if not can_be_said(as_unit.strip()):
        raise HTTPException(400, f"The unit “{as_unit}” is not known.")
    unit_said = "AFR" if as_unit.strip().upper() == "AFR" else as_unit.strip()
    if quantity == "auto":
        memory.forget(page.job.car, page.user.shop_id, log.header, name, unit)
    else:
        said = Assignment(quantity or None, unit_said)
        memory.remember(page.job.car, log.header, channel_key(name, unit), said, page.user.shop_id)
    import_results.read_again(store.round_logs(page.round))
    say(
        page.request,
        f"{name} is remembered for this car and for logs with this header; the round's logs are read anew.",
    )
    return RedirectResponse(f"{page.path}/{back}", 303) if back else _back(page, log_id)


def _attachment(name: str) -> dict[str, str]:
    plain = "".join(letter if letter.isalnum() or letter in "._- " else "_" for letter in name)
    ascii_name = plain.encode("ascii", "replace").decode().replace("?", "_")
    return {"content-disposition": f'attachment; filename="{ascii_name}"'}


@router.get(_HERE + "/{log_id}/raw")
@in_round(Station.LOGS)
def raw(page: RoundPage, log_id: int) -> Response:
    """The upload, byte for byte."""
    log = _log_of(page.job.id, log_id)
    data = list(uploads.pieces(log))
    return StreamingResponse(iter(data), media_type="application/octet-stream", headers=_attachment(log.name))


@router.get(_HERE + "/{log_id}/as/{kind}")
@in_round(Station.LOGS)
def exported(page: RoundPage, log_id: int, kind: str) -> Response:
    """The log with canonical units, as CSV, Parquet or MDF 4."""
    log = _log_of(page.job.id, log_id)
    if kind not in FORMATS or log.state != log_states.READY:
        raise HTTPException(404)
    recording: Log = samples.read_whole(log)
    audit.note("log-exported", shop_id=page.user.shop_id, user=page.user, subject=f"log {log.id} of job {page.job.id}")
    stem = str(log.name).rsplit(".", 1)[0]
    return Response(write_log(recording, kind), media_type=FORMATS[kind], headers=_attachment(f"{stem}.{kind}"))
