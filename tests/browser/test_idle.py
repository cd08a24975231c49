"""A cold start uploaded, idle air and warm-up taken by keyboard, reviewed, returned, flashed and driven cold again."""

from __future__ import annotations

import re

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from tests.browser.test_calibrations import tab_to
from tests.browser.test_spark import upload
from uchiwa.core.idle.quality import IdleQuality, idle_quality
from uchiwa.core.logs.log import Log
from uchiwa.standin import simulate as simulation
from uchiwa.standin.cars import StandInCar
from uchiwa.standin.fleet import car_named
from uchiwa.store import calibrations, drafts, jobs
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Job, Revision

pytestmark = pytest.mark.browser


def take_on(scene, car: StandInCar) -> Job:
    with unit_of_work():
        return jobs.create(scene.user, "Customer", car.title, "", car.base(), car.file)


def freeze(page: Page, path: str, number: int) -> None:
    """Answer what the review asks, and freeze, by keyboard."""
    page.goto(f"{path}/review")
    while page.locator("input[name='reason']").count():
        count = page.locator("input[name='reason']").count()
        tab_to(page, "Why this is right")
        page.keyboard.type("seen in the logs")
        page.keyboard.press("Enter")
        expect(page.locator("input[name='reason']")).to_have_count(count - 1)
    tab_to(page, "Go to Return")
    page.keyboard.press("Enter")
    page.wait_for_url("**/return")
    tab_to(page, f"Freeze revision {number}")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name=f"Revision {number}", exact=True)).to_be_visible()


def flashed(job: Job, number: int):
    """What the car runs after the stand-in was flashed with a revision."""
    with unit_of_work():
        revision = Revision.get(Revision.job == job, Revision.number == number)
        return calibrations.content(revision.calibration)


def scatter(quality: IdleQuality) -> dict[float, float]:
    return {band.low: band.scatter for band in quality.bands}


def test_a_cold_car_idles_steadily_and_runs_right_after_one_round(page: Page, scene):
    car = car_named("corvid-pike-automatic")
    job = take_on(scene, car)
    path = f"/jobs/{job.id}/rounds/1"
    before: list[Log] = []
    for drive, seed in (("cold_morning", 101), ("in_gear_warm_up", 102)):
        log = simulation.simulate(car, car.base(), drive, seed)
        before.append(log)
        upload(page, path, f"{drive}.csv", car.logger.write(log))

    page.goto(f"{path}/idle")
    margin = page.get_by_role("complementary")
    grid = page.locator("table.grid")
    expect(grid.locator("td")).to_have_count(22)
    page.locator("td[data-i='5'][data-j='0']").click()
    page.keyboard.press("ArrowRight")
    expect(margin.locator("h2")).to_have_text("50 °C, neutral")
    page.keyboard.press("ArrowUp")
    expect(margin.locator("h2")).to_have_text("50 °C, in gear")
    expect(margin).to_contain_text("what it needs")
    page.keyboard.press("p")
    expect(page.locator("td[data-i='6'][data-j='1']")).to_have_class(re.compile("state-pinned"))
    page.keyboard.press("p")
    expect(page.locator("td[data-i='6'][data-j='1']")).not_to_have_class(re.compile("state-pinned"))
    page.locator(".drawer-pull").press("Enter")
    expect(page.locator(".moments .trace-title")).to_have_count(3)
    page.get_by_role("button", name=re.compile("samples used")).press("Enter")
    expect(page.get_by_text("The gearbox pulls").or_(page.get_by_text("After-start enrichment and its extra air"))).to_be_visible()  # fmt: skip
    page.get_by_role("button", name=re.compile("Take (all|the one)")).press("Enter")
    expect(page.get_by_role("status")).to_contain_text("by idle air")

    page.get_by_role("link", name="Warm-up").press("Enter")
    expect(page.locator("path.course")).not_to_have_count(0)
    page.locator("svg .change-mark[data-i='3']").click()
    expect(margin.locator("h2")).to_have_text("20 °C")
    page.get_by_role("button", name=re.compile("Take (all|the one)")).press("Enter")
    expect(page.get_by_role("status")).to_contain_text("by warm-up")
    freeze(page, path, 1)

    calibration = flashed(job, 1)
    after = [simulation.simulate(car, calibration, drive, seed) for drive, seed in (("cold_morning", 13), ("in_gear_warm_up", 14))]  # fmt: skip
    for drive, log in zip(("cold_morning", "in_gear_warm_up"), after, strict=True):
        upload(page, f"/jobs/{job.id}/rounds/2", f"{drive} again.csv", car.logger.write(log))
    page.goto(f"/jobs/{job.id}/rounds/2/idle/quality")
    expect(page.locator(".found")).to_contain_text("the idle is steadier")
    was, now = idle_quality(before), idle_quality(after)
    assert not now.stalls
    for low in (0.0, 20.0):
        assert scatter(now)[low] <= scatter(was)[low] / 2
    signals = {channel.quantity: channel.values for channel in after[0].rasters[0].channels}
    cold = (after[0].rasters[0].time > 25) & (signals["coolant_temperature"] < 80)
    off = signals["lambda_measured"] / signals["lambda_target"] - 1
    assert np.abs(off[cold]).mean() < 0.02
    assert np.quantile(np.abs(off[cold]), 0.95) <= 0.04


