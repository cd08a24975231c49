"""From a table to a flashed car: edited, compared, reviewed, frozen by keyboard alone; flashed, driven, matched."""

from __future__ import annotations

import io
import json
import re

import pytest
from playwright.sync_api import Page, expect

from tests.store.conftest import log_text, ready
from uchiwa.core.tables.image.files import read_image, write_image
from uchiwa.standin.fleet import car_named
from uchiwa.standin.layouts import flash, image_of, layout_data, layout_of
from uchiwa.standin.simulate import simulate
from uchiwa.store import calibrations, drafts, images, jobs, links, uploads
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import FoundInLog, LogFile

pytestmark = pytest.mark.browser
PIKE = car_named("corvid-pike")


@pytest.fixture
def with_image(scene):
    with unit_of_work():
        layout = json.dumps(layout_data(PIKE))
        images.keep(scene.job, scene.user, layout, "pike.hex", write_image(image_of(PIKE), "hex"))
    return scene


def table(scene, table_id: str):
    with unit_of_work():
        return calibrations.content(drafts.current(scene.job).calibration).table(table_id).grid.copy()


def shown(page: Page, i: int, j: int) -> float:
    return float(page.locator(f"td[data-i='{i}'][data-j='{j}']").inner_text().replace("−", "-"))


def tab_to(page: Page, words: str, most: int = 120) -> None:
    """Tab until what is focused is called so."""
    for _ in range(most):
        page.keyboard.press("Tab")
        said = page.evaluate(
            "(() => { const one = document.activeElement; return one.getAttribute('aria-label') || (one.innerText ?? one.textContent) || one.name || '' })()"
        )
        if said.strip().startswith(words):
            return
    raise AssertionError(f"Tab never reached “{words}”")


def line(page: Page, text: str) -> None:
    """Typed over the grid, and applied."""
    page.keyboard.type(text)
    page.keyboard.press("Enter")
    expect(page.locator(".line-said")).not_to_have_class(re.compile("is-bad"))
    expect(page.locator("input[name='line']")).to_have_value("")


def settled(page: Page, words: str) -> None:
    expect(page.locator(".line-said")).to_contain_text(words)


def opened(page: Page, scene, table_id: str = "spark_main", **more: str) -> None:
    query = "&".join([f"table={table_id}", *(f"{key}={value}" for key, value in more.items())])
    page.goto(f"/jobs/{scene.job.id}/rounds/1/tables?{query}")
    expect(page.locator("td.is-active")).to_be_focused()


def test_a_table_is_edited_reviewed_and_returned_by_keyboard_and_the_car_runs_it(page: Page, with_image, served):
    scene = with_image
    before = table(scene, "spark_main")
    opened(page, scene, cell="2.4")
    for key in ("Shift+ArrowRight", "Shift+ArrowRight", "Shift+ArrowUp"):
        page.keyboard.press(key)
    expect(page.locator("input[name='cells']")).to_have_value("2.4 3.4 4.4 2.5 3.5 4.5")
    line(page, "x-2")
    settled(page, "Spark advance: x-2 in 6 cells")
    assert shown(page, 3, 5) == pytest.approx(before[5, 3] - 2)
    assert table(scene, "spark_main")[5, 3] == pytest.approx(before[5, 3] - 2)

    page.keyboard.press("Escape")
    page.keyboard.press("Home")
    for _ in range(4):
        page.keyboard.press("Shift+ArrowRight")
    line(page, "fill across")
    settled(page, "fill across")
    row = table(scene, "spark_main")[5, :5]
    assert row[1] == pytest.approx(row[0] + (row[4] - row[0]) * 300 / 1400, abs=0.051)

    page.context.grant_permissions(["clipboard-read", "clipboard-write"], origin=served)
    page.evaluate("navigator.clipboard.writeText('20.5\\t21\\r\\n22\\t23,\\r\\n'.replace('23,', '23'))")
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Control+v")
    settled(page, "pasted 2 × 2 in 4 cells")
    pasted = table(scene, "spark_main")
    j = 4
    assert pasted[j, 4:6].tolist() == [20.5, 21]
    assert pasted[j - 1, 4:6].tolist() == [22, 23]

    page.keyboard.press("Control+z")
    settled(page, "Undone")
    page.keyboard.press("Control+z")
    settled(page, "Undone: Spark advance: fill across")
    assert table(scene, "spark_main")[5, 1] == before[5, 1]
    page.keyboard.press("Control+Shift+z")
    settled(page, "Done again: Spark advance: fill across")
    assert table(scene, "spark_main")[5, :5].tolist() == row.tolist()
    page.keyboard.press("Control+c")
    settled(page, "copied")

    tab_to(page, "compare")
    page.keyboard.press("Enter")
    page.wait_for_url("**/compare?**")
    expect(page.locator(".compare-tabs .is-on")).to_contain_text("Spark advance")
    tab_to(page, "Review")
    page.keyboard.press("Enter")
    page.wait_for_url("**/review")
    while page.locator("input[name='reason']").count():
        count = page.locator("input[name='reason']").count()
        tab_to(page, "Why this is right")
        page.keyboard.type("asked for by the driver")
        page.keyboard.press("Enter")
        expect(page.locator("input[name='reason']")).to_have_count(count - 1)
    expect(page.get_by_role("heading", name="All answered")).to_be_visible()
    tab_to(page, "Go to Return")
    page.keyboard.press("Enter")
    page.wait_for_url("**/return")
    tab_to(page, "notes")
    page.keyboard.type("Flash it, then **idle**.")
    tab_to(page, "Freeze revision 1")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Revision 1", exact=True)).to_be_visible()
    sent = table(scene, "spark_main")

    flashed_and_driven(page, scene, served, sent)


