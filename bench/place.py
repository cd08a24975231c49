"""A database and an application of the bench's own."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager

from playwright.sync_api import Page

from bench.browser import chromium
from bench.screenshots import wait_until_well
from uchiwa.store import accounts, server
from uchiwa.store.database import connect_to, database, unit_of_work
from uchiwa.store.models import User
from uchiwa.store.place import free_port
from uchiwa.store.schema import migrate

EMAIL, PASSWORD = "bench@uchiwa.example", "a long enough password"


@contextmanager
def own_database() -> Iterator[User]:
    """An empty database with one shop and one person."""
    before = dict(os.environ)
    with tempfile.TemporaryDirectory(prefix="uchiwa-bench-") as home:
        os.environ |= {"UCHIWA_HOME": home, "UCHIWA_DB_PORT": str(free_port(8595))}
        try:
            connect_to(server.start())
            migrate()
            with unit_of_work():
                user = accounts.create_user(accounts.create_shop("Bench"), EMAIL, "Bench", PASSWORD)
            yield user
        finally:
            database.close_all()
            server.stop()
            os.environ.clear()
            os.environ.update(before)


@contextmanager
def signed_in() -> Iterator[Page]:
    """A page of the application on that database, signed in."""
    port = free_port(8596)
    address = f"http://127.0.0.1:{port}"
    environment = os.environ | {"UCHIWA_PORT": str(port)}
    process = subprocess.Popen([sys.executable, "-m", "uchiwa", "serve"], env=environment, stdout=subprocess.DEVNULL)
    try:
        wait_until_well(address)
        with chromium() as browser:
            page = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=address).new_page()
            page.goto("/sign-in")
            page.get_by_label("E-mail address").fill(EMAIL)
            page.get_by_label("Password").fill(PASSWORD)
            page.get_by_role("button", name="Sign in").click()
            page.wait_for_url("**/")
            yield page
    finally:
        process.send_signal(signal.SIGINT)
        process.wait(30)
