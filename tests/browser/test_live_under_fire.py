"""A session whose link breaks, whose web processes and whose database are killed: equal, sample by sample, all the same."""

from __future__ import annotations

import json
import os
import signal
import threading
import time
from collections.abc import Callable

import pytest

from uchiwa.standin.fleet import car_named
from uchiwa.standin.live import LiveCar
from uchiwa.standin.live_drive import LiveDrive

pytestmark = pytest.mark.browser
SPEED = 12.0


def driving(address: str, seed: int, over: threading.Event, *, plain: bool) -> tuple[LiveCar, threading.Thread]:
    """A car under way until it is over, whose link is cut five times."""
    car = car_named("corvid-pike")
    drive = LiveDrive(car, car.base(), "steady_cruise", seed, longest_s=SPEED * 90)
    cuts = [(SPEED * at, 0.7) for at in (2, 5, 8, 11, 14)]
    found = LiveCar(drive, address, speed=SPEED, cuts=cuts, plain=plain)
    thread = threading.Thread(target=found.run, args=[over.is_set])
    thread.start()
    return found, thread


def wait_until(true: Callable[[], bool]) -> None:
    """Or fail after a minute."""
    latest = time.monotonic() + 60
    while not true():
        assert time.monotonic() < latest
        time.sleep(0.02)


def well_linked(car: LiveCar) -> bool:
    """Whether the link is there, and will not be cut within a second."""
    at = car.outcome.rows[-1][0] if car.outcome.rows else 0.0
    return car.link.linked and not (car.cuts and car.cuts[0][0] - at < SPEED)


def test_nothing_that_was_recorded_is_lost(home, tmp_path):
    """Two cars at once, one over a WebSocket, one over plain HTTP."""
    over = threading.Event()
    tokens = home.step("live_under_fire", "make")
    cars = {
        job: driving(f"{home.address}/c/{token}", 4 + number, over, plain=bool(number))
        for number, (job, token) in enumerate(tokens.items())
    }
    by_socket = next(car for car, _ in cars.values() if not car.link.plain)
    began = time.monotonic()
    for at, what in ((3.5, "web"), (7, "database"), (12, "web")):
        time.sleep(max(0.0, at - (time.monotonic() - began)))
        wait_until(lambda: well_linked(by_socket))
        for pid in home.those(what):
            os.kill(pid, signal.SIGKILL)
        if what == "web":
            wait_until(lambda: not by_socket.link.linked)
    wait_until(lambda: by_socket.link.linked and not any(car.cuts for car, _ in cars.values()))
    over.set()
    for job, (car, thread) in cars.items():
        thread.join(150)
        assert not thread.is_alive()
        assert car.outcome.refused == ""
        assert car.outcome.kept
        assert car.outcome.breaks >= 5
        rows = tmp_path / "rows.json"
        rows.write_text(json.dumps(car.outcome.rows))
        found = home.step("live_under_fire", "wait", int(job), str(rows))
        assert found == {"same": True, "rows": len(car.outcome.rows), "channels": len(car.drive.channels)}