def flashed_and_driven(page: Page, scene, served: str, sent) -> None:
    """The customer downloads the image on a phone, the car takes it, and its next logs are matched with it."""
    with unit_of_work():
        token = links.make(scene.job)
    phone = page.context.browser.new_context(viewport={"width": 390, "height": 844}, base_url=served)
    customer = phone.new_page()
    customer.goto(f"/c/{token}")
    expect(customer.get_by_role("heading", name="First: flash revision 1")).to_be_visible()
    with customer.expect_download() as downloading:
        customer.get_by_role("link", name="Download the image").click()
    name = downloading.value.suggested_filename
    data = downloading.value.path().read_bytes()
    assert name == "corvid-pike-revision-1.hex"
    flashed = flash(PIKE, read_image(data, name, layout_of(PIKE).base)[0], name)
    assert (flashed.table("spark_main").grid == sent).all()
    customer.get_by_role("button", name="I have flashed it").click()
    expect(customer.get_by_text("Revision 1 is noted as flashed.")).to_be_visible()

    for calibration, mark, wrong in ((flashed, "revision 1", False), (PIKE.base(), "revision 0", True)):
        recording = simulate(PIKE, calibration, "warm_idle", 3, revision=f"corvid-pike, {mark}")
        log_name = f"{mark}.csv"
        customer.locator("#files").set_input_files(
            {"name": log_name, "mimeType": "text/csv", "buffer": PIKE.logger.write(recording)}
        )
        expect(customer.locator(".log-name").filter(has_text=log_name)).to_be_visible(timeout=60_000)
        expect(customer.locator("#state")).to_have_attribute("data-reading", "no", timeout=60_000)
        with unit_of_work():
            log = LogFile.get(LogFile.job == scene.job, LogFile.name == log_name)
            found = {finding.rule for finding in FoundInLog.select().where(FoundInLog.log == log)}
        assert ("other_revision" in found) is wrong, found
    phone.close()


def test_a_log_without_a_mark_is_matched_by_what_the_tables_say(with_image):
    """The lookup comparison: the same log belongs to the revision it was driven with and to no other."""
    scene = with_image
    base = PIKE.base()
    spark = base.table("spark_main")
    other = base.with_table(spark.with_grid(spark.grid - 3))
    for calibration, wrong in ((base, False), (other, True)):
        recording = simulate(PIKE, calibration, "roll_on", 5)
        data = b"\n".join(row for row in PIKE.logger.write(recording).splitlines() if not row.startswith(b"# revision"))
        with unit_of_work():
            log, _ = uploads.receive(scene.job, jobs.rounds(scene.job)[0], f"{wrong}.csv", io.BytesIO(data))
        ready(log)
        with unit_of_work():
            found = {finding.rule for finding in FoundInLog.select().where(FoundInLog.log == log.id)}
        assert ("other_revision" in found) is wrong


def test_words_are_said_where_an_edit_fails_and_the_line_stays(page: Page, scene):
    opened(page, scene)
    page.keyboard.type("x*")
    page.keyboard.press("Enter")
    expect(page.locator(".line-said.is-bad")).to_contain_text("this is not a formula")
    expect(page.locator("input[name='line']")).to_have_value("x*")
    expect(page.locator("input[name='line']")).to_be_focused()
    page.keyboard.press("Escape")
    expect(page.locator("td.is-active")).to_be_focused()


