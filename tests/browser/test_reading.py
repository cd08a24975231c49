"""Reading logs as a tuner does: pointer, wheel and keys, moments, tables, clouds, notes."""

from __future__ import annotations

import re
from functools import lru_cache, partial
from time import monotonic

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import until
from tests.store.conftest import log_text, ready
from uchiwa.core.logs.drives import DriveKind
from uchiwa.core.viewing.pyramid import InMemory
from uchiwa.core.viewing.window import value_at
from uchiwa.standin.cars import calibrated
from uchiwa.standin.fleet import car_named
from uchiwa.standin.simulate import simulate
from uchiwa.store import samples
from uchiwa.store.collected import drives_of
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import LogFile

pytestmark = pytest.mark.browser
CAR = car_named("corvid-pike")


def received(scene, name: str, data: bytes | str):
    log, _ = scene.receive(data, name)
    return ready(log)


@lru_cache
def roll_on(seed: int) -> bytes:
    """A log with roll-ons and pulls."""
    return CAR.logger.write(simulate(CAR, calibrated(CAR), "roll_on", seed))


@pytest.fixture
def pulls(scene):
    """Two logs, the first with pulls, the second one with markers pressed."""
    first = received(scene, "roll on 1.csv", roll_on(14))
    text = log_text(size=2400).splitlines()
    head = text[0] + ",marker [0/1]"
    marked = [f"{row},{1 if number in (400, 401, 402, 1600) else 0}" for number, row in enumerate(text[1:])]
    return first, received(scene, "marked.csv", "\n".join([head, *marked]))


def opened(page: Page, scene, *logs, **more):
    query = "&".join([*(f"log={log.id}" for log in logs), *(f"{key}={value}" for key, value in more.items())])
    page.goto(f"/jobs/{scene.job.id}/rounds/1/read?{query}")
    expect(page.locator("main")).to_have_attribute("data-ready", "yes")
    page.locator(".strips-hit").focus()


def whole(log, key: str):
    with unit_of_work():
        recording = samples.read([log], [key])[0]
    return recording.rasters[0].time, recording.quantities[key].values


def row(page: Page, key: str):
    return page.locator(f".values tr[data-key='{key}']")


def number(text: str) -> float:
    return float(text.replace("−", "-"))


def shown(page: Page, key: str, column: int = 0) -> float:
    cell = row(page, key).locator("td").nth(column)
    expect(cell).not_to_have_class(re.compile("is-rough"))
    return number(cell.inner_text())


def settled(page: Page) -> None:
    """What is shown has been loaded, and the address says it."""
    page.wait_for_timeout(50)
    expect(page.locator("main")).to_have_attribute("data-ready", "yes")
    expect(page.locator("main")).to_have_attribute("data-remembered", "yes")


def cursor(page: Page) -> float:
    settled(page)
    found = re.search(r"[?&]at=(-?[\d.]+)", page.url)
    assert found, page.url
    return float(found[1])


def view(page: Page) -> tuple[float, float]:
    settled(page)
    start, end = (re.search(rf"[?&]{one}=(-?[\d.]+)", page.url)[1] for one in ("from", "to"))
    return float(start), float(end)


def test_numbers_under_the_cursor_are_the_cores(page: Page, scene, pulls):
    opened(page, scene, pulls[0])
    box = page.locator(".strips-hit").bounding_box()
    for share in (0.21, 0.5, 0.83):
        page.mouse.move(box["x"] + share * box["width"], box["y"] + 90)
        moment = cursor(page)
        for key, digits in (("engine_speed", 0), ("lambda_measured", 3), ("manifold_pressure", 1)):
            time, values = whole(pulls[0], key)
            expected = value_at(InMemory(time), InMemory(values), moment)[1]
            assert shown(page, key) == pytest.approx(expected, abs=0.51 * 10**-digits)


def test_keys_move_the_cursor_zoom_pan_and_go_to_extremes(page: Page, scene, pulls):
    opened(page, scene, pulls[0])
    time, speed = whole(pulls[0], "engine_speed")
    page.keyboard.press("ArrowDown")
    expect(row(page, "engine_speed")).to_have_class(re.compile("is-chosen"))
    page.keyboard.press("h")
    expect(row(page, "engine_speed").locator("td").first).to_have_text(f"{speed.max():.0f}")
    assert cursor(page) == pytest.approx(time[speed.argmax()], abs=1e-3)
    page.keyboard.press("l")
    expect(row(page, "engine_speed").locator("td").first).to_have_text(f"{speed.min():.0f}")
    step = float(np.median(np.diff(time)))
    before = cursor(page)
    page.keyboard.press("ArrowRight")
    page.keyboard.press("Control+ArrowRight")
    assert cursor(page) == pytest.approx(before + 21 * step, abs=2e-3)
    start, end = view(page)
    page.keyboard.press("+")
    closer = view(page)
    assert closer[1] - closer[0] == pytest.approx(0.6 * (end - start), rel=0.01)
    page.keyboard.press("Shift+ArrowRight")
    assert view(page)[0] > closer[0]
    page.keyboard.press("0")
    assert view(page) == pytest.approx((time[0], time[-1]), abs=0.01)


