"""A session whose link breaks, whose web processes and whose database are killed: equal, sample by sample, all the same."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path

import pytest

from tests.browser.test_serving import left, processes_of, wait_for
from tests.ports import own
from uchiwa.standin.fleet import car_named
from uchiwa.standin.live import LiveCar
from uchiwa.standin.live_drive import LiveDrive
from uchiwa.store.place import free_port

pytestmark = pytest.mark.browser
SPEED = 12.0
WELL = {"database": "ok", "worker": "ok"}


def step(environment: dict[str, str], *words: str) -> str:
    done = subprocess.run(
        [sys.executable, "-m", "tests.browser.live_under_fire", *words],
        env=environment,
        cwd=Path(__file__).parents[2],
        capture_output=True,
        text=True,
    )
    assert done.returncode == 0, done.stderr[-1500:]
    return done.stdout.strip().splitlines()[-1]


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
    home = tmp_path / "home"
    port = free_port(own(8631))
    environment = os.environ | {
        "UCHIWA_HOME": str(home),
        "UCHIWA_PORT": str(port),
        "UCHIWA_WEB_PROCESSES": "2",
        "UCHIWA_DB_PORT": str(free_port(own(8633))),
    }
    environment.pop("UCHIWA_DB_FAST", None)  # what is acknowledged must be on the disk
    process = subprocess.Popen([sys.executable, "-m", "uchiwa", "serve"], env=environment, cwd=tmp_path)
    try:
        wait_for(WELL, f"http://127.0.0.1:{port}")
        tokens = json.loads(step(environment, "make"))
        cars = {
            job: driving(f"http://127.0.0.1:{port}/c/{token}", 4 + number, plain=bool(number))
            for number, (job, token) in enumerate(tokens.items())
        }
        began = time.monotonic()
        for at, what in ((3.5, "spawn_main"), (7, "mariadbd"), (12, "spawn_main")):
            time.sleep(max(0.0, at - (time.monotonic() - began)))
            for pid, command in processes_of(home):
                if what in command:
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
            found = json.loads(step(environment, "wait", job, str(rows)))
            assert found == {"same": True, "rows": len(car.outcome.rows), "channels": len(car.drive.channels)}
    finally:
        process.send_signal(signal.SIGINT)
        process.wait(60)
    assert left(home) == []
