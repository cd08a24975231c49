"""What there is of a customer is given out whole, and erased so that nothing of them is left; notes and hands of the shop."""

from __future__ import annotations

import io
import json
import zipfile

import pymysql
import pytest

from tests.store.conftest import log_text, ready
from uchiwa.services import correspondence
from uchiwa.services import shelf as shelf_service
from uchiwa.services.mail import regularly
from uchiwa.standin.cars import pike_base
from uchiwa.store import accounts, archive_in, job_notes, jobs, links, mails, people, revisions, sessions
from uchiwa.store.clock import now
from uchiwa.store.database import database, unit_of_work
from uchiwa.store.models import (
    ALL,
    Car,
    Customer,
    Event,
    Job,
    LogRawChunk,
    Mail,
    Revision,
    ShelfEntry,
    StoredCalibration,
    User,
)
from uchiwa.store.shelf import EntryDescription

SECRET = "Zyxwvut"
LONG = "seven quiet herons wait"


@pytest.fixture
def full(client, scene, monkeypatch):
    """A customer of whom there is something everywhere, beside another."""
    monkeypatch.setenv("UCHIWA_MAIL_HOST", "localhost")
    monkeypatch.setenv("UCHIWA_MAIL_SECURITY", "none")
    log, _ = scene.receive(log_text(size=400), f"{SECRET}.csv")
    ready(log)
    with unit_of_work():
        Customer.update(name=f"{SECRET} Driver", email=f"{SECRET.lower()}@example.org").execute()
        job = jobs.find(scene.user.shop_id, scene.job.id)
        links.make(job)
        correspondence.to_customer(job, f"{SECRET} to", scene.user, "a")
        correspondence.from_customer(job, f"{SECRET} from", "b")
        job_notes.write(job, scene.user, f"{SECRET} among us")
        jobs.create(scene.user, "Other", "Other car", "", pike_base())
        Car.update(title=f"{SECRET}'s Pike", details=f"the plate is {SECRET}").where(Car.id == job.car_id).execute()
        job = jobs.find(scene.user.shop_id, scene.job.id)
        about = EntryDescription("", f"what {SECRET.upper()} drove", f"hill, {SECRET}")
        shelf_service.put_revision(scene.user, job, revisions.of_job(job)[0], about)
        shelf_service.put_car_file(scene.user, job, f"as of {SECRET.lower()} driver")
        sessions.say("a browser", f"{SECRET} Driver is taken on.", bad=False)
        people.set_told_by_mail(scene.user, people.DIGEST)
        correspondence.from_customer(job, f"{SECRET} once more", "c")
        Mail.update(made_at=now() - regularly.DIGEST_AFTER * 2).where(Mail.state == mails.HELD).execute()
    regularly.digest_all()
    with unit_of_work():
        assert SECRET in Mail.get(Mail.kind == "digest").details
    return scene


def everything() -> str:
    """All that any table holds, as text."""
    with unit_of_work():
        return json.dumps([list(model.select().dicts()) for model in ALL if model is not LogRawChunk], default=str)


def test_given_out_whole(client, full):
    customer = full.job.car.customer_id
    answer = client.get(f"/shop/customers/{customer}/data.zip")
    assert answer.status_code == 200
    with zipfile.ZipFile(io.BytesIO(answer.content)) as archive:
        told = json.loads(archive.read("customer.json"))
        assert {one["text"] for one in told["messages"]} == {f"{SECRET} to", f"{SECRET} from", f"{SECRET} once more"}
        assert len(told["links"]) == 1
        assert [one["what"] for one in told["mails"]] == ["message"]
        job = archive_in.open_archive(io.BytesIO(archive.read(f"job-{full.job.id}.zip")), "job.zip")
    with unit_of_work():
        again, logs = archive_in.bring_in(job, full.user)
        assert again.id != full.job.id
        assert len(logs) == 1


def test_erased_so_that_nothing_is_left(client, full):
    customer = full.job.car.customer_id
    assert SECRET in everything()
    wrong = client.send_form(f"/shop/customers/{customer}/erase", {"confirm": "somebody else"})
    assert wrong.status_code == 400
    assert SECRET in everything()
    assert (
        client.send_form(f"/shop/customers/{customer}/erase", {"confirm": f" {SECRET.lower()}  driver "}).status_code
        == 303
    )
    left = everything()
    assert SECRET not in left
    assert SECRET.lower() not in left.lower()
    with unit_of_work():
        assert ShelfEntry.select().count() == 2, "what was put on the shelf stays, and says no more whose it was"
    with unit_of_work():
        assert (Job.select().count(), LogRawChunk.select().count()) == (1, 0)
        assert StoredCalibration.select().count() == 1, "the other job's calibration stays, though it is the same"
        assert Event.select().count() == 1
    assert client.send_form(f"/shop/customers/{customer}/erase", {"confirm": "x"}).status_code == 404
    assert f"customer {customer}" in client.get("/shop/audit").text


def test_a_calibration_of_nobody_else_goes_too(client, full):
    with unit_of_work():
        other = Job.select().order_by(Job.id.desc()).get()
        customers = [full.job.car.customer_id, other.car.customer_id]
    for number in customers:
        with unit_of_work():
            name = Customer.get_by_id(number).name
        assert client.send_form(f"/shop/customers/{number}/erase", {"confirm": name}).status_code == 303
    with unit_of_work():
        assert StoredCalibration.select().count() == 0