def test_wheel_zooms_around_the_pointer_and_drag_pans(page: Page, scene, pulls):
    opened(page, scene, pulls[0])
    box = page.locator(".strips-hit").bounding_box()
    x = box["x"] + 0.25 * box["width"]
    page.mouse.move(x, box["y"] + 50)
    start, end = view(page)
    under = start + 0.25 * (end - start)
    for _ in range(4):
        page.mouse.wheel(0, -240)
    closer = view(page)
    assert closer[1] - closer[0] < 0.2 * (end - start)
    assert closer[0] + 0.25 * (closer[1] - closer[0]) == pytest.approx(under, abs=0.01 * (end - start))
    page.mouse.down()
    page.mouse.move(x + 0.1 * box["width"], box["y"] + 50, steps=4)
    page.mouse.up()
    assert view(page)[0] == pytest.approx(closer[0] - 0.1 * (closer[1] - closer[0]), abs=0.02 * (end - start))


def test_bins_open_at_the_cursors_moment(page: Page, scene, pulls):
    opened(page, scene, pulls[0])
    box = page.locator(".strips-hit").bounding_box()
    page.mouse.move(box["x"] + 0.6 * box["width"], box["y"] + 90)
    moment = cursor(page)
    page.keyboard.press("c")
    expect(page.locator(".pointed")).to_contain_text(f"{moment:.1f} s")
    assert float(re.search(r"[?&]at=([\d.]+)", page.url)[1]) == pytest.approx(moment, abs=2e-3)


def test_second_cursor_shows_differences_and_duration(page: Page, scene, pulls):
    opened(page, scene, pulls[0], at=60)
    page.keyboard.press("b")
    page.keyboard.press("Control+ArrowRight")
    here = shown(page, "engine_speed", 0)
    other = shown(page, "engine_speed", 1)
    expect(row(page, "engine_speed").locator(".is-difference")).to_have_text(
        re.compile(rf"^−?{abs(here - other):.0f}$")
    )
    expect(page.locator(".values thead")).to_contain_text("0.800 s apart")
    page.keyboard.press("Escape")
    expect(page.locator(".values thead")).to_contain_text("highest")


def test_condition_search_goes_on_and_back_and_says_what_is_wrong(page: Page, scene, pulls):
    opened(page, scene, pulls[0])
    time, throttle = whole(pulls[0], "throttle_position")
    page.keyboard.press("w")
    page.keyboard.type("throttle_pos")
    expect(page.locator(".completions li").first).to_contain_text("throttle_position")
    page.keyboard.press("Tab")
    page.keyboard.type(" > 99")
    page.keyboard.press("Escape")
    page.locator("#condition").press("Enter")
    expect(page.locator(".seek [role=status]")).to_contain_text("1 of")
    first = time[np.flatnonzero(throttle > 99)[0]]
    assert cursor(page) == pytest.approx(first, abs=1e-3)
    page.locator("#condition").press("Enter")
    expect(page.locator(".seek [role=status]")).to_contain_text("2 of")
    page.locator("#condition").press("Shift+Enter")
    expect(page.locator(".seek [role=status]")).to_contain_text("1 of")
    page.locator("#condition").fill("throttle_positio > 99")
    page.locator("#condition").press("Enter")
    expect(page.locator(".seek [role=status]")).to_contain_text("“throttle_positio” is not a quantity")
    marked = page.locator("#condition").evaluate("one => one.value.slice(one.selectionStart, one.selectionEnd)")
    assert marked == "throttle_positio"


def test_markers_drives_and_notes_are_stepped_through(page: Page, scene, pulls):
    opened(page, scene, pulls[1], at=0)
    time, _ = whole(pulls[1], "engine_speed")
    found = []
    for _ in range(12):
        page.keyboard.press(".")
        found.append(round(cursor(page), 2))
    assert {round(float(time[400]), 2), round(float(time[1600]), 2)} <= set(found)
    expect(page.locator(".lanes .is-marker")).to_have_count(2)
    page.get_by_role("button", name="Notes").click()
    page.get_by_label(re.compile("^A note")).fill("hesitates here")
    page.get_by_role("button", name="Note it").click()
    expect(page.locator(".lanes .bar.is-note")).to_have_count(1)
    page.get_by_role("link", name="link", exact=True).click()
    expect(page.locator("main")).to_have_attribute("data-ready", "yes")
    expect(page.get_by_label("Notes").get_by_text("hesitates here")).to_be_visible()


def agrees(page: Page, column: int, start: float, time: InMemory, speed: InMemory) -> bool:
    """Whether the value shown is the log's at the cursor; the address follows the cursor a moment later."""
    expected = value_at(time, speed, start + cursor(page))[1]
    return shown(page, "engine_speed", column) == pytest.approx(expected, abs=0.51)


