"""The whole round in a browser, closed by a stand-in car."""

from __future__ import annotations

import json
import re

import numpy as np
import pytest
from click.testing import CliRunner
from playwright.sync_api import Error, Page, expect

from tests.store.conftest import log_text
from uchiwa.cli import uchiwa
from uchiwa.core.logs.readers import read_log
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.proposal import fuel_proposal
from uchiwa.core.tables.difference import signed
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.standin.cars import true_grid
from uchiwa.standin.fleet import car_named
from uchiwa.standin.logger import write_delimited
from uchiwa.standin.simulate import simulate

pytestmark = pytest.mark.browser
CAR = car_named("corvid-pike")


def upload(page: Page, path: str, name: str, text: str) -> None:
    """Choose a file, and wait until it has been read."""
    page.goto(f"{path}/logs")
    page.get_by_label("Drop logs here").set_input_files(
        [{"name": name, "mimeType": "text/csv", "buffer": text.encode()}]
    )
    expect(page.locator(".log-table tr", has_text=name).get_by_text("ready", exact=True)).to_be_visible(timeout=20_000)


def grid_of(page: Page) -> dict[tuple[int, int], str]:
    """(i, j) -> text, as shown."""
    cells = page.locator("table.grid td").evaluate_all(
        "all => all.map(cell => [cell.dataset.i, cell.dataset.j, cell.textContent])"
    )
    return {(int(i), int(j)): text for i, j, text in cells}


def rms(calibration, proposal) -> float:
    """RMS error of the VE table against the hidden truth, %, in cells with at least 2 s."""
    table = calibration.table("ve_main")
    driven = proposal.bins.dwell >= 2.0
    return float(np.sqrt(np.mean((table.grid[driven] / true_grid(CAR, table)[driven] * 100 - 100) ** 2)))


def test_three_rounds_bring_the_table_to_the_truth(page: Page, scene, tmp_path):
    calibration = CAR.base()
    errors: list[float] = []
    for number in (1, 2, 3):
        path = f"/jobs/{scene.job.id}/rounds/{number}"
        text = write_delimited(simulate(CAR, calibration, "mixed_road", seed=20 + number))
        upload(page, path, f"road {number}.csv", text)

        page.get_by_role("link", name="Go to Fuel").click()
        core = fuel_proposal([read_log(text.encode(), f"road {number}.csv")], calibration, "ve_main", Policy())
        for (i, j), shown in grid_of(page).items():
            mean = core.estimate.factor[j, i]
            assert shown == ("" if np.isnan(mean) else signed((mean - 1) * 100)), (i, j)
        page.get_by_role("link", name="Proposed").click()
        expect(page.locator("table.grid")).to_have_class(re.compile("view-proposed"))
        proposed = grid_of(page)
        if np.array_equal(core.correction.after, core.table.grid):
            expect(page.get_by_role("complementary")).to_contain_text("This proposal changes nothing")
            errors += [rms(calibration, core)]
            break
        page.get_by_role("button", name=re.compile("Take (all|the one)")).click()
        expect(page.get_by_role("status")).to_contain_text("Taken into the draft")

        page.get_by_role("link", name="Review", exact=True).click()
        expect(page.get_by_role("heading", level=1)).to_have_text(f"Draft against revision {number - 1}")
        page.wait_for_load_state()
        reasons = page.get_by_label(re.compile("Why this is right"))
        for left in reversed(range(reasons.count())):
            reasons.first.fill("Surface and neighbours agree.")
            reasons.first.press("Enter")
            expect(reasons).to_have_count(left)
        page.get_by_role("link", name="Go to Return").click()
        page.get_by_label("Notes to the customer").fill("Flash, reset the trims, drive again.")
        page.get_by_role("button", name=f"Freeze revision {number}").click()
        with page.expect_download() as started:
            page.get_by_role("link", name="calibration JSON").click()
        returned = calibration_json.loads(started.value.path().read_bytes())

        (tmp_path / "log.csv").write_text(text)
        (tmp_path / "flashed.json").write_text(calibration_json.dumps(calibration))
        command = ["propose", "fuel", f"{tmp_path}/log.csv", "--calibration", f"{tmp_path}/flashed.json", "--table"]
        done = CliRunner().invoke(
            uchiwa, [*command, "ve_main", "--out", f"{tmp_path}/next.json", "--report", f"{tmp_path}/r.json"]
        )
        assert done.exit_code == 0, done.output
        by_command = calibration_json.loads((tmp_path / "next.json").read_bytes()).table("ve_main").grid
        assert np.array_equal(by_command, returned.table("ve_main").grid)
        assert all(float(text) == by_command[j, i] for (i, j), text in proposed.items())
        report = json.loads((tmp_path / "r.json").read_text())
        assert report["samples_used"] + sum(report["samples_left_out"].values()) == report["samples"]

        again = simulate(CAR, returned, "mixed_road", seed=21 + number)  # what the next round begins with
        check = fuel_proposal([again], returned, "ve_main", Policy())
        errors += [rms(calibration, check), rms(returned, check)]
        calibration = returned
    print(
        "\nRMS VE error against the truth, %, before and after each round:",
        " ".join(f"{error:.2f}" for error in errors),
    )
    assert len(errors) >= 3
    assert errors[1] < errors[0] / 2
    assert errors[-1] < 1.0


