"""A job as an archive: out, in elsewhere, and out again."""

from __future__ import annotations

import hashlib
import io
import json
import zipfile

import pytest

from tests.store.conftest import log_text
from uchiwa.core.errors import BadInput
from uchiwa.core.knock.judgement import Cluster, Verdict
from uchiwa.core.tables.image.files import write_image
from uchiwa.services import freezing, fuel, importing, tables
from uchiwa.services.review import review_work
from uchiwa.standin.fleet import car_named
from uchiwa.standin.layouts import image_of, layout_data
from uchiwa.store import (
    accounts,
    answers,
    archive_in,
    archive_out,
    draft_steps,
    drafts,
    events,
    images,
    jobs,
    knock_decisions,
    messages,
    notes,
    pull_notes,
    revisions,
    samples,
)
from uchiwa.store.acting import Acting
from uchiwa.store.database import database, unit_of_work
from uchiwa.store.models import Event, Job, LogFile, Round

PIKE = car_named("corvid-pike")


@pytest.fixture
def worked(scene):
    """A job with a log, a proposal taken, edits, a frozen revision with an image, and a second round begun."""
    log, _ = scene.receive(log_text(), "hill / road.csv")
    importing.import_log(log.id)
    with unit_of_work():
        images.keep(
            scene.job, scene.user, json.dumps(layout_data(PIKE)), "pike.hex", write_image(image_of(PIKE), "hex")
        )
        notes.write(LogFile.get_by_id(log.id), scene.user, (3.0, 4.0), "hesitates", shown=True)
        pull_notes.keep((log.id, 1), note="two degrees out", hidden=True)
        held = Cluster(1, (), ((3, 9), (4, 9)), 2.0, Verdict.REAL, ())
        knock_decisions.decide(
            scene.job,
            scene.round,
            scene.user,
            knock_decisions.Word("spark_main", held, Verdict.NOISE, "a loose shield"),
        )
        messages.write(scene.job, "Good morning", scene.user)
        work = fuel.fuel_work(scene.job, scene.round)
        fuel.take(scene.acting(), work, None)
    with unit_of_work():
        edit_spark(scene, scene.round, 2, (1, 1), "hot")
    with unit_of_work():
        round_ = Round.get_by_id(scene.round.id)
        for concern in review_work(scene.job, round_).open:
            answers.give(scene.job, round_, scene.user, concern, "meant")
        hostile = '<article class="report"><h1>R</h1><script>alert(1)</script><p onclick="x">ok</p></article>'
        freezing.freeze(scene.acting(3, round_=round_), "Flash it.", lambda *_: hostile, final=False)
    with unit_of_work():
        second = jobs.rounds(scene.job)[-1]
        edit_spark(scene, second, 4, (2, 2))
        draft_steps.undo(scene.acting(5, round_=second))
    return scene


def edit_spark(scene, round_, version, cell, why=""):
    work = tables.table_work(scene.job, round_, "spark_main")
    tables.edit(tables.Editor(scene.acting(version, why, round_)), work, [cell], "x-1")


def exported(job) -> bytes:
    buffer = io.BytesIO()
    with unit_of_work():
        archive_out.export(job, buffer)
    return buffer.getvalue()


def brought_in(data: bytes, author):
    with unit_of_work():
        return archive_in.bring_in(archive_in.open_archive(io.BytesIO(data), "job.zip"), author)


@pytest.fixture
def elsewhere(scene):
    with unit_of_work():
        return accounts.create_user(
            accounts.create_shop("Elsewhere"), "other@example.org", "Other", "a long enough password"
        )


def description(data: bytes) -> dict:
    found = json.loads(zipfile.ZipFile(io.BytesIO(data)).read("job.json"))
    for log in found["logs"]:
        log["was"] = 0
    for event in found["events"]:
        event["inputs"].pop("log_ids", None)
    return found


def test_the_same_job_elsewhere(worked, elsewhere):
    data = exported(worked.job)
    job, logs = brought_in(data, elsewhere)
    assert job.shop_id == elsewhere.shop_id
    again = description(exported(job))
    first = description(data)
    assert again["events"].pop()["kind"] == "import"
    for part in (first, again):
        for revision in part["revisions"]:
            revision.pop("report"), revision.pop("by")
        for key in ("events", "answers", "messages", "decisions"):
            for one in part[key]:
                one.pop("by")
        for one in part["logs"]:
            for note in one["notes"]:
                note.pop("by")
    assert first["decisions"][0]["cells"] == [[3, 9], [4, 9]]
    assert first["logs"][0]["pulls"][0]["note"] == "two degrees out"
    assert again == first
    assert importing.import_log(logs[0])
    with unit_of_work():
        old, new = (
            samples.read(list(LogFile.select().where(LogFile.job == one)), ["engine_speed"])[0]
            for one in (worked.job, job)
        )
        assert (old.rasters[0].channels[0].values == new.rasters[0].channels[0].values).all()
        assert draft_steps.redoable(draft_steps.steps(job)) is not None
        draft_steps.redo(Acting(job, jobs.rounds(job)[-1], elsewhere, drafts.current(job).version))
        taken = Event.select().where(Event.job == job, Event.kind == "take").get()
        assert json.loads(taken.inputs)["log_ids"] == logs
        assert images.file_of(images.of_revision(revisions.numbered(job, 1))) == images.file_of(
            images.of_revision(revisions.numbered(worked.job, 1))
        )
        assert events.history(job)[0].sentence.startswith("Brought in from job.zip")


