"""The Fuel station's further views and conditions, airflow side by side, and temporary setups, by click and key."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import Page, expect

from tests.browser.test_round import at_fuel  # noqa: F401

pytestmark = pytest.mark.browser


def test_a_table_is_read_as_lines_and_as_a_relief(at_fuel: Page):  # noqa: F811
    page, margin = at_fuel, at_fuel.get_by_role("complementary")
    page.get_by_role("link", name="lines", exact=True).click()
    mark = page.locator("svg.lines .change-mark[data-i='4']")
    mark.locator(".hit").click(position={"x": 10, "y": 60})
    expect(margin.get_by_role("heading")).to_contain_text("2000 rpm")
    page.get_by_role("button", name="60", exact=True).click()
    expect(page.get_by_role("button", name="60", exact=True)).to_have_class(re.compile("is-on"))
    expect(margin.get_by_role("heading")).to_have_text("2000 rpm × 60 kPa")
    page.get_by_role("link", name="relief", exact=True).click()
    shape = page.locator("svg.relief .patch").first
    before = shape.get_attribute("points")
    page.get_by_role("button", name="Turn right").click()
    expect(page.locator("svg.relief .patch").first).not_to_have_attribute("points", before)
    page.get_by_role("link", name="Proposed").click()
    expect(page.locator("svg.relief")).to_have_class(re.compile("view-proposed"))
    page.get_by_role("link", name="grid", exact=True).click()
    expect(page.locator("table.grid td.is-active")).to_have_count(1)


def test_a_condition_of_ones_own_and_what_it_left_out(at_fuel: Page):  # noqa: F811
    page = at_fuel
    used = page.locator(".sieve-part.is-used")
    before = used.inner_text()
    used.click()
    page.get_by_label("Count only where").fill("engine_speed <")
    page.keyboard.press("Enter")
    expect(page.locator(".said.is-bad")).to_be_visible()
    page.get_by_label("Count only where").fill("engine_speed < 2000")
    page.keyboard.press("Enter")
    rule = page.locator(".sieve-rule[data-rule='engine_speed < 2000']")
    expect(rule).to_be_visible()
    assert used.inner_text() != before
    rule.get_by_role("button", name="show these").click()
    expect(page.locator(".drawer-pull")).to_contain_text("of drive.csv left out: not engine_speed < 2000")
    expect(page.locator(".moments svg")).to_be_visible()
    rule.get_by_role("checkbox").uncheck()
    expect(rule).to_have_count(0)
    assert used.inner_text() == before


def test_a_delay_can_be_overridden(at_fuel: Page):  # noqa: F811
    page = at_fuel
    page.get_by_label("mixture delay").select_option("own")
    page.get_by_label("delay in s").fill("0.25")
    page.get_by_label("delay in s").press("Enter")
    expect(page.locator(".found")).to_contain_text("0.25 s +")
    expect(page.locator(".found")).not_to_contain_text("kept aside")
    page.get_by_label("mixture delay").select_option("auto")
    expect(page.locator(".found")).to_contain_text("predicts stretches kept aside")


def test_a_setup_is_switched_on_seen_and_put_back(page: Page, scene):
    page.goto(f"/jobs/{scene.job.id}")
    page.get_by_role("link", name="Temporary setups").click()
    row = page.locator(".setup", has=page.get_by_role("heading", name="open loop"))
    row.get_by_role("button", name="Switch on").click()
    expect(page.get_by_text("“open loop” is in force").first).to_be_visible()
    page.goto(f"/jobs/{scene.job.id}/rounds/1/logs")
    page.get_by_role("link", name="Put it back").click()
    page.get_by_role("button", name="Put everything back").click()
    expect(page.get_by_role("status")).to_contain_text("Everything is put back")
    expect(page.locator(".in-force-line")).to_have_count(0)


def test_airflow_side_by_side_leads_to_strips(at_fuel: Page):  # noqa: F811
    page = at_fuel
    page.get_by_role("link", name="Airflow side by side").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Airflow side by side")
    page.get_by_role("link", name="drive.csv").click()
    expect(page.locator("main")).to_have_attribute("data-ready", "yes")
    expect(page.locator(".values tr[data-key='speed_density_air']")).to_be_visible()
