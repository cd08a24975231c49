"""The shelf and taking on a car, by what is sent and what is answered."""

from __future__ import annotations

import json
import re

import pytest

from tests.store.conftest import ready
from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.cars.sensors import PRESSURE_LINES
from uchiwa.core.tables.image import layout_json
from uchiwa.core.tables.image.files import write_image
from uchiwa.core.tables.interchange import calibration_json, cdf
from uchiwa.standin.bus import dbc_of, write_bus
from uchiwa.standin.cars import pike_base
from uchiwa.standin.fleet import car_named
from uchiwa.standin.layouts import image_of, layout_of
from uchiwa.standin.simulate import simulate
from uchiwa.store import calibrations, events, images, jobs, revisions, shelf
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Job, LogFile, ShelfEntry
from uchiwa.web.shop.shelf_routes import outcome_words

PIKE = car_named("corvid-pike")
BASE = calibration_json.dumps(pike_base()).encode()


def put(client, data: bytes, file: str, **about: str) -> int:
    answer = client.send_form("/shelf", about, files={"file": (file, data)})
    assert answer.status_code == 303, answer.text
    return int(answer.headers["location"].rpartition("/")[2])


def take_on(client, files=None, **form: object):
    return client.send_form("/jobs/new", {"customer": "I. Marlow", "car": "Pike"} | form, files=files or {})


def newest(scene) -> Job:
    with unit_of_work():
        return jobs.find(scene.user.shop_id, Job.select().order_by(Job.id.desc()).get().id)


def test_things_are_put_found_described_and_taken_off(client, scene):
    number = put(client, BASE, "base.json", name="Good one", words="Mild above 5000.", tags="turbo, E10 , turbo")
    page = client.get("/shelf?q=mild").text
    assert "Good one" in page
    assert "Good one" in client.get("/shelf?tag=e10").text
    assert "Nothing on the shelf matches" in client.get("/shelf?q=zebra").text
    twice = client.send_form("/shelf", {"name": "Good one"}, files={"file": ("base.json", BASE)})
    assert twice.status_code == 400
    assert "has a calibration “Good one” already" in twice.text
    client.send_form(f"/shelf/{number}/describe", {"name": "Better", "words": "", "tags": "na"})
    assert "Better" in client.get(f"/shelf/{number}").text
    assert client.get(f"/shelf/{number}/file").content == BASE
    assert client.send_form(f"/shelf/{number}/drop").status_code == 400
    client.send_form(f"/shelf/{number}/drop", {"sure": "true"})
    assert client.get(f"/shelf/{number}").status_code == 404


def test_a_cdf_is_kept_as_the_calibration_it_holds(client, scene):
    number = put(client, cdf.dumps(pike_base()), "base.cdfx")
    assert client.get(f"/shelf/{number}/file").content == BASE


def test_a_car_starts_from_a_map_with_changes_each_a_step(client, scene):
    start = put(client, BASE, "base.json", name="Good one")
    look = client.get(f"/jobs/new?start={start}&spark_down=4", headers={"x-fragment": "yes"}).text
    assert "Spark 4° down in 195 cells, for a worse fuel" in look
    answer = take_on(client, start=start, spark_down="4", injector_flow="8,2", once="a form")
    assert answer.headers["location"].endswith("/rounds/1/brief")
    job = newest(scene)
    with unit_of_work():
        told = [one.sentence for one in reversed(events.history(job))]
        first = revisions.numbered(job, 0)
        content = calibrations.content(first.calibration)
    assert told == [
        "Took on the car with “Good one” of the shelf", "Injector flow 6.9 → 8.2 g/s, for this car",
        "Spark 4° down in 195 cells, for a worse fuel",
    ]  # fmt: skip
    assert first.start_map
    assert content.constant("injector_flow") == 8.2
    again = take_on(client, start=start, spark_down="4", injector_flow="8,2", once="a form")
    assert again.headers["location"] == answer.headers["location"]


