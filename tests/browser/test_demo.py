"""`make demo` as a newcomer runs it, stopped, killed half-way and run again: all of it is there, and each job once."""

from __future__ import annotations

import os
import re
import signal
import subprocess
import threading
import time
import urllib.request
from http.cookiejar import CookieJar
from pathlib import Path
from urllib.parse import urlencode

import pytest

from tests.browser.accessibility import violations
from tests.browser.served_home import WELL, ServedHome
from tests.kept import LASTING
from uchiwa import demo

pytestmark = pytest.mark.browser
ROOT = Path(__file__).parents[2]


class Run:
    """One `make demo` with what it prints."""

    def __init__(self, environment: dict[str, str]) -> None:
        self.process = subprocess.Popen(
            ["make", "demo"], cwd=ROOT, env=environment, text=True, stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
            start_new_session=True,
        )  # fmt: skip
        self.said: list[str] = []
        threading.Thread(target=self._listen, daemon=True).start()

    def _listen(self) -> None:
        for line in self.process.stdout:
            self.said.append(line)

    def wait_for_line(self, pattern: str, seconds: float = 400) -> None:
        """Until it has said something."""
        deadline = time.monotonic() + seconds
        while not any(re.search(pattern, line) for line in self.said):
            assert self.process.poll() is None, "".join(self.said)
            assert time.monotonic() < deadline, "".join(self.said)
            time.sleep(0.2)

    def send(self, number: int) -> None:
        """A signal to all of it, as Ctrl-C is."""
        os.killpg(self.process.pid, number)
        self.process.wait(60)


def page_of(address: str) -> str:
    """The queue, seen by the person whose sign-in was printed."""
    opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(CookieJar()))
    form = opener.open(f"{address}/sign-in").read().decode()
    token = re.search(r'name="csrf" content="([^"]+)"', form)[1]
    data = urlencode({"csrf": token, "email": demo.EMAIL, "password": demo.PASSWORD}).encode()
    return opener.open(f"{address}/sign-in", data).read().decode()


def test_the_demo_is_whole_after_a_stop_and_a_kill_quick_the_next_time_and_readable_by_all(tmp_path, browser):
    served = ServedHome.of(tmp_path)
    address = served.address
    environment = served.environment | {"MAKEFLAGS": "", "UCHIWA_DRIVES_KEPT": str(LASTING)}
    environment.pop("UCHIWA_WEB_PROCESSES")
    stopped = Run(environment)
    stopped.wait_for_line(r"^Driving the stand-in cars")
    time.sleep(1.5)  # they drive by now
    stopped.send(signal.SIGINT)
    said = "".join(stopped.said)
    assert "Stopped. What is loaded stays" in said
    assert "Traceback" not in said
    assert served.left() == []
    first = Run(environment)
    first.wait_for_line(r"^ +2 of 12 ")
    first.send(signal.SIGKILL)
    assert f"Uchiwa is at {address}" not in "".join(first.said)
    second = Run(environment)
    try:
        second.wait_for_line(rf"Uchiwa is at {address}/")
        served.wait_for(WELL)
        assert f"Sign in with {demo.EMAIL} and the password {demo.PASSWORD}" in "".join(second.said)
        again = [line for line in second.said if re.match(r" +\d+ of 12 ", line)]
        assert 1 <= len(again) <= 10
        queue = page_of(address)
        for job in demo.JOBS:
            assert queue.count(f"{job.customer}") >= 1, job.customer
        assert len(set(re.findall(r"/jobs/(\d+)", queue))) == len(demo.JOBS)
        assert served.health() == WELL
        assert violations(browser, address) == []
    finally:
        second.send(signal.SIGINT)
        # The server that the killed run had started was found running, so that it was not this run's to stop.
        served.stop_database()
    assert served.left() == []
    third = Run(environment)
    try:
        third.wait_for_line(rf"Uchiwa is at {address}/", 60)
        assert not any(re.match(r" +\d+ of 12 ", line) for line in third.said)
    finally:
        third.send(signal.SIGINT)
    assert served.left() == []
