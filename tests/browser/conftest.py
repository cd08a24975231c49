"""The application as a person meets it: `uchiwa serve` in its own process, and Debian's Chromium."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
import urllib.request
from collections.abc import Callable, Iterator

import pytest
from playwright._impl._api_structures import SetCookieParam
from playwright.sync_api import Browser, BrowserContext, ConsoleMessage, Page, expect

from bench.browser import chromium
from tests.browser.served_home import ServedHome
from tests.browser.slowness import SLOWNESS, slow_pages
from tests.ports import own
from tests.store.conftest import Scene, scene  # noqa: F401
from uchiwa.store import sessions
from uchiwa.store.models import User
from uchiwa.store.place import free_port
from uchiwa.web.requests.browser import COOKIE

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
def killed_home(tmp_path_factory) -> Iterator[ServedHome]:
    """One home for all that is started, killed and stopped; what is acknowledged is on the disk."""
    found = ServedHome.of(tmp_path_factory.mktemp("killed"), web_processes=2, safe=True)
    yield found
    if found.process is not None and found.process.poll() is None:
        found.end(signal.SIGINT)
    assert found.left() == []


@pytest.fixture
def home(killed_home: ServedHome) -> ServedHome:
    """The same, served and well."""
    return killed_home.begun()


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    """One browser for all tests."""
    with chromium() as running, pytest.MonkeyPatch.context() as patch:
        if SLOWNESS > 1:
            slow_pages(patch, SLOWNESS)
        yield running


@pytest.fixture(scope="package")
def context(served: str, browser: Browser) -> Iterator[BrowserContext]:
    """One profile for all tests, with a page that stays open: what it has loaded and compiled serves the next test, too."""
    found = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=served)
    found.new_page().goto("/static/fan.svg")
    yield found
    found.close()


@pytest.fixture
def page(served: str, context: BrowserContext, scene: Scene) -> Iterator[Page]:  # noqa: F811
    """A page of somebody who is signed in; a script error or a refused resource fails the test, but for input answered with 400."""
    wrong: list[str] = []

    def note(message: ConsoleMessage) -> None:
        if message.type == "error" and "status of 400" not in message.text:
            wrong.append(f"{message.text} {message.location.get('url', '')}")

    page = context.new_page()
    page.on("pageerror", lambda error: wrong.append(str(error)))
    page.on("console", note)
    context.add_cookies([signed_in(served, scene.user)])
    yield page
    page.close()
    forget = {"origin": served, "storageTypes": "local_storage"}
    context.new_cdp_session(context.pages[0]).send("Storage.clearDataForOrigin", forget)
    context.clear_cookies()
    context.clear_permissions()
    assert wrong == []


def until(true: Callable[[], bool], seconds: float = 60) -> None:
    """Wait until something is so."""
    deadline = time.monotonic() + seconds
    while not true():
        assert time.monotonic() < deadline
        time.sleep(0.1)


def signed_in(address: str, user: User) -> SetCookieParam:
    """The cookie of somebody who has signed in: as good as by the form for what comes after, and quicker."""
    return {"name": COOKIE, "value": sessions.begin(user, "a test"), "url": address}
