"""A whole job as one archive of open formats."""

from __future__ import annotations

import hashlib
import json
import zipfile
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from typing import IO, Any, TypeVar

from uchiwa.core.tables.image.files import FORMATS, image_format
from uchiwa.store import archive_format as form
from uchiwa.store import images, jobs, log_states, uploads
from uchiwa.store.models.calibrations import ControllerImage, Draft, Event, Revision, RevisionImage, StoredCalibration
from uchiwa.store.models.jobs import Car, Customer, Job, Message, Round
from uchiwa.store.models.logs import ChannelMemory, LogFile, LogNote, PullNote
from uchiwa.store.models.people import User
from uchiwa.store.models.review import Answer, KnockDecision

_README = """This is a whole job, exported from Uchiwa. Everything is in open formats:

job.json        rounds, revisions, draft, steps, answers, messages (format uchiwa.job/1)
calibrations/   every calibration that a revision or a step refers to, by SHA-256 (format uchiwa.calibration/1)
logs/           the uploads as they came
images/         controller images as files, with their layouts in job.json (format uchiwa.layout/1)
"""

Name = TypeVar("Name")
_QUICK = 2
"""How hard archives are packed: a log comes out a fifth larger than with the usual 6, in a sixth of the time."""


def _utc(moment: datetime) -> str:
    return moment.isoformat()


def export(job: Job, target: IO[bytes]) -> None:
    """Write a job's archive; logs go through piece by piece."""
    with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED, compresslevel=_QUICK) as archive:
        archive.writestr("README.txt", _README)
        part = _described(job, archive)
        archive.writestr("job.json", json.dumps(part, ensure_ascii=False, indent=1))


@dataclass(frozen=True)
class _Names:
    """What stands for rows in an archive, which has no ids: numbers of rounds and revisions, names, content hashes."""

    rounds: dict[int, int]
    revisions: dict[int, int]
    people: dict[int, str]
    calibrations: dict[int, str]


def _described(job: Job, archive: zipfile.ZipFile) -> dict[str, Any]:
    rounds = jobs.rounds(job)
    revisions = list(Revision.select().where(Revision.job == job).order_by(Revision.number))
    steps = list(Event.select().where(Event.job == job).order_by(Event.id))
    draft = Draft.get(Draft.job == job)
    ids = {revision.calibration_id for revision in revisions} | {draft.calibration_id}
    ids |= {one for step in steps for one in (step.before_id, step.after_id) if one is not None}
    names = _Names(
        {round_.id: round_.number for round_ in rounds},
        {revision.id: revision.number for revision in revisions},
        {user.id: user.name for user in User.select().where(User.shop == job.shop_id)},
        _calibrations(ids, archive),
    )
    car = Car.get_by_id(job.car_id)
    uploaded = list(_uploaded(job))
    beside = _LogRemarks.of([log.id for log in uploaded])
    return {
        "format": form.FORMAT,
        "customer": Customer.get_by_id(car.customer_id).name,
        "car": car.title,
        "details": car.details,
        "car_file": car.file,
        "closed": job.closed,
        "setup": job.setup,
        "moved_at": _utc(job.moved_at),
        "rounds": [_round(round_) for round_ in rounds],
        "logs": [_log(log, at, names, beside, archive) for at, log in enumerate(uploaded, 1)],
        "revisions": [_revision(revision, names, archive) for revision in revisions],
        "draft": {
            "base": names.revisions[draft.base_id],
            "calibration": names.calibrations[draft.calibration_id],
            "version": draft.version,
            "pins": draft.pins,
        },
        "events": [_event(event, names) for event in steps],
        "answers": [_answer(answer, names) for answer in Answer.select().where(Answer.job == job).order_by(Answer.id)],
        "decisions": [
            _decision(decision, names)
            for decision in KnockDecision.select().where(KnockDecision.job == job).order_by(KnockDecision.id)
        ],
        "messages": [
            {"by": _known(names.people, message.author_id), "text": message.text, "at": _utc(message.at)}
            for message in Message.select().where(Message.job == job).order_by(Message.id)
        ],
        "channels": [
            {"channel": memory.channel, "quantity": memory.quantity, "unit": memory.unit}
            for memory in ChannelMemory.select().where(ChannelMemory.car == car).order_by(ChannelMemory.id)
        ],
        "image": _image(images.of_job(job), "controller", archive),
    }


def _calibrations(ids: Iterable[int], archive: zipfile.ZipFile) -> dict[int, str]:
    """Writes calibrations as files; their content hashes by id."""
    hashes: dict[int, str] = {}
    for stored in StoredCalibration.select().where(StoredCalibration.id.in_(list(ids))):
        hashes[stored.id] = stored.content_hash
        archive.writestr(f"calibrations/{stored.content_hash}.json", stored.document)
    return hashes


def _round(round_: Round) -> dict[str, Any]:
    return {
        "number": round_.number,
        "policy": round_.policy,
        "spark": round_.policies,
        "brief": round_.brief,
        "opened_at": _utc(round_.opened_at),
        "returned_at": _utc(round_.returned_at) if round_.returned_at else None,
    }


