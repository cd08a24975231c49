"""A job made from an archive that came from elsewhere."""

from __future__ import annotations

import hashlib
import io
import json
import zipfile
import zlib
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import IO

from peewee import DataError, IntegrityError
from pydantic import ValidationError

from uchiwa.core.errors import BadInput
from uchiwa.core.json_text import read_json
from uchiwa.core.tables.image.content import read_calibration
from uchiwa.core.tables.image.files import read_image
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.core.words.plain_text import one_line
from uchiwa.store import archive_format as form
from uchiwa.store import calibrations, events, images, jobs, uploads
from uchiwa.store.archive_checks import check_description
from uchiwa.store.archive_report import clean_report
from uchiwa.store.memory import scope_of
from uchiwa.store.models.calibrations import ControllerImage, Draft, Event, Revision, RevisionImage, StoredCalibration
from uchiwa.store.models.fields import blob
from uchiwa.store.models.jobs import Car, Job, Message, Round
from uchiwa.store.models.logs import ChannelMemory, LogFile, LogNote, PullNote
from uchiwa.store.models.people import User
from uchiwa.store.models.review import Answer, KnockDecision
from uchiwa.store.names import name_kept

LARGEST = 2**30


class ArchiveFile:
    """The files of an archive that somebody gives us."""

    def __init__(self, file: IO[bytes], name: str) -> None:
        self.name = name
        try:
            self.zip = zipfile.ZipFile(file)
            self.sizes = {info.filename: info.file_size for info in self.zip.infolist()}
        except (zipfile.BadZipFile, OSError, ValueError, NotImplementedError):
            raise BadInput("this is not a zip archive", where=name, advice="choose a job's archive") from None
        if sum(self.sizes.values()) > LARGEST:
            raise BadInput(f"the archive unpacks to more than {LARGEST // 2**20} MiB", where=name)

    def read(self, path: str, most: int = LARGEST) -> bytes:
        """A file of it."""
        if path not in self.sizes:
            raise BadInput("the archive has no such file", where=f"{self.name}, {path}", advice="export the job again")
        if self.sizes[path] > most:
            raise BadInput("this file is too large", where=f"{self.name}, {path}")
        try:
            with self.zip.open(path) as file:
                data = file.read(most + 1)
        except (zipfile.BadZipFile, zlib.error, OSError, RuntimeError, NotImplementedError, EOFError, ValueError):
            raise BadInput(
                "this file is damaged", where=f"{self.name}, {path}", advice="export the job again"
            ) from None
        if len(data) > most:
            raise BadInput("this file is too large", where=f"{self.name}, {path}")
        return data

    def checked(self, path: str, digest: str) -> bytes:
        """A file of it whose SHA-256 is as it was told."""
        data = self.read(path)
        if hashlib.sha256(data).hexdigest() != digest:
            raise BadInput(
                "this file was changed after the export", where=f"{self.name}, {path}", advice="export the job again"
            )
        return data


def read_description(archive: ArchiveFile) -> form.JobPart:
    """What an archive says of its job.

    Raises:
        BadInput: it is not what a job's archive says; names the key.
    """
    where = f"{archive.name}, job.json"
    try:
        raw = read_json(archive.read("job.json", 256 * 2**20), where=where, advice="export the job again")
        return form.JobPart.model_validate(raw)
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        path = ".".join(str(one) for one in first["loc"])
        what = first["msg"][:1].lower() + first["msg"][1:]
        raise BadInput(what, where=f"{where}, {path}", advice="export the job again") from None


def open_archive(file: IO[bytes], name: str) -> ArchiveFile:
    """An archive to read from.

    Raises:
        BadInput: it is none, or would unpack to too much.
    """
    return ArchiveFile(file, name)


def bring_in(archive: ArchiveFile, author: User) -> tuple[Job, list[int]]:
    """Make the job of an archive in a person's shop; it and the logs that a worker has to import. Call in a transaction.

    People are told apart by name: who is not in the shop is stood in for by the person who brings the job in.

    Raises:
        BadInput: the archive is faulty; nothing is kept then.
    """
    part = read_description(archive)
    check_description(part, archive.name)
    try:
        return _make(part, archive, author)
    except (IntegrityError, DataError) as error:
        raise BadInput(
            "its parts contradict each other", where=f"{archive.name}, job.json", advice="export the job again"
        ) from error