@pytest.fixture
def at_fuel(page: Page, scene) -> Page:
    """The Fuel station over a quick log."""
    path = f"/jobs/{scene.job.id}/rounds/1"
    upload(page, path, "drive.csv", log_text())
    page.goto(f"{path}/fuel")
    return page


def address(page: Page) -> str:
    """The address line above the grid."""
    return " ".join(page.locator(".cell-line").inner_text().split())


def test_a_clicked_cell_explains_itself(at_fuel: Page):
    core = fuel_proposal([read_log(log_text().encode(), "drive.csv")], CAR.base(), "ve_main", Policy())
    j, i = (int(one) for one in np.unravel_index(np.argmax(core.bins.dwell), core.bins.dwell.shape))
    at_fuel.locator(f"table.grid td[data-i='{i}'][data-j='{j}']").click()
    margin = at_fuel.get_by_role("complementary")
    x, y = core.table.x.breakpoints[i], core.table.y.breakpoints[j]
    expect(margin.get_by_role("heading")).to_have_text(f"{x:g} rpm × {y:g} kPa")

    def fact(name: str) -> str:
        return margin.locator(f"[data-fact='{name}']").inner_text()

    assert float(fact("before")) == core.table.grid[j, i]
    assert float(fact("after")) == core.correction.after[j, i]
    assert fact("samples") == f"{core.bins.samples[j, i]:.0f}"
    assert fact("mean") == f"{signed((core.bins.mean[j, i] - 1) * 100, 2)} %"
    assert fact("spread") == f"{core.bins.spread[j, i] * 100:.2f} %"
    assert fact("factor") == signed((core.correction.after[j, i] / core.table.grid[j, i] - 1) * 100)
    assert "left out here" in fact("left-out")


def test_the_grid_works_with_the_keyboard(at_fuel: Page):
    at_fuel.locator("table.grid td[data-i='4'][data-j='4']").click()
    expect(at_fuel.get_by_role("complementary").get_by_role("heading")).to_have_text("2000 rpm × 60 kPa")
    at_fuel.keyboard.press("ArrowUp")
    at_fuel.keyboard.press("ArrowRight")
    expect(at_fuel.get_by_role("complementary").get_by_role("heading")).to_have_text("2400 rpm × 70 kPa")
    at_fuel.keyboard.press("Shift+ArrowRight")
    at_fuel.keyboard.press("Shift+ArrowDown")
    expect(at_fuel.locator(".cell-line")).to_contain_text("4 cells")
    expect(at_fuel.locator("td[aria-selected='true']")).to_have_count(4)
    expect(at_fuel.get_by_role("button", name="Take these 4")).to_be_visible()
    at_fuel.keyboard.press("p")
    expect(at_fuel.locator("td.state-pinned")).to_have_count(4)
    expect(at_fuel.locator("td[aria-selected='true']")).to_have_count(4)
    at_fuel.keyboard.press("p")
    expect(at_fuel.locator("td.state-pinned")).to_have_count(0)
    at_fuel.keyboard.press("Control+a")
    expect(at_fuel.locator(".cell-line")).to_contain_text("195 cells")
    at_fuel.keyboard.press("Escape")
    expect(at_fuel.locator(".cell-line")).to_contain_text("1 cell")