def test_logs_are_aligned_by_pull_hidden_and_compared(page: Page, scene, pulls):
    second = received(scene, "roll on 2.csv", roll_on(15))
    opened(page, scene, pulls[0])
    page.get_by_label("Lay another log beside it").select_option(label="round 1: roll on 2.csv")
    expect(page.locator(".log-chip")).to_have_count(2)
    page.get_by_label("aligned by").select_option("pull")
    expect(page.locator(".log-chip .place")).to_have_count(2)
    settled(page)
    page.locator(".strips-hit").focus()
    page.locator(".strips-hit").click(position={"x": 300, "y": 60})
    expect(row(page, "engine_speed").locator(".is-difference")).not_to_have_text("–")
    for log, column in ((pulls[0], 0), (second, 1)):
        chosen = page.evaluate(
            "([name]) => [...document.querySelectorAll('.log-chip')].find((one) => one.textContent.includes(name)).querySelector('.place').selectedOptions[0].text",
            [log.name],
        )
        with unit_of_work():
            drives = [drive for drive in drives_of(LogFile.get_by_id(log.id)) if drive.kind is DriveKind.PULL]
        start = next(drive.start for drive in drives if drive.note in chosen)
        time, speed = whole(log, "engine_speed")

        until(partial(agrees, page, column, start, InMemory(time), InMemory(speed)), 10)
    page.get_by_role("button", name="Hide roll on 2.csv").click()
    expect(page.locator(".values thead th")).to_have_count(2)
    page.get_by_role("button", name="Show roll on 2.csv").click()
    expect(page.locator(".values thead th")).to_have_count(4)
    page.get_by_label("aligned by").select_option("speed")
    expect(page.locator(".values thead th").first).to_contain_text("rpm")


def test_the_table_marks_the_cell_and_a_cell_its_moments(page: Page, scene, pulls):
    opened(page, scene, pulls[0], at=70)
    page.get_by_role("button", name="Table").click()
    expect(page.locator(".map td.is-here")).to_have_count(1)
    here = page.locator(".map td.is-here")
    place = here.get_attribute("title")
    assert re.match(r"\d+ rpm × \d+ kPa", place)
    here.click()
    expect(page.locator(".map-said")).to_contain_text("shaded on the strips")
    page.keyboard.press("Escape")
    expect(page.locator(".map td.is-picked")).to_have_count(0)


def test_brushing_the_cloud_shades_the_strips(page: Page, scene, pulls):
    opened(page, scene, pulls[0])
    page.get_by_role("button", name="Scatter").click()
    words = page.locator(".cloud + p").first
    expect(words).to_contain_text("samples")
    page.get_by_label("only what the sieve of Fuel uses").uncheck()
    expect(words).not_to_contain_text("sieve")
    expect(words).to_contain_text("samples")
    box = page.locator("canvas.cloud").first.bounding_box()
    page.mouse.move(box["x"] + 60, box["y"] + 10)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] - 12, box["y"] + box["height"] - 26, steps=5)
    page.mouse.up()
    expect(words).to_contain_text(re.compile(r"[\d\u2009\u00a0 ]+ samples in the frame"))
    _, speed = whole(pulls[0], "engine_speed")
    said = re.search(r"([\d ]+) samples in the frame", words.inner_text())[1].replace(" ", "")
    assert int(said) > 0.9 * speed.size
    page.get_by_role("button", name="Distribution").click()
    expect(page.locator(".cloud.is-spread + p")).to_contain_text("median")


def test_traces_are_found_by_typing_moved_kept_and_taken_out(page: Page, scene, pulls):
    opened(page, scene, pulls[0])
    page.keyboard.press("/")
    page.keyboard.type("batt")
    expect(page.locator(".completions li").first).to_contain_text("battery")
    page.keyboard.press("Enter")
    expect(row(page, "battery_voltage")).to_be_visible()
    page.get_by_label("Keep these strips as").fill("with battery")
    page.get_by_role("button", name="keep", exact=True).click()
    expect(page.locator(".read-bar select").first).to_have_value("with battery")
    row(page, "battery_voltage").locator(".trace-button").click()
    page.locator(".strips-hit").focus()
    page.keyboard.press("Delete")
    expect(row(page, "battery_voltage")).to_have_count(0)
    page.locator(".read-bar select").first.select_option("with battery")
    expect(row(page, "battery_voltage")).to_be_visible()


def test_replay_moves_the_cursor(page: Page, scene, pulls):
    opened(page, scene, pulls[0], at=10)
    page.get_by_label("Speed of the replay").select_option("16")
    page.locator(".strips-hit").focus()
    since = monotonic()
    page.keyboard.press("Space")
    page.wait_for_timeout(900)
    page.keyboard.press("Space")
    played = monotonic() - since
    moved = cursor(page)
    assert 10.5 < moved < 10 + 16 * played + 1
    page.wait_for_timeout(300)
    assert cursor(page) == moved