def test_a_map_is_carried_onto_an_image_known_by_its_identity(client, scene):
    put(client, layout_json.dumps(layout_of(PIKE)).encode(), "layout.json", name="Pike layout")
    start = put(client, BASE, "base.json", name="Good one")
    file = {"calibration": ("read.hex", write_image(image_of(PIKE), "hex"))}
    take_on(client, file, start=start, spark_down="3")
    job = newest(scene)
    with unit_of_work():
        told = " ".join(one.sentence for one in events.history(job))
        kept = images.of_revision(revisions.numbered(job, 0))
    assert "tables carried over from" in told
    assert "identity STAND-IN CORVID-PIKE 01" in told
    assert kept is not None  # revision 0 goes out as an image


@pytest.mark.parametrize(
    ("form", "file", "why"),
    [
        ({}, None, "nothing says what the car starts from"),
        ({"spark_down": "four"}, BASE, "spark down: “four” is not a number"),
        ({"spark_down": "-4"}, BASE, "spark_down"),
        ({"start": "999"}, None, "not on the shelf any more"),
        ({"stoichiometric_ratio": "14.7", "customer": ""}, BASE, "customer and car are both needed"),
        ({}, b"\x01\x02\x03", "no layout on the shelf has an identity"),
        ({}, b"<a/>", "no CDF"),
    ],
)
def test_what_is_wrong_is_said_and_what_was_typed_stays(client, scene, form, file, why):
    answer = take_on(client, {"calibration": ("own.bin", file)} if file else None, details="2.0, 2011", **form)
    assert answer.status_code == 400
    assert why in answer.text.replace("&#39;", "'")
    assert 'value="2.0, 2011"' in answer.text
    with unit_of_work():
        assert Job.select().count() == 1


def test_an_image_of_another_identity_is_refused(client, scene):
    put(client, layout_json.dumps(layout_of(PIKE)).encode(), "layout.json", name="Pike layout")
    wren = write_image(image_of(car_named("bramble-wren")), "hex")
    answer = take_on(client, {"calibration": ("read.hex", wren)})
    assert answer.status_code == 400
    assert "Pike layout: the identity at 0x8020 is “STAND-IN BRAMBLE-WRE" in answer.text


def test_a_revision_on_the_shelf_says_how_its_car_ended(client, scene):
    client.send_form(f"/jobs/{scene.job.id}/revisions/0/shelf", {"name": "From a job"})
    with unit_of_work():
        entry = ShelfEntry.get(ShelfEntry.name == "From a job")
    assert json.loads(entry.outcome) == {"rounds": 0}
    assert entry.origin == "Corvid Pike of Customer, revision 0"
    answer = client.get(f"/shelf/{entry.id}/compare?job={scene.job.id}", follow_redirects=True)
    assert "No table differs" in answer.text
    client.send_form(f"/jobs/{scene.job.id}/car/shelf")
    assert "Corvid Pike" in client.get("/shelf?kind=car").text


def test_a_recording_of_the_bus_is_read_by_the_shelfs_description(client, scene):
    drive = simulate(PIKE, pike_base(), "warm_idle", 1)
    refused = scene.receive(write_bus(drive, "blf"), "drive.blf")[0]
    ready_or_refused(refused)
    with unit_of_work():
        assert "no description (DBC)" in LogFile.get_by_id(refused.id).message
    put(client, dbc_of(drive).encode(), "car.dbc")
    log = ready(scene.receive(write_bus(drive, "asc"), "drive.asc")[0])
    with unit_of_work():
        kept = LogFile.get_by_id(log.id)
    assert (kept.state, kept.message) == ("ready", "")
    assert "car.dbc" in kept.notes


def ready_or_refused(log) -> None:
    from uchiwa.services.importing import import_log

    import_log(log.id)


def test_what_is_typed_is_shown_as_text(client, scene):
    number = put(
        client, BASE, "<img src=x>.json", name="<script>alert(1)</script>", words="<b>x</b>", tags="<i>", origin="a & b"
    )
    for path in ("/shelf", f"/shelf/{number}", "/jobs/new"):
        page = client.get(path).text
        assert "<script>alert" not in page
        assert "<b>x" not in page
        assert not re.search(r"<i>(?!\s*</)", page)
    told = client.get(f"/shelf/{number}/file").headers["content-disposition"]
    assert "<" not in told.partition(";")[2].partition("filename*")[0]


