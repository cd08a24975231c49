"""From the tuner's brief to an accepted log on a phone."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.store.conftest import log_text
from uchiwa.standin.cars import calibrated
from uchiwa.standin.defects import changed
from uchiwa.standin.fleet import car_named
from uchiwa.standin.simulate import simulate
from uchiwa.store.uploads import PIECE

pytestmark = pytest.mark.browser
CAR = car_named("corvid-pike")


def idle_log(*, cold: bool = False) -> bytes:
    """A warm idle as the brief asks for it, or one with a cold engine."""
    log = simulate(CAR, calibrated(CAR), "warm_idle", 5, revision="corvid-pike, revision 0")
    if cold:
        log = changed(log, coolant_temperature=lambda time, values, _: values - 55.0)
    return CAR.logger.write(log)


def link_of(page: Page, scene) -> str:
    """Send the standard brief, and take the link it makes."""
    page.goto(f"/jobs/{scene.job.id}/rounds/1/brief")
    page.get_by_role("button", name="Send this brief").click()
    return page.get_by_label("The link", exact=True).input_value()


@pytest.fixture
def phone(browser: Browser):
    """A phone of somebody who is not signed in; any script error or refused resource fails the test."""
    context = browser.new_context(viewport={"width": 390, "height": 844}, has_touch=True, is_mobile=True)
    page = context.new_page()
    wrong: list[str] = []
    page.on("pageerror", lambda error: wrong.append(str(error)))
    page.on(
        "console",
        lambda message: wrong.append(message.text) if message.type == "error" and "400" not in message.text else None,
    )
    yield page
    context.close()
    assert wrong == []


def test_from_link_to_accepted_log_in_two_taps_and_a_choice(page: Page, phone: Page, scene):
    phone.goto(link_of(page, scene))
    expect(phone.get_by_role("heading", name="Your Corvid Pike")).to_be_visible()
    assert phone.evaluate("document.documentElement.scrollWidth") <= 390
    taps = 0
    with phone.expect_file_chooser() as chooser:
        phone.get_by_text("Send a log", exact=True).tap()
        taps += 1
    chooser.value.set_files([{"name": "idle.csv", "mimeType": "text/csv", "buffer": idle_log()}])
    taps += 1
    expect(phone.locator(".phone-log", has_text="idle.csv")).to_contain_text("✓ accepted", timeout=30_000)
    expect(phone.locator(".todo-item", has_text="Warm idle")).to_have_class(re.compile("is-done"))
    assert taps <= 4


def test_a_cold_log_is_said_and_a_warm_one_puts_it_right(page: Page, phone: Page, scene):
    phone.goto(link_of(page, scene))
    files = phone.locator("#files")
    files.set_input_files([{"name": "cold.csv", "mimeType": "text/csv", "buffer": idle_log(cold=True)}])
    item = phone.locator(".todo-item", has_text="Warm idle")
    expect(item).to_contain_text("The engine was still cold", timeout=30_000)
    expect(item).to_have_class(re.compile("is-repeat"))
    expect(phone.locator(".phone-log", has_text="cold.csv")).to_contain_text("record again")
    files.set_input_files([
        {"name": "warm.csv", "mimeType": "text/csv", "buffer": idle_log()},
        {"name": "again.csv", "mimeType": "text/csv", "buffer": idle_log(cold=True)},
    ])  # fmt: skip
    expect(item).to_have_class(re.compile("is-done"), timeout=30_000)
    expect(phone.locator(".sending")).to_contain_text("already here")
    page.goto(f"/jobs/{scene.job.id}/rounds/1/logs")
    expect(page.locator(".log-table")).to_contain_text("asked again")
    expect(page.locator(".log-table tr", has_text="warm.csv")).to_contain_text("ready")


def test_an_upload_that_breaks_off_goes_on_when_the_file_is_chosen_again(page: Page, phone: Page, scene, tmp_path):
    phone.goto(link_of(page, scene))
    file = tmp_path / "long.csv"
    file.write_bytes(log_text(size=60_000).encode())
    starts: list[int] = []

    def start_of(address: str) -> int | None:
        found = re.search(r"start=(\d+)", address)
        return int(found[1]) if found else None

    def break_off(route):
        if start_of(route.request.url):
            route.fulfill(status=400, body='{"said": "The line is down."}')
        else:
            route.continue_()

    phone.route("**/pieces**", break_off)
    phone.locator("#files").set_input_files(file)
    expect(phone.locator(".sending")).to_contain_text("The line is down.", timeout=20_000)
    phone.unroute("**/pieces**")
    phone.on("request", lambda request: starts.append(start_of(request.url)))
    phone.locator("#files").set_input_files(file)
    expect(phone.locator(".phone-log", has_text="long.csv")).to_contain_text("accepted", timeout=30_000)
    assert next(start for start in starts if start is not None) == PIECE


def test_messages_from_the_phone_reach_the_tuner(page: Page, phone: Page, scene):
    phone.goto(link_of(page, scene))
    phone.get_by_label(re.compile("Write to")).fill("The road was wet.")
    phone.get_by_role("button", name="Send message").tap()
    expect(phone.locator(".messages")).to_contain_text("The road was wet.")
    page.goto(f"/jobs/{scene.job.id}/rounds/1/brief")
    expect(page.get_by_role("complementary", name="Customer")).to_contain_text("The road was wet.")


def test_the_tuner_puts_a_channel_right_by_hand_and_the_list_follows(page: Page, scene):
    text = log_text().replace("manifold_pressure [kPa]", "P-IN [kPa]")
    page.goto(f"/jobs/{scene.job.id}/rounds/1/logs")
    page.get_by_label("Drop logs here").set_input_files(
        [{"name": "odd.csv", "mimeType": "text/csv", "buffer": text.encode()}]
    )
    expect(page.locator(".log-table tr", has_text="odd.csv")).to_contain_text("ready", timeout=30_000)
    page.locator("summary", has_text="P-IN").click()
    page.get_by_label("What P-IN is").select_option("manifold_pressure")
    page.locator("details[open]").get_by_role("button", name="Remember").click()
    expect(page.get_by_role("status")).to_contain_text("remembered")
    expect(page.locator("summary", has_text="P-IN")).to_contain_text("Intake pressure", timeout=30_000)


def test_brief_is_edited_with_the_keyboard_and_reverted_in_one_step(page: Page, scene):
    page.goto(f"/jobs/{scene.job.id}/rounds/1/brief")
    box = page.get_by_role("checkbox", name="Knock retard")
    box.focus()
    page.keyboard.press("Space")
    expect(box).not_to_be_checked()
    page.get_by_role("button", name="Send this brief").click()
    expect(page.get_by_role("checkbox", name="Knock retard")).not_to_be_checked()
    expect(page.get_by_text("given up: knock goes unseen")).to_be_visible()
    page.get_by_role("button", name="Take the standard").click()
    expect(page.get_by_role("checkbox", name="Knock retard")).to_be_checked()
