"""A browser on a bad line, `UCHIWA_SLOW_BROWSER=8` times slower than a good one: what a test reads too early is then wrong.

A page comes in pieces: its head is drawn, and answers, long before its table is there. `make test-slow`
runs all but the watched drives so, which keep the time of the car.
"""

from __future__ import annotations

import os

import pytest
from playwright.sync_api import BrowserContext, Page

SLOWNESS = float(os.environ.get("UCHIWA_SLOW_BROWSER", "1"))
_LATENCY_MS = 5.0
_BYTES_A_SECOND = 400_000.0


def slow_pages(patch: pytest.MonkeyPatch, times: float) -> None:
    """Let every page that is opened from now on load so many times slower, and compute twice as slowly."""
    quick = BrowserContext.new_page

    def new_page(context: BrowserContext) -> Page:
        page = quick(context)
        session = context.new_cdp_session(page)
        session.send("Emulation.setCPUThrottlingRate", {"rate": 2})
        session.send("Network.enable")
        line = {"latency": _LATENCY_MS * times, "downloadThroughput": _BYTES_A_SECOND / times, "uploadThroughput": -1}
        session.send("Network.emulateNetworkConditions", {"offline": False, **line})
        return page

    patch.setattr(BrowserContext, "new_page", new_page)
