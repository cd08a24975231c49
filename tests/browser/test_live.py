"""A drive watched by the tuner and the phone while a stand-in passes it on at ten times its speed."""

from __future__ import annotations

import re
import threading
import time
from collections.abc import Iterator

import numpy as np
import pytest
from playwright.sync_api import Browser, Page, expect

from tests.browser.conftest import until
from tests.services.live.driving import begun, driven
from tests.store.conftest import Scene, ready
from uchiwa.core.live.limits import LiveLimits
from uchiwa.services.live import passing
from uchiwa.services.live.driven import allow, want
from uchiwa.standin.fleet import car_named
from uchiwa.standin.live import LiveCar
from uchiwa.standin.live_drive import LiveDrive
from uchiwa.store import briefs, links, live_sessions, samples
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import LiveSession, LogFile

pytestmark = pytest.mark.browser
SPEED = 10.0
LISTEN = "window.drawn = []; document.addEventListener('livedrawn', (e) => window.drawn.push([Date.now() / 1000, e.detail]));"


class Driving(threading.Thread):
    """A stand-in at the wheel, until it is told to stop."""

    def __init__(self, link: str, advised: bool = True) -> None:
        super().__init__(daemon=True)
        car = car_named("corvid-pike")
        drive = LiveDrive(car, car.base(), "steady_cruise", 3, advised=advised, longest_s=1200)
        self.car = LiveCar(drive, link, speed=SPEED)
        self.over = threading.Event()
        self.began = 0.0
        self.start()

    def run(self) -> None:
        """Drive."""
        self.began = time.time()
        self.car.run(self.over.is_set)

    def stop(self) -> None:
        """Drive no more, and hand over what is left."""
        self.over.set()
        self.join(60)
        assert self.car.outcome.kept


@pytest.fixture
def link(served: str, scene: Scene) -> str:
    with unit_of_work():
        briefs.keep(scene.round, briefs.standard(scene.job, scene.round))
        return f"{served}/c/{links.make(scene.job)}"


def lag_p95(page: Page, began: float) -> float:
    """From a sample to the frame that shows it, s."""
    drawn = np.array([one for one in page.evaluate("window.drawn") if one[1] > 0])
    newest = np.concatenate(([True], np.diff(drawn[:, 1]) > 0))
    return float(np.quantile((drawn[:, 0] - (began + drawn[:, 1] / SPEED))[newest], 0.95))


@pytest.fixture
def phone(browser: Browser) -> Iterator[Page]:
    context = browser.new_context(viewport={"width": 390, "height": 844})
    yield context.new_page()
    context.close()


def test_a_drive_is_watched_told_and_kept(page: Page, phone: Page, scene: Scene, link: str, capsys):
    phone.goto(f"{link}/live")
    expect(phone.get_by_role("heading", name="Nothing is being recorded")).to_be_visible()
    page.goto(f"/jobs/{scene.job.id}/rounds/1/live")
    expect(page.locator("#sheet")).to_contain_text("Nothing is being recorded")
    driving = Driving(link)
    try:
        expect(phone.get_by_role("button", name="Mark this moment")).to_be_visible(timeout=30_000)
        expect(page.locator(".live-state")).to_contain_text("being recorded", timeout=30_000)  # opened by itself
        page.evaluate(LISTEN)
        expect(page.locator(".values tbody tr").first).to_contain_text("engine speed")
        expect(page.locator("td.is-here")).to_have_count(1, timeout=30_000)
        visited = page.locator(".live-grid td:not(.never)")
        before, first = visited.count(), phone.locator(".live-say h1").inner_text()
        until(lambda: visited.count() > before + 5)
        until(lambda: phone.locator(".live-say h1").inner_text() != first)
        # A cell is full: its advice goes on to another.
        until(lambda: bool(phone.evaluate("document.body.dataset.cell")))
        cell = phone.evaluate("document.body.dataset.cell")
        until(lambda: phone.evaluate("document.body.dataset.cell") not in (cell, ""))
        phone.get_by_role("button", name="Mark this moment").click()
        expect(phone.get_by_role("button", name="Marked at")).to_be_visible()
        # Paused, the cursor reads values; the drive goes on beside it.
        page.get_by_role("button", name="pause").click()
        page.locator(".strips-hit").hover(position={"x": 300, "y": 60})
        expect(page.locator(".line-cursor")).to_be_visible()
        page.get_by_role("button", name="go on").click()
        page.locator(".read-tabs [data-panel=correction]").click()
        page.get_by_label("whether the correction runs").select_option("true")
        for label, value in (("seconds of running", "10"), ("samples", "10"), ("seconds", "0,5")):
            page.get_by_label(label, exact=True).fill(value)
            page.get_by_label(label, exact=True).press("Tab")
        expect(page.locator(".live-why")).to_have_text("The correction runs.", timeout=60_000)
        expect(page.locator("[x-ref=soFar]")).to_contain_text(re.compile(r"\d cells? would change"), timeout=60_000)
        page.locator(".read-tabs [data-panel=driver]").click()
        page.get_by_label("Write to the driver").fill("Once more up the hill")
        page.get_by_label("Write to the driver").press("Enter")
        expect(phone.locator(".messages")).to_contain_text("Once more up the hill", timeout=30_000)
        lag = lag_p95(page, driving.began)
    finally:
        driving.stop()
    with capsys.disabled():
        print(f"\nfrom a sample to the screen, 95 of 100 within {lag * 1000:.0f} ms, at {SPEED:g} times the speed")
    expect(page.locator(".live-state")).to_contain_text("ended, an ordinary log now", timeout=60_000)
    expect(page.get_by_role("link", name="open in Reading")).to_be_visible()
    expect(phone.get_by_role("heading", name="The drive is over")).to_be_visible()
    page.locator(".read-tabs [data-panel=correction]").click()
    expect(page.get_by_role("button", name=re.compile("Take (all|the one)"))).to_be_visible()
    page.get_by_role("button", name=re.compile("Take (all|the one)")).click()
    expect(page.locator(".said")).to_contain_text("Taken into the draft")
    same_as_driven(scene, driving)


