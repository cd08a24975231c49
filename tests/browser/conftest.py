"""The application as a person meets it: `uchiwa serve` in its own process, and Debian's Chromium."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
import urllib.request
from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, Page, expect

from bench.browser import chromium
from tests.ports import own
from tests.store.conftest import Scene, scene  # noqa: F401
from uchiwa.store.place import free_port

expect.set_options(timeout=15_000)

EMAIL, PASSWORD = "tuner@example.org", "a long enough password"


@pytest.fixture(scope="package")
def served(database_home) -> Iterator[str]:
    """The address of the running application, worker included."""
    port = free_port(own(8571))
    address = f"http://127.0.0.1:{port}"
    # One process to answer: several are tested where serving itself is.
    environment = os.environ | {"UCHIWA_PORT": str(port), "UCHIWA_WEB_PROCESSES": "1"}
    process = subprocess.Popen([sys.executable, "-m", "uchiwa", "serve"], env=environment)
    try:
        deadline = time.monotonic() + 60
        while True:
            try:
                urllib.request.urlopen(f"{address}/healthz", timeout=10)
                break
            except OSError:
                assert process.poll() is None, "uchiwa serve ended"
                assert time.monotonic() < deadline, "uchiwa serve did not become well"
                time.sleep(0.2)
        yield address
    finally:
        process.send_signal(signal.SIGINT)
        assert process.wait(30) == 0


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    """One browser for all tests."""
    with chromium() as running:
        yield running


@pytest.fixture
def page(served: str, browser: Browser, scene: Scene) -> Iterator[Page]:  # noqa: F811
    """A signed-in page; any script error or refused resource fails the test, but for input that is answered with 400."""
    context = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=served)
    page = context.new_page()
    wrong: list[str] = []

    def note(text: str) -> None:
        if "status of 400" not in text:
            wrong.append(text)

    page.on("pageerror", lambda error: wrong.append(str(error)))
    page.on("console", lambda message: note(message.text) if message.type == "error" else None)
    page.goto("/sign-in")
    page.get_by_label("E-mail address").fill(EMAIL)
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    page.wait_for_url("**/")
    yield page
    context.close()
    assert wrong == []