def test_another_shop_has_another_shelf(client, scene):
    from uchiwa.store import accounts

    number = put(client, BASE, "base.json", name="Mine")
    with unit_of_work():
        shop = accounts.create_shop("Other")
        accounts.create_user(shop, "other@example.org", "Other", "a long enough password")
        assert shelf.find(shop.id, number) is None
    client.sign_in("other@example.org", "a long enough password")
    assert "Mine" not in client.get("/shelf").text
    assert client.get(f"/shelf/{number}").status_code == 404
    assert take_on(client, start=number).status_code == 400


@pytest.mark.parametrize(
    ("file", "name", "shown"),
    [
        (layout_json.dumps(layout_of(PIKE)).encode(), "layout.json", layout_of(PIKE).tables[0].title),
        (BASE, "base.json", "Corvid Pike"),
        (cdf.dumps(pike_base()), "base.cdfx", "Corvid Pike"),
        (dbc_of(simulate(PIKE, pike_base(), "warm_idle", 1)).encode(), "car.dbc", "Vehicle_speed (km/h)"),
    ],
    ids=["layout", "calibration", "cdf", "bus"],
)
def test_each_thing_has_a_page_of_its_own_and_goes_out_as_it_came(client, file, name, shown):
    number = put(client, file, name, name="The thing")
    page = client.get(f"/shelf/{number}")
    assert page.status_code == 200
    assert "The thing" in page.text
    assert client.get("/shelf").text.count(f'href="/shelf/{number}"') >= 1
    sent = client.get(f"/shelf/{number}/file")
    assert "attachment" in sent.headers["content-disposition"]
    assert sent.content == (BASE if name == "base.cdfx" else file)
    assert shown in page.text


def test_how_a_car_ended_is_said_in_words(client, scene):
    number = put(client, BASE, "base.json", name="Good one")
    with unit_of_work():
        outcome = {"rounds": 3, "error_percent": 1.24, "within_percent": 91, "knock": 1}
        ShelfEntry.update(outcome=json.dumps(outcome)).where(ShelfEntry.id == number).execute()
        entry = ShelfEntry.get_by_id(number)
    assert outcome_words(entry) == "3 rounds, 1.2 % error left, 91 % of cells within ±2 %, knock in 1 log"
    entry.outcome = json.dumps({"rounds": 1, "knock": 0})
    assert outcome_words(entry) == "1 round, no knock"
    entry.outcome = "{}"
    assert outcome_words(entry) == ""
    assert "91 % of cells within ±2 %" in client.get(f"/shelf/{number}").text


def test_a_sensor_and_a_car_file_of_the_shelf_go_with_the_car(client, scene):
    start = put(client, BASE, "base.json", name="Good one")
    client.send_form(f"/jobs/{scene.job.id}/car/shelf")
    with unit_of_work():
        car_file = ShelfEntry.get(ShelfEntry.kind == "car").id
    sensor = next(iter(PRESSURE_LINES))
    answer = take_on(client, start=start, car_file=car_file, pressure_sensor=sensor, language="de")
    assert answer.status_code == 303, answer.text
    job = newest(scene)
    with unit_of_work():
        kept, told = CarFile.loads(job.car.file), [one.sentence for one in events.history(job)]
        assert job.car.customer.language == "de"
    assert kept.pressure_sensor == sensor
    assert f"Pressure sensor of this car: {sensor} (car file)" in told
    unknown = take_on(client, start=start, pressure_sensor="no such sensor")
    assert unknown.status_code == 400
    assert "no pressure sensor is called “no such sensor”" in unknown.text


@pytest.mark.parametrize(
    ("files", "why"),
    [
        ({"layout": ("layout.json", b"{}")}, "a layout was given without an image"),
        ({"calibration": ("own.bin", b"\x01\x02"), "layout": ("layout.json", b"\xff\xfe\x00{")}, "this is not text"),
    ],
)
def test_a_layout_that_cannot_be_used_is_said(client, scene, files, why):
    start = put(client, BASE, "base.json", name="Good one")
    answer = take_on(client, files, start=start)
    assert answer.status_code == 400
    assert why in answer.text
    with unit_of_work():
        assert Job.select().count() == 1