def test_taking_only_the_chosen_cells(at_fuel: Page, scene):
    waiting = at_fuel.locator("td.waiting")
    before = waiting.count()
    waiting.nth(before // 2).click()
    at_fuel.get_by_role("button", name="Take this one").click()
    expect(at_fuel.get_by_role("status")).to_contain_text("1 cell changed")
    expect(waiting).to_have_count(before - 1)
    at_fuel.get_by_role("link", name="Review", exact=True).click()
    expect(at_fuel.locator("td.changed")).to_have_count(1)
    at_fuel.get_by_role("button", name="put back").click()
    expect(at_fuel.get_by_text("Nothing differs from revision 0")).to_be_visible()


def test_the_policy_sentence_and_the_sieve(at_fuel: Page):
    at_fuel.get_by_label("strength in %").fill("50")
    at_fuel.get_by_label("strength in %").press("Enter")
    expect(at_fuel.get_by_role("complementary")).to_contain_text("at 50 % strength")
    expect(at_fuel.get_by_label("strength in %")).to_be_focused()
    at_fuel.get_by_label("estimator").select_option("nearest")
    expect(at_fuel.get_by_role("complementary")).not_to_contain_text("(weighted)")
    used = at_fuel.locator(".sieve-part.is-used")
    before = int(re.sub(r"\D", "", used.inner_text()))
    used.click()
    rule = at_fuel.locator("[data-rule='transient']").get_by_role("checkbox")
    rule.uncheck()
    expect(at_fuel.locator("[data-rule='transient'] .num")).to_have_text("0")
    assert int(re.sub(r"\D", "", at_fuel.locator(".sieve-part.is-used").inner_text())) > before
    at_fuel.get_by_label("strength in %").fill("lots")
    at_fuel.get_by_label("strength in %").press("Enter")
    expect(at_fuel.get_by_role("status")).to_contain_text("strength")


def drop(page: Page, name: str) -> None:
    """Let a log fall where files may; in one go, for the page is read anew whenever a log's state changes."""
    script = (
        "([text, name]) => { const data = new DataTransfer(); data.items.add(new File([text], name));"
        " document.querySelector('.drop').dispatchEvent(new DragEvent('drop', { dataTransfer: data, bubbles: true })); }"
    )
    for tried in range(3):
        page.wait_for_load_state("networkidle")
        try:
            page.evaluate(script, [log_text(), name])
        except Error:  # it was read anew just then
            if tried == 2:
                raise
        else:
            return


def test_a_log_can_be_dropped(page: Page, scene):
    page.goto(f"/jobs/{scene.job.id}/rounds/1/logs")
    drop(page, "dropped.csv")
    expect(page.locator(".log-table tr", has_text="dropped.csv").get_by_text("ready", exact=True)).to_be_visible(
        timeout=20_000
    )
    drop(page, "again.csv")
    expect(page.locator(".sending")).to_contain_text("again.csv is the same file as dropped.csv")
    page.get_by_role("button", name="leave out").click()
    expect(page.locator(".log-table")).to_contain_text("left out")
    page.goto(f"/jobs/{scene.job.id}/rounds/1/fuel")
    expect(page.locator(".problem")).to_contain_text("There is no log to compute from")


def test_the_drawer_shows_the_moments(at_fuel: Page):
    at_fuel.get_by_role("button", name="Moments that fed this cell").click()
    expect(at_fuel.locator(".moments .trace-title")).to_have_count(3)
    expect(at_fuel.locator(".drawer-pull")).to_contain_text("of drive.csv fed this cell")


def test_a_bad_log_and_a_bad_calibration_are_said(page: Page, scene):
    page.goto(f"/jobs/{scene.job.id}/rounds/1/logs")
    page.get_by_label("Drop logs here").set_input_files(
        [{"name": "picture.csv", "mimeType": "text/csv", "buffer": bytes(range(256)) * 30}]
    )
    expect(page.locator(".log-why")).to_contain_text("This is not a text file, whatever it is called", timeout=20_000)
    expect(page.get_by_role("complementary")).to_contain_text("The file is kept as it came")
    page.goto("/jobs/new")
    page.get_by_label("Customer").fill("Ada")
    page.get_by_label("Car", exact=True).fill("Corvid Pike")
    broken = json.loads(calibration_json.dumps(CAR.base()))
    broken["tables"][0]["values"][2].pop()
    page.get_by_label("Its own calibration").set_input_files(
        [{"name": "base.json", "mimeType": "application/json", "buffer": json.dumps(broken).encode()}]
    )
    page.get_by_role("button", name="Take it on").click()
    expect(page.get_by_role("alert")).to_contain_text("tables[0].values[2]: the table is ragged")
    expect(page.get_by_label("Customer")).to_have_value("Ada")


def test_the_queue_leads_to_the_next_station_and_works_in_the_dark(at_fuel: Page, scene):
    at_fuel.goto("/")
    row = at_fuel.locator(".queue-row", has_text="Customer")
    expect(row).to_contain_text("1 log accepted, fuel is next")
    at_fuel.get_by_role("button", name="night").click()
    expect(at_fuel.locator("html")).to_have_attribute("data-theme", "night")
    row.get_by_text("1 log accepted").click()
    at_fuel.wait_for_url("**/rounds/1/fuel")
    dark = at_fuel.evaluate("getComputedStyle(document.querySelector('.sheet')).backgroundColor")
    assert dark == "rgb(26, 30, 41)"