def test_customers_are_found_and_paged(client, scene):
    with unit_of_work():
        for number in range(60):
            jobs.customer_named(scene.user.shop_id, f"Driver {number:02}")
    first = client.get("/shop/customers").text
    assert first.count("?show=") == 50
    assert client.get("/shop/customers?skip=50").text.count("?show=") == 11
    assert "Driver 07" in client.get("/shop/customers?q=ver 07").text


def test_a_job_changes_hands_and_notes_stay_within_the_shop(client, full):
    with unit_of_work():
        other = accounts.create_user(full.user.shop, "second@example.org", "Second", LONG, "tuner")
        reader = accounts.create_user(full.user.shop, "reader@example.org", "Reader", LONG, "reader")
        token = links.make(full.job)
    here = f"/jobs/{full.job.id}"
    assert client.send_form(f"{here}/hand", {"to": str(other.id), "once": "1"}).status_code == 303
    assert client.send_form(f"{here}/hand", {"to": str(reader.id)}).status_code == 400
    assert client.send_form(f"{here}/hand", {"to": "999999"}).status_code == 400
    with unit_of_work():
        assert Job.get_by_id(full.job.id).tuner_id == other.id
        assert [mail.recipient for mail in Mail.select().where(Mail.kind == "handed-over")] == ["second@example.org"]
    assert "Second" in client.get("/").text
    assert full.job.car.title not in client.get("/?mine=true").text
    for _ in range(2):
        client.send_form(f"{here}/notes", {"text": "the plugs are old", "once": "n"})
    assert client.get(here).text.count("the plugs are old") == 1
    page = client.get(f"/c/{token}").text
    assert "plugs are old" not in page
    assert f"{SECRET} among us" not in page
    assert client.send_form(f"{here}/hand", {"to": ""}).status_code == 303
    with unit_of_work():
        assert Job.get_by_id(full.job.id).tuner_id is None


def test_the_customer_stops_reminders_and_the_tuner_sets_the_address(client, full):
    with unit_of_work():
        token = links.make(full.job)
    page = client.get(f"/c/{token}").text
    assert "reminded by mail" in page
    client.send_form(f"/c/{token}/reminders", {"off": "true"})
    assert "You get no reminders" in client.get(f"/c/{token}").text
    here = f"/jobs/{full.job.id}"
    assert client.send_form(f"{here}/customer", {"email": "no address"}).status_code == 400
    client.send_form(f"{here}/customer", {"email": "New@Example.org"})
    with unit_of_work():
        assert Customer.get_by_id(full.job.car.customer_id).email == "new@example.org"
        Mail.update(state=mails.FAILED, problem="550 nobody there").execute()
    assert "550 nobody there" in client.get(here).text


def test_an_archive_that_cannot_be_written_ends_short_and_is_noted(client, full, monkeypatch, caplog):
    def fails(*_):
        raise RuntimeError("broken")

    monkeypatch.setattr("uchiwa.store.archive_out._described", fails)
    with caplog.at_level("ERROR", logger="uchiwa.web"):
        answer = client.get(f"/jobs/{full.job.id}/archive.zip")
    assert not zipfile.is_zipfile(io.BytesIO(answer.content))
    assert "could not be written to its end" in caplog.text


def test_a_full_disk_is_said_in_a_sentence(client, full, monkeypatch):
    def full_disk(*_, **__):
        raise pymysql.err.OperationalError(1114, "The table 'message' is full")

    monkeypatch.setattr("uchiwa.store.messages.write", full_disk)
    answer = client.send_form(f"/jobs/{full.job.id}/rounds/1/brief/message", {"text": "Hello"})
    assert answer.status_code == 503
    assert "no room left on the server" in answer.text
    with unit_of_work():
        assert User.select().count() == 1
        assert database.execute_sql("SELECT 1").fetchone() == (1,)


def test_what_a_logger_writes_about_people_and_places_is_in_no_report(client, scene):
    """A log's header can name the car, its driver and the way home; reports and packages carry none of it."""
    planted = {"VIN": "ZYX12345678901234", "Driver": "Quentin Quux", "Serial": "SN-777-XYZ", "Home": "51.12345"}
    lines = log_text().splitlines()
    header = [f"# {key}: {value}" for key, value in planted.items()]
    body = [f"{lines[0]},GPS latitude [deg]", *(f"{line},51.98765" for line in lines[1:])]
    ready(scene.receive("\n".join([*header, *body]) + "\n", "road.csv")[0])
    here = f"/jobs/{scene.job.id}"
    assert client.send_form(f"{here}/rounds/1/return", {"version": "1", "notes": "n"}).status_code == 303
    with unit_of_work():
        report = Revision.select().order_by(Revision.number.desc()).get().report
        token = links.make(scene.job)
    package = client.get(f"/c/{token}/package.zip").content
    with zipfile.ZipFile(io.BytesIO(package)) as archive:
        texts = [archive.read(name) for name in archive.namelist()]
    page = client.get(f"/c/{token}").text
    for value in (*planted.values(), "51.98765"):
        assert value not in report
        assert value not in page
        assert all(value.encode() not in text for text in texts)
