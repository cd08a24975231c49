"""From an empty machine to a shop with two people and a customer who sends a log, as the README tells it, without the demo."""

from __future__ import annotations

import os
import re
import signal
import subprocess
import sys
import time
import urllib.request
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.ports import own
from tests.store.conftest import log_text
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.standin.cars import pike_base
from uchiwa.standin.mailbox import kept_mails, open_mailbox
from uchiwa.store.place import free_port

pytestmark = pytest.mark.browser
PASSWORD, OTHER = "seven quiet herons wait", "eight loud magpies leave"


@dataclass
class Installation:
    """An empty one, just started."""

    address: str
    begin: str
    mailbox: Path

    def mail_to(self, address: str, about: str) -> str:
        """The text of a mail once it has come."""
        deadline = time.monotonic() + 60
        while True:
            found = [mail for mail in kept_mails(self.mailbox) if mail.to == address and about in mail.subject]
            if found:
                return found[0].text
            assert time.monotonic() < deadline, [(mail.to, mail.subject) for mail in kept_mails(self.mailbox)]
            time.sleep(0.2)


def answers(address: str) -> bool:
    """Whether somebody does, and is well."""
    try:
        with urllib.request.urlopen(address, timeout=10) as answer:
            return answer.status == 200
    except OSError:
        return False


@pytest.fixture
def installation(tmp_path) -> Iterator[Installation]:
    port, mail_port = free_port(own(8630)), free_port(own(8650))
    environment = os.environ | {
        "UCHIWA_HOME": str(tmp_path / "home"), "UCHIWA_PORT": str(port), "UCHIWA_DB_PORT": str(free_port(own(8640))),
        "UCHIWA_WEB_PROCESSES": "1", "UCHIWA_MAIL_HOST": "127.0.0.1", "UCHIWA_MAIL_PORT": str(mail_port),
        "UCHIWA_MAIL_SECURITY": "none", "PYTHONUNBUFFERED": "1",
    }  # fmt: skip
    told = tmp_path / "told"
    with open_mailbox(tmp_path / "mailbox", mail_port), told.open("wb") as file:
        process = subprocess.Popen(
            [sys.executable, "-m", "uchiwa", "serve"], env=environment, stdout=file, cwd=tmp_path
        )
        try:
            deadline = time.monotonic() + 90
            while "Uchiwa is at" not in told.read_text():
                assert process.poll() is None
                assert time.monotonic() < deadline
                time.sleep(0.1)
            while not answers(f"http://127.0.0.1:{port}/readyz"):
                assert time.monotonic() < deadline
                time.sleep(0.1)
            begin = re.search(r"http://\S+/begin/\S+", told.read_text())[0]
            yield Installation(f"http://127.0.0.1:{port}", begin, tmp_path / "mailbox")
        finally:
            process.send_signal(signal.SIGINT)
            process.wait(60)


def person(browser: Browser, address: str, *, phone: bool = False) -> Page:
    size = {"width": 390, "height": 844} if phone else {"width": 1280, "height": 800}
    page = browser.new_context(viewport=size, base_url=address).new_page()
    page.set_default_timeout(30_000)
    return page


def test_from_nothing_to_a_log_that_two_people_see(installation, browser, tmp_path):
    owner, second, phone = (person(browser, installation.address, phone=one) for one in (False, False, True))
    owner.goto("/")
    expect(owner.locator("main")).to_contain_text("Nobody has an account here yet")
    owner.goto(installation.begin)
    owner.get_by_label("Name of the shop").fill("Ridge Tuning")
    owner.get_by_label("Your name").fill("A. Holm")
    owner.get_by_label("Your e-mail address").fill("holm@ridge.example")
    owner.get_by_label("A password of").fill(PASSWORD)
    owner.get_by_role("button", name="Make the shop").click()
    expect(owner.locator(".said")).to_contain_text("The shop is made")

    owner.get_by_role("link", name="shop", exact=True).click()
    owner.get_by_label("Their e-mail address").fill("birk@ridge.example")
    owner.get_by_role("button", name="Invite", exact=True).click()
    expect(owner.locator(".fresh")).to_contain_text("/join/")
    join = re.search(r"http://\S+/join/\S+", installation.mail_to("birk@ridge.example", "invites you"))[0]
    second.goto(join)
    second.get_by_label("Your name").fill("T. Birk")
    second.get_by_label("A password of").fill(OTHER)
    second.get_by_role("button", name="Join").click()
    expect(second.locator(".said")).to_contain_text("Welcome to Ridge Tuning")

    base = tmp_path / "base.json"
    base.write_text(calibration_json.dumps(pike_base()))
    second.get_by_role("link", name="Take on a car").first.click()
    second.get_by_label("Customer", exact=True).fill("I. Fell")
    second.get_by_label("E-mail, if they are to be told").fill("fell@drivers.example")
    second.get_by_label("Car", exact=True).fill("Corvid Pike")
    second.get_by_label("Its own calibration").set_input_files(base)
    second.get_by_role("button", name="Take it on").click()
    second.get_by_role("button", name="Send this brief").click()
    link = second.get_by_label("The link", exact=True).input_value()
    mailed = re.search(r"http://\S+/c/\S+", installation.mail_to("fell@drivers.example", "What to record"))[0]
    assert mailed != link

    phone.goto(mailed)
    expect(phone.get_by_role("heading", name="Your Corvid Pike")).to_be_visible()
    phone.locator("#files").set_input_files(
        [{"name": "road.csv", "mimeType": "text/csv", "buffer": log_text().encode()}]
    )
    expect(phone.locator(".phone-log", has_text="road.csv")).to_contain_text("accepted", timeout=60_000)
    assert "road.csv" in installation.mail_to("holm@ridge.example", "a log of the Corvid Pike")
    owner.goto("/")
    expect(owner.locator(".queue-row")).to_contain_text("1 log accepted")
    owner.locator(".queue-row .queue-main").click()
    expect(owner.locator("body")).to_contain_text("Corvid Pike")
    for page in (owner, second, phone):
        page.context.close()
