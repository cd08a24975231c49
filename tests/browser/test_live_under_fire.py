"""A session whose link breaks, whose web processes and whose database are killed: equal, sample by sample, all the same."""

from __future__ import annotations

import json
import os
import signal
import threading
import time

import pytest

from tests.browser.served_home import ServedHome
from uchiwa.standin.fleet import car_named
from uchiwa.standin.live import LiveCar
from uchiwa.standin.live_drive import LiveDrive

pytestmark = pytest.mark.browser
SPEED = 12.0


def driving(address: str, seed: int, *, plain: bool) -> tuple[LiveCar, threading.Thread]:
    """A car under way, whose link is cut five times."""
    car = car_named("corvid-pike")
    drive = LiveDrive(car, car.base(), "steady_cruise", seed, longest_s=SPEED * 20)
    cuts = [(SPEED * at, 0.7) for at in (2, 5, 8, 11, 14)]
    found = LiveCar(drive, address, speed=SPEED, cuts=cuts, plain=plain)
    thread = threading.Thread(target=found.run)
    thread.start()
    return found, thread


def test_nothing_that_was_recorded_is_lost(tmp_path):
    """Two cars at once, one over a WebSocket, one over plain HTTP."""
    served = ServedHome.of(tmp_path, web_processes=2, safe=True)  # what is acknowledged must be on the disk
    with served.serving():
        tokens = served.step("live_under_fire", "make")
        cars = {
            job: driving(f"{served.address}/c/{token}", 4 + number, plain=bool(number))
            for number, (job, token) in enumerate(tokens.items())
        }
        began = time.monotonic()
        for at, what in ((3.5, "web"), (7, "database"), (12, "web")):
            time.sleep(max(0.0, at - (time.monotonic() - began)))
            for pid in served.those(what):
                os.kill(pid, signal.SIGKILL)
        for job, (car, thread) in cars.items():
            thread.join(150)
            assert not thread.is_alive()
            assert car.outcome.refused == ""
            assert car.outcome.kept
            assert not car.cuts
            assert car.outcome.breaks >= (5 if car.link.plain else 7)
            rows = tmp_path / "rows.json"
            rows.write_text(json.dumps(car.outcome.rows))
            found = served.step("live_under_fire", "wait", int(job), str(rows))
            assert found == {"same": True, "rows": len(car.outcome.rows), "channels": len(car.drive.channels)}
    assert served.left() == []
