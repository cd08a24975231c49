"""`make screenshots`: one picture of each main view, made from fresh demo data, into docs/screenshots."""

from __future__ import annotations

import os
import re
import signal
import subprocess
import sys
import tempfile
import threading
import time
import urllib.request
from pathlib import Path

from playwright.sync_api import Page

from bench.browser import chromium
from uchiwa import demo
from uchiwa.standin.fleet import car_named
from uchiwa.standin.live import live_car
from uchiwa.store.place import free_port

FOLDER = Path(__file__).parents[1] / "docs" / "screenshots"


def wait_until_well(address: str) -> None:
    """Until the application and its worker answer."""
    deadline = time.monotonic() + 240
    while time.monotonic() < deadline:
        try:
            urllib.request.urlopen(f"{address}/healthz", timeout=10)
            return
        except OSError:
            time.sleep(0.3)
    raise TimeoutError(address)


def sign_in(page: Page) -> None:
    """As the demo's tuner."""
    page.get_by_label("E-mail address").fill(demo.EMAIL)
    page.get_by_label("Password").fill(demo.PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    page.wait_for_url("**/")


def job_path(page: Page, customer: str) -> str:
    """The address of a customer's job."""
    page.goto(f"/?q={customer}")
    return page.locator(".margin h2 a").get_attribute("href") or "/"


def picture(page: Page, name: str) -> None:
    """Keep what the window shows."""
    page.wait_for_load_state("networkidle")
    page.wait_for_timeout(300)
    page.screenshot(path=str(FOLDER / f"{name}.png"))
    print(name)


def take_all(page: Page) -> None:
    """Every main view once."""
    page.goto("/sign-in")
    sign_in(page)
    picture(page, "home")
    first, second = job_path(page, "Halloran"), job_path(page, "Onu")
    page.goto(first)
    picture(page, "job")
    page.goto(f"{first}/revisions/2/report")
    picture(page, "report")
    take_start(page)
    wren = job_path(page, "Haddad")
    page.goto(f"{wren}/rounds/2/logs")
    picture(page, "logs")
    page.goto(f"{wren}/rounds/2/brief")
    picture(page, "brief")
    page.get_by_role("button", name="Make the link").click()
    take_phone(page, page.get_by_label("The link", exact=True).input_value())
    page.goto(f"{job_path(page, 'Lindqvist')}/rounds/1/fuel")
    page.locator("td[data-i='4'][data-j='6']").click()
    page.locator("td[data-i='7'][data-j='3']").click(modifiers=["Shift"])
    picture(page, "fuel")
    take_calibrations(page, second)
    take_reading(page, first)
    take_idle(page, job_path(page, "Oyelaran"))
    take_bins(page, first)
    take_live(page, job_path(page, "Wilk"))
    take_spark(page, job_path(page, "Banerjee"))


def take_start(page: Page) -> None:
    """A car taken on from the shelf, with what is different in it."""
    page.goto("/jobs/new")
    page.get_by_label("From the shelf").select_option(index=1)
    page.locator("[name=customer]").fill("Ida Marlow")
    page.locator("[name=car]").fill("Corvid Pike 1.8")
    page.locator("[name=spark_down]").fill("4")
    page.locator("[name=spark_why]").fill("95 octane instead of 98")
    page.locator("[name=injector_flow]").fill("8.2")
    page.locator("aside", has_text="Spark 4° down").wait_for()
    picture(page, "take-on")


def take_idle(page: Page, job: str) -> None:
    """Idle air with the drawer up."""
    page.goto(f"{job}/rounds/2/idle/air")
    page.locator("svg .change-mark[data-i='4']").first.click()
    page.locator("aside h2", has_text="30 °C").wait_for()
    page.get_by_role("button", name="Moments that fed this cell").click()
    page.locator("[data-title]").wait_for(state="attached")
    picture(page, "idle-air")
    page.locator(".drawer-pull").click()


def take_bins(page: Page, job: str) -> None:
    """The mixture's error of a round, where the engine was warm."""
    page.goto(f"{job}/rounds/3/bins?table=ve_main")
    page.get_by_label("conditions, separated by semicolons").fill("coolant_temperature > 80; lambda_measured < 1.3")
    page.get_by_label("conditions, separated by semicolons").press("Enter")
    page.wait_for_load_state("networkidle")
    page.locator("td[data-i='5'][data-j='4']").click()
    picture(page, "bins")


def take_calibrations(page: Page, job: str) -> None:
    """Tables under edit, and the review."""
    page.goto(f"{job}/rounds/2/tables?table=ve_main")
    page.locator("td[data-i='2'][data-j='9']").click()
    page.locator("td[data-i='6'][data-j='11']").click(modifiers=["Shift"])
    page.keyboard.type("smooth 40")
    page.wait_for_timeout(600)
    picture(page, "tables")
    page.goto(f"{job}/rounds/2/review")
    picture(page, "review")


def take_reading(page: Page, job: str) -> None:
    """Strips of one log."""
    page.goto(f"{job}/rounds/3/read")
    page.locator("main[data-ready='yes']").wait_for()
    page.locator(".strips-hit").hover(position={"x": 260, "y": 60})
    for _ in range(3):
        page.mouse.wheel(0, -240)
    page.wait_for_timeout(500)
    page.locator(".strips-hit").hover(position={"x": 330, "y": 60})
    picture(page, "read")


def take_spark(page: Page, job: str) -> None:
    """Knock, torque, and the pulls by night."""
    page.goto(f"{job}/rounds/1/spark/knock")
    picture(page, "spark-knock")
    page.goto(f"{job}/rounds/1/spark/torque")
    page.locator("svg.ladder .rung .hit").nth(5).click()
    picture(page, "spark-torque")
    page.goto(f"{job}/rounds/1/spark/pulls")
    page.get_by_role("button", name="night").click()
    page.locator("svg.pulls").hover(position={"x": 430, "y": 120})
    picture(page, "spark-pulls")


def take_live(page: Page, job: str) -> None:
    """A drive while it is recorded: the tuner's page by day and by night, and the phone."""
    page.goto(f"{job}/rounds/1/brief")
    page.get_by_role("button", name=re.compile("Renew|Make the link")).first.click()
    link = page.get_by_label("The link", exact=True).input_value()
    car = car_named("corvid-pike")
    under_way = live_car(car, car.base(), link, speed=4.0, longest_s=900)
    over = threading.Event()
    driving = threading.Thread(target=under_way.run, args=(over.is_set,))
    driving.start()
    try:
        time.sleep(2)
        page.goto(f"{job}/rounds/1/live")
        page.locator(".read-tabs [data-panel=correction]").click()
        page.get_by_label("whether the correction runs").select_option("true")
        time.sleep(14)
        browser = page.context.browser
        assert browser is not None
        phone = browser.new_context(viewport={"width": 390, "height": 844}, color_scheme="light").new_page()
        phone.goto(f"{link}/live")
        time.sleep(4)
        phone.screenshot(path=str(FOLDER / "live-phone.png"))
        time.sleep(30)
        page.screenshot(path=str(FOLDER / "live.png"))
        page.get_by_role("button", name="night").click()
        page.wait_for_timeout(2500)
        page.locator("button[data-view=change]").click()
        page.wait_for_timeout(1500)
        page.screenshot(path=str(FOLDER / "live-night.png"))
        page.get_by_role("button", name="auto").click()
        phone.context.close()
    finally:
        over.set()
        driving.join(60)
    print("live, live-night, live-phone")


def take_phone(page: Page, link: str) -> None:
    """The customer's page as a phone shows it."""
    browser = page.context.browser
    assert browser is not None
    phone = browser.new_context(viewport={"width": 390, "height": 844}, color_scheme="light").new_page()
    phone.goto(link)
    picture(phone, "phone")
    phone.context.close()


def main() -> None:
    """Serve fresh demo data, take the pictures, stop."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    port = free_port(8480)
    with tempfile.TemporaryDirectory(prefix="uchiwa-pictures-") as home:
        environment = os.environ | {"UCHIWA_HOME": home, "UCHIWA_PORT": str(port)}
        process = subprocess.Popen([sys.executable, "-m", "uchiwa", "serve", "--demo"], env=environment)
        try:
            wait_until_well(f"http://127.0.0.1:{port}")
            with chromium() as browser:
                context = browser.new_context(
                    viewport={"width": 1280, "height": 800}, base_url=f"http://127.0.0.1:{port}", color_scheme="light"
                )
                take_all(context.new_page())
        finally:
            process.send_signal(signal.SIGINT)
            process.wait(60)


if __name__ == "__main__":
    main()