def test_a_report_from_elsewhere_holds_no_script(worked, elsewhere):
    job, _ = brought_in(exported(worked.job), elsewhere)
    with unit_of_work():
        report = revisions.numbered(job, 1).report
    assert report == '<article class="report"><h1>R</h1><p>ok</p></article>'


def with_changes(data: bytes, change=None, **files: bytes | None) -> bytes:
    source, buffer = zipfile.ZipFile(io.BytesIO(data)), io.BytesIO()
    with zipfile.ZipFile(buffer, "w") as target:
        for name in source.namelist():
            content = source.read(name)
            if name == "job.json" and change is not None:
                part = json.loads(content)
                change(part)
                content = json.dumps(part).encode()
            for ending, other in files.items():
                if name.endswith(ending):
                    content = other
            if content is not None:
                target.writestr(name, content)
    return buffer.getvalue()


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (lambda part: part.update(format="uchiwa.job/9"), "format"),
        (lambda part: part.update(colour=1), "colour"),
        (lambda part: part["rounds"].pop(0), "rounds are missing"),
        (lambda part: part["revisions"].pop(0), "revisions are missing"),
        (lambda part: part["draft"].update(base=7), "revisions are missing"),
        (lambda part: part["draft"].update(pins="[]"), "cannot be read"),
        (lambda part: part["rounds"][0].update(policy='{"strength": 900}'), "less than or equal to 100"),
        (lambda part: part["revisions"][1].update(parent=1), "made from one that is not there"),
        (lambda part: part["logs"][0].update(path="../../etc/passwd"), "has no such file"),
        (lambda part: part["logs"][0].update(sha256="0" * 64), "was changed after the export"),
        (lambda part: part["draft"].update(calibration="0" * 64), "has no such file"),
        (lambda part: part["events"][0].update(round=9), "a round that is not there"),
    ],
)
def test_a_faulty_archive_is_refused_whole(worked, elsewhere, change, said):
    data = with_changes(exported(worked.job), change)
    with pytest.raises(BadInput) as error:
        brought_in(data, elsewhere)
    assert said in str(error.value)
    with unit_of_work():
        assert Job.select().where(Job.shop == elsewhere.shop_id).count() == 0


def test_what_is_no_archive_is_said(worked, elsewhere):
    for data, said in (
        (b"", "not a zip"),
        (b"PK\x03\x04 nothing", "not a zip"),
        (with_changes(exported(worked.job), None, **{"job.json": b"{"}), "not JSON"),
    ):
        with pytest.raises(BadInput) as error:
            brought_in(data, elsewhere)
        assert said in str(error.value)


def test_an_export_is_made_of_open_formats(worked):
    archive_file = zipfile.ZipFile(io.BytesIO(exported(worked.job)))
    names = archive_file.namelist()
    assert "logs/001-hill _ road.csv" in names
    assert archive_file.read("logs/001-hill _ road.csv").decode() == log_text()
    for name in names:
        if name.startswith("calibrations/"):
            assert hashlib.sha256(archive_file.read(name)).hexdigest() in name


def test_an_archive_whose_compressed_bytes_are_damaged_is_refused_in_a_sentence():
    file = io.BytesIO()
    with zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("job.json", json.dumps({"a": list(range(4000))}))
    whole = file.getvalue()
    refused = 0
    for at in range(45, len(whole) // 2, 97):
        damaged = bytearray(whole)
        damaged[at] ^= 0xFF
        try:
            archive_in.read_description(archive_in.open_archive(io.BytesIO(bytes(damaged)), "job.zip"))
        except BadInput:
            refused += 1
    assert refused == len(range(45, len(whole) // 2, 97))


def test_each_further_log_costs_an_archive_one_statement(scene, monkeypatch):
    """Its bytes; what people noted beside the logs is read for all of them together."""
    asked = []
    real = database.execute_sql
    monkeypatch.setattr(
        database, "execute_sql", lambda sql, *more, **named: asked.append(sql) or real(sql, *more, **named)
    )
    counts = []
    for number in range(3):
        scene.receive(f"time,rpm\n0,{number}\n", f"{number}.csv")
        asked.clear()
        with unit_of_work():
            archive_out.export(scene.job, io.BytesIO())
        counts.append(len(asked))
    assert counts[2] - counts[1] == counts[1] - counts[0] == 1