@dataclass(frozen=True)
class _Arrival:
    """A job on its way in: its description, the archive, and who brings it in."""

    part: form.JobPart
    archive: ArchiveFile
    author: User
    people: dict[str, User]

    def person(self, name: str | None) -> User | None:
        """Who is meant: somebody of this shop of the same name, else who brings the job in."""
        return None if name is None else self.people.get(name, self.author)


def _make(part: form.JobPart, archive: ArchiveFile, author: User) -> tuple[Job, list[int]]:
    """The job of a description that holds together."""
    people = {user.name: user for user in User.select().where(User.shop == author.shop_id)}
    arrival = _Arrival(part, archive, author, people)
    job = _job(arrival)
    rounds = _rounds(arrival, job)
    stored = _calibrations(part, archive, author.shop_id)
    revisions: dict[int, Revision] = {}
    made = _Made(job, rounds, stored, revisions)
    for revision in sorted(part.revisions, key=lambda revision: revision.number):
        revisions[revision.number] = _revision(arrival, revision, made)
        if revision.image is not None:
            _revision_image(revision.image, revisions[revision.number], archive)
    draft = part.draft
    Draft.create(
        job=job,
        base=revisions[draft.base],
        calibration=stored[draft.calibration],
        version=draft.version,
        pins=draft.pins,
    )
    _controller_image(arrival, job)
    logs = _logs(arrival, made)
    _events(arrival, job, rounds, stored, logs)
    _said(arrival, job, rounds)
    events.record(job, "import", f"Brought in from {archive.name}", author=author)
    return job, sorted(logs.values())


def _job(arrival: _Arrival) -> Job:
    part, shop = arrival.part, arrival.author.shop_id
    customer = jobs.customer_named(shop, part.customer)
    car = Car.create(
        customer=customer, title=name_kept(part.car, "A car"), details=one_line(part.details), file=part.car_file
    )
    job: Job = Job.create(shop=shop, car=car, closed=part.closed, setup=part.setup, moved_at=_plain(part.moved_at))
    for channel in part.channels:
        ChannelMemory.insert(
            shop=shop, car=car, scope=scope_of(car.id, ""), header="", **channel.model_dump()
        ).on_conflict(preserve=(ChannelMemory.quantity, ChannelMemory.unit)).execute()
    return job


def _rounds(arrival: _Arrival, job: Job) -> dict[int, Round]:
    return {
        round_.number: Round.create(
            job=job,
            number=round_.number,
            policy=round_.policy,
            policies=round_.spark,
            brief=round_.brief,
            opened_at=_plain(round_.opened_at),
            returned_at=_plain(round_.returned_at),
        )
        for round_ in arrival.part.rounds
    }


def _controller_image(arrival: _Arrival, job: Job) -> None:
    image = arrival.part.image
    if image is None:
        return
    data = arrival.archive.checked(image.path, image.sha256)
    layout = images.layout_from(image.layout)
    memory, kind = read_image(data, image.name, layout.base)
    read_calibration(memory, layout, image.name)
    ControllerImage.insert(
        job=job, name=image.name, format=kind, layout=image.layout, data=blob(images.pack(data)),
        at=_plain(arrival.part.moved_at),
    ).execute()  # fmt: skip


def _events(
    arrival: _Arrival,
    job: Job,
    rounds: dict[int, Round],
    stored: dict[str, StoredCalibration],
    logs: dict[int, int],
) -> None:
    """The steps of the draft and all else that happened; `logs` are the new ids of logs by the old."""
    for step in arrival.part.events:
        inputs = dict(step.inputs)
        if "log_ids" in inputs:
            inputs["log_ids"] = [logs.get(int(log_id), int(log_id)) for log_id in inputs["log_ids"]]
        Event.create(
            job=job,
            round=rounds.get(step.round) if step.round is not None else None,
            kind=step.kind,
            author=arrival.person(step.by),
            at=_plain(step.at),
            sentence=step.sentence,
            inputs=json.dumps(inputs, ensure_ascii=False),
            before=stored[step.before] if step.before else None,
            after=stored[step.after] if step.after else None,
            put_back=step.put_back,
            abandoned=step.abandoned,
            version=step.version,
        )