def test_a_clamp_is_taken_returned_and_holds_the_signal_once_the_car_has_boost(page: Page, scene):
    car = car_named("larkspur-tern-s")
    job = take_on(scene, car)
    path = f"/jobs/{job.id}/rounds/1"
    pulls = [simulation.simulate(car, car.base(), "full_load_pull", seed) for seed in (5, 6)]
    for number, log in enumerate(pulls):
        upload(page, path, f"pull {number}.csv", car.logger.write(log))
    page.goto(f"{path}/fuel")
    page.get_by_role("link", name="Signal clamp").press("Enter")
    margin = page.get_by_role("complementary")
    page.locator("td[data-i='6'][data-j='7']").click()
    page.keyboard.press("ArrowRight")
    expect(margin).to_contain_text("with 5 % margin")
    page.get_by_role("button", name=re.compile("Take (all|the one)")).press("Enter")
    expect(page.get_by_role("status")).to_contain_text("by signal clamp")
    freeze(page, path, 1)

    calibration = flashed(job, 1)
    boosted = simulation.simulate(car, calibration, "full_load_pull", 7)
    signals = {channel.quantity: channel.values for channel in boosted.rasters[0].channels}
    wide = signals["throttle_position"] > 80
    assert signals["manifold_pressure"][wide].max() > signals["barometric_pressure"][wide].max() + 15
    clamp = calibration.table("signal_clamp")
    reached = np.max([np.interp(signals["engine_speed"], *_highest(log)) for log in pulls], axis=0)
    seen = clamp.lookup(signals["engine_speed"], signals["airflow_voltage"])
    inside = wide & (signals["engine_speed"] > 2000) & (signals["engine_speed"] < 6000)
    assert (signals["airflow_voltage"][inside] > reached[inside] * 1.02).any()
    assert (seen[inside] <= reached[inside] * 1.075).all()
    with unit_of_work():
        assert drafts.current(Job.get_by_id(job.id)).base.number == 1


def _highest(log: Log) -> tuple[np.ndarray, np.ndarray]:
    """The signal at full load by engine speed."""
    signals = {channel.quantity: channel.values for channel in log.rasters[0].channels}
    wide = (signals["throttle_position"] > 80) & (signals["engine_speed"] > 1700)
    order = np.argsort(signals["engine_speed"][wide])
    speed, volts = signals["engine_speed"][wide][order], signals["airflow_voltage"][wide][order]
    edges = np.arange(1500, 6600, 250)
    place = np.digitize(speed, edges)
    known = [at for at in range(1, edges.size) if (place == at).any()]
    return np.array([speed[place == at].mean() for at in known]), np.array([np.quantile(volts[place == at], 0.95) for at in known])  # fmt: skip