def test_an_overlay_is_gone_two_seconds_after_the_link_is(scene: Scene, link: str):
    """The car's own record shows it: within its bounds while it lasted, and then its own calibration."""
    driving = Driving(link)
    limits = LiveLimits(on=True, after_s=10, samples=10, seconds=0.5, percent=5)

    def session() -> LiveSession:
        with unit_of_work():
            return live_sessions.latest_of(scene.job)

    try:
        until(lambda: session() is not None)
        with unit_of_work():
            live_sessions.keep_limits(session(), limits.model_dump_json())
        want(session().id, wanted=True, who="tuner")
        allow(session().id, allowed=True)
        until(lambda: session().acknowledged >= 2, 90)
        until(lambda: abs(driving.car.outcome.rows[-1][-1]) > 1, 90)  # it is driven by it, where it corrects something
        cut_at = driving.car.outcome.rows[-1][0]
        driving.car.link.cut(4.5)
        until(lambda: driving.car.outcome.overlays[-1][2] == "silence", 30)
        until(lambda: driving.car.link.silent_s < 0.5, 30)
        until(lambda: driving.car.drive.overlay_number > 0, 60)
    finally:
        driving.stop()
    rows = np.array(driving.car.outcome.rows)
    overlay, time_ = rows[:, -1], rows[:, 0]
    assert np.abs(overlay).max() <= 5 + 1e-6
    assert np.abs(overlay[time_ <= cut_at]).max() > 1
    dropped = next(at for at, _, why in driving.car.outcome.overlays if why == "silence")
    assert dropped - cut_at <= (2.0 + 0.5) * SPEED
    again = next(at for at, number, _ in driving.car.outcome.overlays if number and at > dropped)
    assert (overlay[(time_ > dropped) & (time_ <= again)] == 0).all()
    after = overlay[(time_ > again) & (time_ <= again + 1.0)]
    assert np.abs(after).max() <= 2 + 1e-6  # from its own calibration, in small steps


def same_as_driven(scene: Scene, driving: Driving) -> None:
    """Sample by sample, what was recorded here is what the car recorded."""
    with unit_of_work():
        session = live_sessions.latest_of(scene.job)
        log = LogFile.get_by_id(session.log_id)
    ready(log)
    with unit_of_work():
        stored = samples.read_whole(LogFile.get_by_id(log.id))
    own = driving.car.drive.recording()
    named = {channel.name: channel.values for raster in stored.rasters for channel in raster.channels}
    assert stored.rasters[0].time.tolist() == (own.rasters[0].time - own.rasters[0].time[0]).tolist()
    compared = 0
    for channel in own.rasters[0].channels:
        if channel.name in named:
            assert named[channel.name].tolist() == pytest.approx(channel.values.tolist(), abs=1e-9), channel.name
            compared += 1
    assert compared >= 20
    assert named["Marker"].sum() == 1


def test_a_page_opened_within_the_first_second_shows_the_channels_when_they_are_recognised(page: Page, scene: Scene):
    """What is read within it has no meaning yet, so that the page opens with the first channel alone."""
    drive, batches = driven(6, each=5)
    session, _ = begun(scene, drive)
    passing.take(session, batches[:3])
    page.goto(f"/jobs/{scene.job.id}/rounds/1/live")
    expect(page.locator("main[data-begun=yes]")).to_be_visible()
    passing.take(session, batches[3:])
    expect(page.get_by_text("λ measured").first).to_be_visible()
    expect(page.get_by_text("has no channel")).to_have_count(0)
