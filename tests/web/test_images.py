"""Controller images over HTTP: in, checked, and out again as the flasher takes them."""

from __future__ import annotations

import io
import json
import re
import zipfile

import numpy as np
import pytest

from tests.web.draft_acts import PIKE, answer_all, content, edit, give_image
from uchiwa.core.tables.image.content import read_calibration
from uchiwa.core.tables.image.files import read_image, write_image
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.standin.cars import pike_base
from uchiwa.standin.fleet import car_named
from uchiwa.standin.layouts import flash, image_of, layout_data, layout_of
from uchiwa.store import calibrations, images, jobs, revisions
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import User


@pytest.mark.parametrize("kind", ["raw", "hex", "srec"])
def test_a_revision_goes_out_as_the_image_and_the_flasher_takes_it(client, scene, path, kind):
    assert give_image(client, scene, kind).status_code == 303
    assert "STAND-IN CORVID-PIKE 01" in client.get(f"/jobs/{scene.job.id}/image").text
    edit(client, path, scene, "x-2", "4.4 5.4 6.4")
    answer_all(client, path)
    assert client.send_form(f"{path}/return", {"version": 2, "notes": "Flash **this**."}).status_code == 303
    archive = zipfile.ZipFile(io.BytesIO(client.get(f"/jobs/{scene.job.id}/revisions/1.zip").content))
    names = {name.rpartition("/")[2]: name for name in archive.namelist()}
    ending = {"raw": "bin", "hex": "hex", "srec": "s19"}[kind]
    image = archive.read(names[f"corvid-pike-revision-1.{ending}"])
    flashed = flash(PIKE, read_image(image, "x", layout_of(PIKE).base)[0])
    assert calibration_json.content_hash(flashed) == calibration_json.content_hash(content(scene))
    assert archive.read(names["report.pdf"])[:5] == b"%PDF-"
    html = archive.read(names["report.html"]).decode()
    assert "Flash <strong>this</strong>." in html
    assert "Spark advance: 3 cells changed" in html
    assert "script" not in html
    assert set(names) == {
        "corvid-pike-revision-1.json", f"corvid-pike-revision-1.{ending}", "notes.md", "report.html", "report.pdf", "SHA256SUMS",
    }  # fmt: skip
    for other in ("raw", "hex", "srec"):
        data = client.get(f"/jobs/{scene.job.id}/revisions/1/image.{other}").content
        assert read_image(data, "x", 0x8000)[0] == read_image(image, "x", 0x8000)[0]
    assert client.get(f"/jobs/{scene.job.id}/revisions/1/image.elf").status_code == 404
    assert client.get(f"/jobs/{scene.job.id}/revisions/1/report").status_code == 200


def test_faulty_images_and_layouts_are_refused_and_nothing_is_kept(client, scene):
    layout, image = json.dumps(layout_data(PIKE)), write_image(image_of(PIKE), "hex")
    wren = write_image(image_of(car_named("bramble-wren")), "hex")
    cases = [
        ("{", image, "pike.layout.json, line 1: this is not JSON"),
        (layout.replace("0x9048", "0x9000"), image, "overlaps"),
        (layout, wren, "this image is for another controller"),
        (layout, image[:5000], "export the image again"),
        (layout, image.replace(b":20", b":21", 1), "line 1"),
        (layout, b"", "no image was chosen"),
    ]
    for described, data, said in cases:
        answer = client.send_form(
            f"/jobs/{scene.job.id}/image",
            files={"layout": ("pike.layout.json", described), "image": ("pike.hex", data)},
        )
        assert answer.status_code == 400, said
        assert said in answer.text.replace("&#39;", "'")
    with unit_of_work():
        assert images.of_job(scene.job) is None


def test_a_value_that_the_image_cannot_hold_stops_the_return(client, scene, path):
    coarse = json.dumps(layout_data(PIKE)).replace(
        '"address": "0x9048", "type": "u16", "scale": 0.1', '"address": "0x9048", "type": "u16", "scale": 0.002'
    )
    memory = image_of(PIKE)
    assert "0.002" in coarse
    answer = client.send_form(
        f"/jobs/{scene.job.id}/image",
        files={"layout": ("l.json", coarse), "image": ("pike.hex", write_image(memory, "hex"))},
    )
    assert answer.status_code == 303  # the image is a good one; read so, its VE is another
    edit(client, path, scene, "150", "4.4", "ve_main")
    page = client.get(f"{path}/review").text
    assert "2000 rpm × 60 kPa: 150 cannot be kept as u16; the nearest that can is 131.07" in page
    answer_all(client, path)
    assert client.send_form(f"{path}/return", {"version": 2}).status_code == 400
    assert "This must be mended" in page


def test_a_round_trip_of_a_new_job_from_an_image(client):
    layout, image = json.dumps(layout_data(PIKE)), write_image(image_of(PIKE), "srec")
    answer = client.send_form(
        "/jobs/new",
        {"customer": "Ada", "car": "Pike"},
        files={"calibration": ("pike.s19", image), "layout": ("pike.json", layout)},
    )
    assert answer.status_code == 303
    job_id = int(re.search(r"/jobs/(\d+)/", answer.headers["location"])[1])
    with unit_of_work():
        job = jobs.find(User.get().shop_id, job_id)
        base = calibrations.content(revisions.numbered(job, 0).calibration)
        assert images.of_job(job).format == "srec"
    assert calibration_json.content_hash(base) == calibration_json.content_hash(
        read_calibration(image_of(PIKE), layout_of(PIKE))
    )
    assert np.array_equal(base.table("ve_main").grid, pike_base().table("ve_main").grid)
