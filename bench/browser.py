"""Debian's Chromium without a window (`chromium-headless-shell`) under Playwright, as tests, measurements and pictures use it."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from playwright.sync_api import Browser, sync_playwright

ARGUMENTS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--disable-features=SpareRendererForSitePerProcess",
    "--renderer-process-limit=1",
]


@contextmanager
def chromium() -> Iterator[Browser]:
    """A headless browser."""
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium-headless-shell", args=ARGUMENTS)
        try:
            yield browser
        finally:
            browser.close()