def _revision(revision: Revision, names: _Names, archive: zipfile.ZipFile) -> dict[str, Any]:
    moments = ("downloaded_at", "flashed_at", "withdrawn_at")
    return {
        "number": revision.number,
        "parent": _known(names.revisions, revision.parent_id),
        "round": _known(names.rounds, revision.round_id),
        "calibration": names.calibrations[revision.calibration_id],
        "by": names.people[revision.author_id],
        "notes": revision.notes,
        "frozen_at": _utc(revision.frozen_at),
        "final": revision.final,
        "report": revision.report,
        "brief": revision.brief,
        **{key: _utc(value) if (value := getattr(revision, key)) is not None else None for key in moments},
        "withdrawn_why": revision.withdrawn_why,
        "start_map": revision.start_map,
        "image": _image(images.of_revision(revision), f"revision-{revision.number}", archive),
    }


def _event(event: Event, names: _Names) -> dict[str, Any]:
    return {
        "kind": event.kind,
        "round": _known(names.rounds, event.round_id),
        "by": _known(names.people, event.author_id),
        "at": _utc(event.at),
        "sentence": event.sentence,
        "inputs": json.loads(event.inputs),
        "before": _known(names.calibrations, event.before_id),
        "after": _known(names.calibrations, event.after_id),
        "put_back": event.put_back,
        "abandoned": event.abandoned,
        "version": event.version,
    }


def _answer(answer: Answer, names: _Names) -> dict[str, Any]:
    return {
        "round": names.rounds[answer.round_id],
        "concern": answer.concern,
        "rule": answer.rule,
        "sentence": answer.sentence,
        "reason": answer.reason,
        "by": names.people[answer.author_id],
        "at": _utc(answer.at),
    }


def _decision(decision: KnockDecision, names: _Names) -> dict[str, Any]:
    return {
        "round": names.rounds[decision.round_id],
        "table": decision.table_id,
        "verdict": decision.verdict,
        "reason": decision.reason,
        "cells": json.loads(decision.cells),
        "by": names.people[decision.author_id],
        "at": _utc(decision.at),
    }


def _uploaded(job: Job) -> Iterable[LogFile]:
    """The files of a job that have arrived whole; further recordings in a file come again from it."""
    query = LogFile.select().where(
        LogFile.job == job, LogFile.source.is_null(), LogFile.state.not_in((log_states.RECEIVING, log_states.RECORDING))
    )
    return list(query.order_by(LogFile.id))


@dataclass(frozen=True)
class _LogRemarks:
    """What people have noted beside logs, by the logs' ids; in two queries for any number of them."""

    notes: dict[int, list[LogNote]]
    pulls: dict[int, list[PullNote]]

    @classmethod
    def of(cls, ids: list[int]) -> _LogRemarks:
        """Read it."""
        found = cls({}, {})
        for note in LogNote.select().where(LogNote.log.in_(ids)).order_by(LogNote.id):
            found.notes.setdefault(note.log_id, []).append(note)
        for pull in PullNote.select().where(PullNote.log.in_(ids)).order_by(PullNote.number):
            found.pulls.setdefault(pull.log_id, []).append(pull)
        return found


def _log(log: LogFile, at: int, names: _Names, beside: _LogRemarks, archive: zipfile.ZipFile) -> dict[str, Any]:
    name = str(log.name).split(", 1 of ")[0]
    path = f"logs/{at:03}-{_safe(name)}"
    with archive.open(path, "w", force_zip64=True) as file:
        for piece in uploads.pieces(log):
            file.write(piece)
    return {
        "path": path,
        "name": name,
        "round": names.rounds[log.round_id],
        "sha256": log.content_hash,
        "accepted": log.accepted,
        "decided": log.decided,
        "baseline": log.baseline,
        "by_customer": log.by_customer,
        "uploaded_at": _utc(log.uploaded_at),
        "was": log.id,
        "pulls": [
            {"number": note.number, "note": note.note, "hidden": note.hidden, "place": note.place}
            for note in beside.pulls.get(log.id, [])
        ],
        "notes": [
            {
                "start_s": note.start_s,
                "end_s": note.end_s,
                "text": note.text,
                "shown": note.shown,
                "by": names.people.get(note.author_id, ""),
                "at": _utc(note.at),
            }
            for note in beside.notes.get(log.id, [])
        ],
    }


def _safe(name: str) -> str:
    return (
        "".join(letter if letter.isalnum() or letter in "._- " else "_" for letter in name)[:120].strip(". ") or "log"
    )


def _known(names: dict[int, Name], number: int | None) -> Name | None:
    """What stands for a row in the archive; None for none."""
    return None if number is None else names.get(number)


def _image(image: ControllerImage | RevisionImage | None, name: str, archive: zipfile.ZipFile) -> dict[str, Any] | None:
    if image is None:
        return None
    kind = image_format(image.format)
    path = f"images/{name}.{FORMATS[kind][0]}"
    data = images.unpack(image.data)
    archive.writestr(path, data)
    own = image.name if isinstance(image, ControllerImage) else f"{name}.{FORMATS[kind][0]}"
    return {"path": path, "name": own, "layout": image.layout, "sha256": hashlib.sha256(data).hexdigest()}
