import re

from tests.store.conftest import log_text
from uchiwa.services import importing
from uchiwa.store import accounts, jobs
from uchiwa.store.database import unit_of_work


def row_of(page, text):
    """The row of the queue that holds a text."""
    return next(row for row in re.findall(r"<li class=\"queue-row.*?</li>", page, re.S) if text in row)


def test_the_queue_follows_a_job_through_its_round(client, scene):
    path = f"/jobs/{scene.job.id}/rounds/1"
    assert "The brief is to be sent" in row_of(client.get("/").text, "Customer")
    client.send_form(f"{path}/logs/upload", files={"files": ("hill.csv", log_text())})
    assert "1 log being read" in row_of(client.get("/").text, "Customer")
    with unit_of_work():
        log = jobs.round_logs(scene.round)[0]
    importing.import_log(log.id)
    row = row_of(client.get("/").text, "Customer")
    assert "1 log accepted, fuel is next" in row
    assert "hill.csv" in row
    assert f'href="{path}/fuel"' in row
    client.send_form(f"{path}/fuel/take", {"version": "1"})
    row = row_of(client.get("/").text, "Customer")
    assert "Draft ready to review" in row
    assert "driven cells were within" in row
    client.send_form(f"{path}/return", {"version": "2", "notes": "Flash it."})
    assert "Revision 1 sent, not yet downloaded" in row_of(client.get("/").text, "Customer")


def test_a_job_can_be_laid_to_rest_and_taken_up_again(client, scene):
    path = f"/jobs/{scene.job.id}"
    client.send_form(f"{path}/close", {"closed": "true"})
    assert "At rest" in client.get("/").text
    assert "Job closed" in client.get(path).text
    client.send_form(f"{path}/close", {"closed": "false"})
    assert "At rest" not in client.get("/").text


def test_the_job_keeps_its_history(client, scene):
    path = f"/jobs/{scene.job.id}"
    client.send_form(f"{path}/rounds/1/return", {"version": "1", "notes": "As it is."})
    page = client.get(path).text
    assert "Froze revision 1" in page
    assert "As it is." in page
    assert page.count("revisions/1.zip") == 1
    assert page.count("/revisions/1/report") == 1


def test_searching_and_showing_another_job(client, scene):
    assert "Nothing is called" in client.get("/?q=zebra").text
    assert "Customer" in client.get("/?q=pike").text
    assert "Corvid Pike" in client.get(f"/?show={scene.job.id}").text
    assert client.get("/?show=999").status_code == 200


def test_an_empty_shop_is_told_what_to_do(client, scene):
    with unit_of_work():
        shop = accounts.create_shop("New")
        accounts.create_user(shop, "new@example.org", "New", "a brand new password")
    client.sign_in("new@example.org", "a brand new password")
    page = client.get("/").text
    assert "No jobs yet" in page
    assert "Nothing waits for you" in page


def test_what_people_type_is_shown_as_text(client, scene):
    from uchiwa.core.tables.interchange import calibration_json
    from uchiwa.standin.cars import pike_base

    form = {"customer": "<script>alert(1)</script>", "car": "A & B", "details": '"quoted"'}
    files = {"calibration": ("base.json", calibration_json.dumps(pike_base()).encode())}
    place = client.send_form("/jobs/new", form, files=files).headers["location"]
    upload = {"files": ("<img src=x>.csv", b"time,rpm\n1,2\n")}
    client.send_form(place + "/upload", files=upload)
    for path in ("/", place):
        page = client.get(path).text
        assert "<script>alert" not in page
        assert "<img src=x>" not in page
        assert "A &amp; B" in page