def _said(arrival: _Arrival, job: Job, rounds: dict[int, Round]) -> None:
    """What people answered, decided and wrote."""
    for answer in arrival.part.answers:
        said = answer.model_dump(include={"concern", "rule", "sentence", "reason"})
        Answer.insert(
            job=job, round=rounds[answer.round], author=arrival.person(answer.by), at=_plain(answer.at), **said
        ).on_conflict(preserve=(Answer.round, Answer.rule, Answer.sentence, Answer.reason, Answer.at)).execute()
    for held in arrival.part.decisions:
        said = held.model_dump(include={"verdict", "reason"})
        KnockDecision.create(
            job=job, round=rounds[held.round], table_id=held.table, cells=json.dumps(held.cells),
            author=arrival.person(held.by), at=_plain(held.at), **said,
        )  # fmt: skip
    for message in arrival.part.messages:
        Message.create(job=job, author=arrival.person(message.by), text=message.text, at=_plain(message.at))


def _plain(moment: datetime | None) -> datetime | None:
    """Moments are kept in UTC without a zone."""
    if moment is None or moment.tzinfo is None:
        return moment
    return moment.astimezone(UTC).replace(tzinfo=None)


def _calibrations(part: form.JobPart, archive: ArchiveFile, shop_id: int) -> dict[str, StoredCalibration]:
    wanted = {revision.calibration for revision in part.revisions} | {part.draft.calibration}
    wanted |= {one for step in part.events for one in (step.before, step.after) if one}
    found: dict[str, StoredCalibration] = {}
    for digest in sorted(wanted):
        path = f"calibrations/{digest}.json"
        content = calibration_json.loads(archive.read(path, 64 * 2**20), path)
        stored = calibrations.keep(shop_id, content)
        if stored.content_hash != digest:
            raise BadInput(
                "this file was changed after the export", where=f"{archive.name}, {path}", advice="export the job again"
            )
        found[digest] = stored
    return found


@dataclass(frozen=True)
class _Made:
    """What there is of the job by now: rounds and revisions by number, calibrations by hash."""

    job: Job
    rounds: dict[int, Round]
    stored: dict[str, StoredCalibration]
    revisions: dict[int, Revision]


def _revision(arrival: _Arrival, part: form.RevisionPart, made: _Made) -> Revision:
    return Revision.create(
        job=made.job,
        number=part.number,
        parent=made.revisions.get(part.parent) if part.parent is not None else None,
        round=made.rounds.get(part.round) if part.round is not None else None,
        calibration=made.stored[part.calibration],
        author=arrival.person(part.by) or arrival.author,
        notes=part.notes,
        frozen_at=_plain(part.frozen_at),
        final=part.final,
        report=clean_report(part.report),
        brief=part.brief,
        downloaded_at=_plain(part.downloaded_at),
        flashed_at=_plain(part.flashed_at),
        withdrawn_at=_plain(part.withdrawn_at),
        withdrawn_why=part.withdrawn_why,
        start_map=part.start_map,
    )


def _revision_image(part: form.ImagePart, revision: Revision, archive: ArchiveFile) -> None:
    data = archive.checked(part.path, part.sha256)
    layout = images.layout_from(part.layout)
    memory, kind = read_image(data, part.name, layout.base)
    read_calibration(memory, layout, part.name)
    RevisionImage.insert(
        revision=revision, format=kind, content_hash=part.sha256, layout=part.layout, data=blob(images.pack(data))
    ).execute()


def _logs(arrival: _Arrival, made: _Made) -> dict[int, int]:
    """Ids of the logs by the ids they had where the archive was made."""
    found: dict[int, int] = {}
    for part in arrival.part.logs:
        data = arrival.archive.checked(part.path, part.sha256)
        log, _ = uploads.receive(
            made.job, made.rounds[part.round], part.name, io.BytesIO(data), by_customer=part.by_customer
        )
        LogFile.update(
            accepted=part.accepted, decided=part.decided, baseline=part.baseline, uploaded_at=_plain(part.uploaded_at)
        ).where(LogFile.id == log.id).execute()
        for note in part.notes:
            LogNote.create(
                log=log, author=arrival.person(note.by) or arrival.author, start_s=note.start_s, end_s=note.end_s, text=note.text,
                shown=note.shown, at=_plain(note.at),
            )  # fmt: skip
        for pull in part.pulls:
            PullNote.insert(log=log, **pull.model_dump()).on_conflict(
                preserve=(PullNote.note, PullNote.hidden, PullNote.place)
            ).execute()
        found[part.was] = log.id
    return found
