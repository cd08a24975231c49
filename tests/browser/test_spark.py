"""From the upload of pulls to a taken spark proposal, by mouse and by keyboard."""

from __future__ import annotations

import re
import time

import pytest
from playwright.sync_api import Error, Page, expect

from tests.store.spark_logs import SESSION, dyno_text, knock_text
from uchiwa.store import calibrations, drafts
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import LogFile

pytestmark = pytest.mark.browser


@pytest.fixture
def path(scene) -> str:
    return f"/jobs/{scene.job.id}/rounds/1"


def leave(page: Page) -> None:
    """Go home, also while the page is about to show itself anew because an import is done."""
    for _ in range(3):
        try:
            page.goto("/")
        except Error as error:
            if "interrupted by another navigation" not in str(error):
                raise
        else:
            return


def upload(page: Page, path: str, name: str, data: str | bytes) -> None:
    """Send a log and accept it, whatever the checks say of a synthetic one."""
    page.goto(f"{path}/logs")
    content = data.encode() if isinstance(data, str) else data
    page.locator("input[type=file]").first.set_input_files([{"name": name, "mimeType": "text/csv", "buffer": content}])
    deadline = time.monotonic() + 30
    while time.monotonic() < deadline:
        with unit_of_work():
            ready = LogFile.select().where(LogFile.name == name, LogFile.state == "ready").exists()
        if ready:
            leave(page)
            with unit_of_work():
                LogFile.update(accepted=True, decided=True).where(LogFile.name == name).execute()
            return
        page.wait_for_timeout(200)
    raise TimeoutError(name)


def spark_of(scene):
    with unit_of_work():
        return calibrations.content(drafts.current(scene.job).calibration).table("spark_main").grid


def test_knock_is_judged_and_taken_out_by_keyboard(page: Page, scene, path):
    upload(page, path, "pull.csv", knock_text())
    page.goto(f"{path}/spark")
    margin = page.get_by_role("complementary")
    expect(margin).to_contain_text("This looks like real knock")
    page.locator("td.knock-real").first.focus()
    page.keyboard.press("ArrowUp")
    expect(margin).to_contain_text("spark goes out")
    page.keyboard.press("ArrowDown")
    expect(margin.locator(".events-table tbody tr")).to_have_count(4)
    page.get_by_label("margin in degrees").fill("1.5")
    page.get_by_label("margin in degrees").press("Enter")
    expect(page.get_by_label("margin in degrees")).to_be_focused()
    expect(margin).to_contain_text("−4.5°")
    page.wait_for_load_state("networkidle")
    page.get_by_label("why").fill("heard it from the road")
    margin.get_by_role("button", name="It is knock").press("Enter")
    expect(page.get_by_role("status")).to_contain_text("held to be real")
    expect(margin).to_contain_text("heard it from the road")
    page.locator(".drawer-pull").press("Enter")
    expect(page.locator(".moments .trace-title")).to_have_count(3)
    before = spark_of(scene)
    page.get_by_role("link", name="Change").press("Enter")
    expect(page.locator("table.grid")).to_have_class(re.compile("view-difference"))
    page.get_by_role("button", name=re.compile("Take (all|the one)")).press("Enter")
    expect(page.get_by_role("status")).to_contain_text("Taken into the draft")
    after = spark_of(scene)
    assert (after <= before).all()
    assert (before - after).max() >= 4.5


def test_from_pulls_to_a_taken_spark_proposal(page: Page, scene, path):
    for run, offset in SESSION:
        upload(page, path, f"run {run}.csv", dyno_text(run, offset))
    leave(page)
    page.get_by_text("spark is next").first.click()
    page.get_by_role("link", name="Pulls").click()
    page.wait_for_load_state()
    expect(page.locator("path.pull.look-4").first).to_be_attached()
    for row, words in enumerate(("as flashed", "four out", "eight out", "again", "one in")):
        page.get_by_label("what was changed for this pull").nth(row).fill(words)
        page.get_by_label("what was changed for this pull").nth(row).press("Enter")
        expect(page.get_by_label("what was changed for this pull").nth(row)).to_have_value(words)
        page.wait_for_load_state("networkidle")
    page.get_by_role("button", name="hide").nth(2).click()
    expect(page.get_by_text("4 of 5 shown")).to_be_visible()
    page.get_by_role("button", name="show").click()
    expect(page.get_by_text("5 of 5 shown")).to_be_visible()
    drawing = page.locator("svg.pulls")
    drawing.hover(position={"x": 400, "y": 120})
    table = page.locator(".at-cursor table")
    expect(table.locator("tbody tr")).to_have_count(5)
    at_mouse = table.locator("th").first.inner_text()
    drawing.focus()
    page.keyboard.press("ArrowRight")
    expect(table.locator("th").first).not_to_have_text(at_mouse)
    page.get_by_label("means from, rpm").fill("3500")
    page.get_by_label("means from, rpm").press("Enter")
    expect(page.get_by_role("heading", name="Means from 3500")).to_be_visible()
    page.get_by_role("link", name="Torque").click()
    page.wait_for_load_state()
    page.locator("svg.ladder .rung").nth(3).locator(".hit").click()
    expect(page.get_by_role("complementary")).to_contain_text("At 3200 rpm")
    before = spark_of(scene)
    take = page.get_by_role("button", name=re.compile("Take (all|the one)"))
    take.press("Enter")
    expect(page.get_by_role("status")).to_contain_text("by torque")
    assert abs(spark_of(scene) - before).max() <= 2.0 + 1e-9
    page.get_by_role("link", name="Review", exact=True).first.click()
    expect(page.locator("body")).to_contain_text("5 pulls, at most 2° a round")