def test_two_people_on_one_draft_and_the_later_stale_edit_is_told(page: Page, scene):
    opened(page, scene)
    other = page.context.new_page()
    opened(other, scene)
    page.keyboard.type("x-1")
    page.keyboard.press("Enter")
    settled(page, "x-1 in 1 cell")
    other.keyboard.type("x-5")
    other.keyboard.press("Enter")
    expect(other.locator(".line-said.is-bad")).to_contain_text("Somebody")
    expect(other.locator(".line-said.is-bad")).to_contain_text("x-1 in 1 cell")
    assert table(scene, "spark_main")[12, 0] == pytest.approx(PIKE.base().table("spark_main").grid[12, 0] - 1)


def test_pictures_follow_the_cell_turn_and_pick(page: Page, scene):
    opened(page, scene, "ve_main")
    page.keyboard.press("ArrowDown")
    expect(page.locator(".pictures figcaption").first).to_contain_text("160 kPa")
    page.get_by_role("button", name="Turn right").click()
    expect(page.locator(".relief")).to_have_attribute("data-turn", "2")
    page.locator(".lines circle[data-i='7']").click()
    expect(page.locator("td.is-active")).to_have_attribute("data-i", "7")
    page.locator("summary", has_text="all tables").click()
    page.get_by_label("Find a table").fill("warm")
    page.keyboard.press("Enter")
    page.wait_for_url("**table=warmup")
    expect(page.locator("table.grid td")).to_have_count(6)


def test_a_picture_is_drawn_anew_under_the_hand_that_turns_it(page: Page, scene):
    """Its shapes are others each time; what is held, and the keyboard's place in the grid, stay."""
    opened(page, scene, cell="2.4")
    relief = page.locator("svg.relief")
    page.evaluate("document.querySelector('svg.relief').drawnFirst = true")
    page.evaluate("document.querySelector('svg.relief .patch').drawnFirst = true")
    patch = relief.locator(".patch").first
    before = patch.get_attribute("points")
    line(page, "+3")
    expect(page.locator("svg.relief .patch").first).not_to_have_attribute("points", before)
    assert page.evaluate("document.querySelector('svg.relief').drawnFirst")
    assert not page.evaluate("[...document.querySelectorAll('svg.relief .patch')].some((one) => one.drawnFirst)")
    expect(page.locator("td.is-active")).to_be_focused()
    expect(relief.locator(".is-active")).to_have_attribute("data-i", "2")
    box = relief.bounding_box()
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    turns = set()
    for step in range(1, 5):
        page.mouse.move(x + 30 * step, y)
        expect(relief).not_to_have_attribute("data-turn", sorted(turns)[-1] if turns else "0")
        turns.add(relief.get_attribute("data-turn"))
    page.mouse.up()
    assert len(turns) == 4


def test_cells_are_chosen_and_taken_across_in_a_comparison(page: Page, scene):
    opened(page, scene, cell="1.1")
    page.keyboard.press("Shift+ArrowRight")
    line(page, "x-1")
    page.goto(f"/jobs/{scene.job.id}/rounds/1/compare?table=spark_main")
    page.locator("td[data-i='1'][data-j='1']").click()
    expect(page.get_by_role("button", name="Take 1 chosen cell")).to_be_visible()
    page.get_by_role("button", name="Take 1 chosen cell").click()
    expect(page.get_by_text("It is in the draft and can be undone.")).to_be_visible()
    assert (table(scene, "spark_main") != PIKE.base().table("spark_main").grid).sum() == 1


def test_the_drawer_follows_the_chosen_cells_to_the_log(page: Page, scene):
    log, _ = scene.receive(log_text())
    ready(log)
    opened(page, scene, "ve_main", cell="4.4")
    page.get_by_role("button", name="Moments in the chosen cells").click()
    expect(page.locator(".moments .trace-title")).to_have_count(3)
    expect(page.locator(".drawer-pull")).to_contain_text(
        re.compile(r"moments? of drive.csv in this cell|was never here")
    )
    page.locator("td[data-i='4'][data-j='4']").click()
    page.locator("td[data-i='8'][data-j='7']").click(modifiers=["Shift"])
    expect(page.locator(".drawer-pull")).to_contain_text("in these cells")
    page.get_by_role("link", name="read this log").click()
    page.wait_for_url("**/read?log=*")
    expect(page.locator("main")).to_have_attribute("data-ready", "yes")
