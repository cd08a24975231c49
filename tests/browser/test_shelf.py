"""The shelf: a revision put there, a car taken on from it with spark down for its fuel, flashed, and driven."""

from __future__ import annotations

import re
import time

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from uchiwa.core.tables.image import layout_json
from uchiwa.core.tables.image.files import write_image
from uchiwa.standin.a2l import description_of
from uchiwa.standin.fleet import car_named
from uchiwa.standin.layouts import image_of, layout_of
from uchiwa.store import calibrations, events, jobs, revisions
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Job

pytestmark = pytest.mark.browser
PIKE = car_named("corvid-pike")


def newest_job(scene) -> Job:
    with unit_of_work():
        return jobs.find(scene.user.shop_id, max(one.id for one in jobs.recent(scene.user.shop_id, 50)))


def test_a_car_is_taken_on_from_the_shelf_with_less_spark_and_briefed(page: Page, scene, browser, served):
    page.goto(f"/jobs/{scene.job.id}")
    page.get_by_text("to the shelf").click()
    page.get_by_label("Name", exact=True).fill("Pike, good fuel")
    page.get_by_label("Tags").fill("pike, turbo")
    page.get_by_role("button", name="Put on the shelf").click()
    expect(page.locator("h1")).to_have_text("Pike, good fuel")
    began = time.monotonic()
    page.get_by_role("link", name="Take on a car with this map").click()
    page.get_by_label("Customer", exact=True).fill("I. Marlow")
    page.get_by_label("Car", exact=True).fill("Pike 1.8")
    page.get_by_label("Spark down by, degrees").fill("4")
    page.get_by_label("because of").fill("95 octane")
    expect(page.locator(".start-steps")).to_contain_text("Spark 4° down in 195 cells, for 95 octane")
    page.get_by_role("button", name="Take it on").click()
    page.wait_for_url(re.compile("/rounds/1/brief"))
    page.get_by_role("button", name=re.compile("Send")).first.click()
    link = page.get_by_label("The link").input_value()
    assert time.monotonic() - began < 120
    job = newest_job(scene)
    with unit_of_work():
        told = [one.sentence for one in events.history(job)]
        content = calibrations.content(revisions.numbered(job, 0).calibration)
    assert "Spark 4° down in 195 cells, for 95 octane" in told
    assert any("“Pike, good fuel” of the shelf" in one for one in told)
    base = PIKE.base().table("spark_main")
    assert np.allclose(content.table("spark_main").grid, np.maximum(base.grid - 4, base.minimum or -99), atol=0.06)
    phone = browser.new_context(viewport={"width": 390, "height": 844}, base_url=served).new_page()
    phone.goto(re.search(r"/c/[\w-]+", link)[0])
    expect(phone.locator("body")).to_contain_text("First: flash revision 0")
    phone.get_by_role("button", name="I have flashed it").click()
    expect(phone.locator("body")).to_contain_text("Revision 0 is noted as flashed")
    page.goto(f"/jobs/{job.id}/rounds/1/compare?a=revision:0")
    page.get_by_label("from").select_option(label="the shelf: Pike, good fuel")
    expect(page.locator(".facts")).to_contain_text("Spark advance: 195 cells changed, −4.0°")


def test_a_description_becomes_a_layout_by_which_an_image_is_known(page: Page, scene, tmp_path):
    layout, image = layout_of(PIKE), tmp_path / "pike.hex"
    (tmp_path / "pike.a2l").write_text(description_of(layout))
    image.write_bytes(write_image(image_of(PIKE), "hex"))
    page.goto("/shelf")
    page.get_by_label("File", exact=True).set_input_files(tmp_path / "pike.a2l")
    page.get_by_role("button", name="Put it on the shelf").click()
    expect(page.get_by_label("Take VE_MAIN as")).to_have_value("volumetric_efficiency")
    page.get_by_role("searchbox").fill("spark")
    page.keyboard.press("Enter")
    expect(page.locator(".characteristics tbody tr")).to_have_count(1)
    page.get_by_role("searchbox").fill("")
    page.keyboard.press("Enter")
    expect(page.get_by_label("Take VE_MAIN as")).to_be_visible()
    page.get_by_text("The image’s checksum").click()
    first = layout.checksums[0]
    page.get_by_label("Kind").select_option(first.kind)
    for label, value in (("from", first.ranges[0][0]), ("up to", first.ranges[0][1]), ("kept at", first.address)):
        page.get_by_label(label, exact=True).fill(f"0x{value:X}")
    page.get_by_label("An image of it").set_input_files(image)
    page.get_by_role("button", name="Make the layout").click()
    expect(page.locator("main")).to_contain_text("STAND-IN CORVID-PIKE 01")
    page.goto("/jobs/new")
    page.get_by_label("Customer", exact=True).fill("I. Marlow")
    page.get_by_label("Car", exact=True).fill("Pike 2.0")
    page.get_by_label("Its own calibration").set_input_files(image)
    page.get_by_role("button", name="Take it on").click()
    page.wait_for_url(re.compile("/rounds/1/brief"))
    with unit_of_work():
        content = calibrations.content(revisions.numbered(newest_job(scene), 0).calibration)
    assert np.array_equal(content.table("ve_main").grid, PIKE.base().table("ve_main").grid)


def test_what_is_wrong_with_a_file_is_said_and_what_was_typed_stays(page: Page, scene, tmp_path):
    wrong = tmp_path / "wrong.json"
    wrong.write_text(layout_json.dumps(layout_of(PIKE)).replace('"u16"', '"u17"'))
    page.goto("/shelf")
    page.get_by_label("File", exact=True).set_input_files(wrong)
    page.get_by_label("Words").fill("Three cars of 2009.")
    page.get_by_role("button", name="Put it on the shelf").click()
    expect(page.get_by_role("alert")).to_contain_text("wrong.json")
    expect(page.get_by_label("Words")).to_have_value("Three cars of 2009.")
