"""`python -m bench.live [SECONDS]`: two sessions of forty channels at 50 Hz, and three who watch, one of them in a browser.

Prints how late samples are at those who watch, what of a core they cost, and what three more cost, who watch what is followed
already; memory, rows written a second, and how quick the first strips of the finished log are beside those of a file with the
same rows. A machine that others use is now quick and now slow: beside each stretch stands what one and the same piece of work
took in it, and how much of the processors others had.
"""

from __future__ import annotations

import io
import json
import os
import re
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections import defaultdict
from dataclasses import dataclass
from pathlib import Path

import httpx2 as httpx
import numpy as np
from websockets.sync.client import connect

from bench.browser import chromium
from bench.processes import by_kind, processes_of
from bench.screenshots import wait_until_well
from uchiwa.core.logs.log import Channel, Log, Raster
from uchiwa.core.logs.writers import write_log
from uchiwa.standin.cars import pike_base
from uchiwa.standin.fleet import car_named
from uchiwa.standin.live_drive import passed_channels
from uchiwa.standin.live_link import LiveLink
from uchiwa.standin.simulate import LOGGED, STEP_S, Run
from uchiwa.store import accounts, briefs, jobs, links, live_sessions, server, uploads
from uchiwa.store.database import connect_to, unit_of_work
from uchiwa.store.models import Job, LogFile
from uchiwa.store.place import free_port

SECONDS, ALONE_S, MORE_S, CHANNELS, HZ, BATCH_S = 600.0, 60.0, 60.0, 40, 50, 0.1
EMAIL, PASSWORD = "tuner@example.org", "a long enough password"
SAME_ROWS = json.dumps([[round(0.02 * row, 3), *(row * column % 97 / 8 for column in range(40))] for row in range(18)])
SAME_WORK_EVERY_S = 2.0
LISTEN = "window.drawn = []; document.addEventListener('livedrawn', (e) => window.drawn.push([Date.now() / 1000, e.detail]));"


def rows_of(seconds: float, seed: int) -> tuple[list[dict[str, object]], list[list[float]]]:
    """Channels, and a row every 20 ms: a stand-in's own, filled up with sensors of no known quantity."""
    car = car_named("corvid-pike")
    run, own = Run(car, car.base(), "steady_cruise", seed), passed_channels(car)
    rng = np.random.default_rng(seed)
    more = CHANNELS - len(own)
    rows: list[list[float]] = []
    while len(rows) < seconds * HZ:
        if run.driver.done:
            run.driver.done = False
        run.step()
        row = run.row()
        rows.append([round(run.time, 3), *(round(row[one.column], LOGGED[one.column - 1][2]) for one in own)])
        run.time += STEP_S
        run.number += 1
    noise = np.round(rng.normal(2.5, 0.4, (len(rows), more)), 3).tolist()
    channels = [{"name": one.name, "unit": one.unit, "rate": HZ} for one in own]
    channels += [{"name": f"Sensor {number}", "unit": "V", "rate": HZ} for number in range(more)]
    return channels, [[*row, *extra] for row, extra in zip(rows, noise, strict=True)]


class Sender(threading.Thread):
    """Passes rows on as if they were recorded now."""

    def __init__(self, link: str, channels: list[dict[str, object]], rows: list[list[float]]) -> None:
        super().__init__(daemon=True)
        self.rows, self.began = rows, 0.0
        self.link = LiveLink(link, {"format": "uchiwa.live/1", "channels": channels, "drive": "bench"}, lambda _: None)
        self.kept = False

    def run(self) -> None:
        """Until all of it is kept."""
        self.began, at, each = time.time(), 0, int(BATCH_S * HZ)
        while at < len(self.rows):
            time.sleep(max(0.0, self.began + (at + each) / HZ - time.time()))
            self.link.send(self.rows[at : at + each])
            at += each
        self.kept = self.link.end()


class Watcher(threading.Thread):
    """Watches over a WebSocket, as a page does, and notes how late each sample is."""

    def __init__(self, address: str, path: str, cookie: str, sender: Sender, keys: list[str]) -> None:
        super().__init__(daemon=True)
        self.address, self.path, self.cookie, self.sender, self.keys = address, path, cookie, sender, keys
        self.late: list[float] = []
        self.messages, self.bytes = 0, 0

    def run(self) -> None:
        """Until the session is over."""
        headers = {"Cookie": self.cookie, "Origin": self.address}
        with connect(
            self.address.replace("http", "ws", 1) + self.path, additional_headers=headers, max_size=None
        ) as socket:
            socket.send(json.dumps({"keys": self.keys, "table": "ve_main", "view": "error"}))
            while True:
                text = socket.recv()
                self.messages += 1
                self.bytes += len(text)
                told = json.loads(text)
                if told.get("t"):
                    self.late.extend(time.time() - self.sender.began - np.array(told["t"]))
                if told.get("standing") and not told["standing"]["running"]:
                    return


def processor_seconds(home: str) -> dict[str, float]:
    """Processor time of the application's processes so far, by what they are."""
    found: dict[str, float] = defaultdict(float)
    for process in processes_of(home):
        found[process.kind.removesuffix("'s")] += process.seconds
    return found


def megabytes(home: str) -> float:
    """Memory of the web processes together."""
    return sum(one.megabytes for one in by_kind(home)["web"])


@dataclass(frozen=True)
class Stretch:
    """What was spent in a stretch of time.

    Attributes:
        by_kind: processor time a second, in ms, by kind of process.
        seconds: how long it was.
        same_work_ms: what the same piece of work took, the median over the stretch.
        others: share of the processors that others had, %.
    """

    by_kind: dict[str, float]
    seconds: float
    same_work_ms: float
    others: float

    def web_as_in(self, other: Stretch) -> float:
        """Processor time of the web processes, ms a second, at the speed that the machine had in another stretch."""
        return self.by_kind["web"] * other.same_work_ms / self.same_work_ms

    def __str__(self) -> str:
        kinds = {key: round(ms, 1) for key, ms in self.by_kind.items()}
        return f"{kinds}; the same work took {self.same_work_ms:.1f} ms, others had {self.others:.0f} %"


def spent(home: str, seconds: float) -> Stretch:
    """Processor time over a stretch."""
    before, others, begun, works = processor_seconds(home), stolen_seconds(), time.monotonic(), []
    while (left := begun + seconds - time.monotonic()) > 0:
        time.sleep(min(left, SAME_WORK_EVERY_S))
        works.append(same_work())
    taken, after = time.monotonic() - begun, processor_seconds(home)
    by_kind = {key: 1000 * (after[key] - before.get(key, 0.0)) / taken for key in after}
    share = 100 * (stolen_seconds() - others) / taken / (os.cpu_count() or 1)
    return Stretch(by_kind, taken, 1000 * float(np.median(works)), share)


def same_work() -> float:
    """Processor time of one and the same piece of work, in s: JSON, small arrays and dictionaries, as web processes have it."""
    begun = time.process_time()
    for _ in range(30):
        rows = np.array(json.loads(SAME_ROWS))
        dict(zip(map(str, rows[:, 0].tolist()), np.diff(rows, axis=0).round(3).tolist(), strict=False))
    return time.process_time() - begun


def stolen_seconds() -> float:
    """Processor time that others have had of this machine so far."""
    first = Path("/proc/stat").read_text(encoding="ascii").split("\n", 1)[0]
    return int(first.split()[8]) / os.sysconf("SC_CLK_TCK")


def first_strips(client: httpx.Client, job: int, logs: list[int]) -> list[float]:
    """How long the first strips of each log take, in ms; the quickest of a few, for caches are shared."""
    found = []
    for log in logs:
        times = []
        for number in range(5):
            begun = time.perf_counter()
            answer = client.get(
                f"/jobs/{job}/rounds/1/read/strips",
                params={"log": log, "show": "fuel", "start": 0, "end": 600 + number},
            )
            assert answer.status_code == 200, answer.text
            times.append((time.perf_counter() - begun) * 1000)
        found.append(min(times))
    return found


def as_file(channels: list[dict[str, object]], rows: list[list[float]]) -> bytes:
    """The same rows as a logger's file."""
    data = np.array(rows)
    made = tuple(Channel(str(one["name"]), str(one["unit"]), data[:, n]) for n, one in enumerate(channels, start=1))
    return write_log(Log("same.csv", (Raster(data[:, 0], made),)), "csv")


def wait_until_read(log_ids: list[int]) -> None:
    """Until the logs are ready."""
    while True:
        with unit_of_work():
            if all(LogFile.get_by_id(id_).state == "ready" for id_ in log_ids):
                return
        time.sleep(0.5)


def main(seconds: float = SECONDS) -> None:
    """Print what was measured."""
    with tempfile.TemporaryDirectory(prefix="uchiwa-live-") as home:
        port = free_port(8641)
        os.environ |= {"UCHIWA_HOME": home, "UCHIWA_DB_PORT": str(free_port(8643)), "UCHIWA_PORT": str(port)}
        address = f"http://127.0.0.1:{port}"
        process = subprocess.Popen([sys.executable, "-m", "uchiwa", "serve"], stdout=subprocess.DEVNULL)
        try:
            wait_until_well(address)
            connect_to(server.start())
            measured(address, os.environ["UCHIWA_HOME"], seconds)
        finally:
            process.send_signal(signal.SIGINT)
            process.wait(60)


WATCHED = [
    "engine_speed", "throttle_position", "manifold_pressure", "lambda_measured", "lambda_target", "short_term_trim", "long_term_trim",
]  # fmt: skip
"""What each watcher has on the screen."""


def measured(address: str, home: str, seconds: float) -> None:
    """Both sessions, first alone and then watched."""
    with unit_of_work():
        user = accounts.create_user(accounts.create_shop("Shop"), EMAIL, "Tuner", PASSWORD)
        cars = [jobs.create(user, f"Customer {number}", "Corvid Pike", "", pike_base()) for number in range(2)]
        for job in cars:
            round_ = jobs.rounds(job)[0]
            briefs.keep(round_, briefs.standard(job, round_))
        tokens = [links.make(job) for job in cars]
    driven = [rows_of(seconds + ALONE_S + MORE_S + 5, 11 + number) for number in range(2)]
    client = httpx.Client(base_url=address, timeout=60, trust_env=False)
    token = re.search(r'name="csrf" content="([^"]+)"', client.get("/sign-in").text)[1]
    assert client.post("/sign-in", data={"csrf": token, "email": EMAIL, "password": PASSWORD}).status_code == 303
    cookie = "; ".join(f"{key}={value}" for key, value in client.cookies.items())
    senders = [Sender(f"{address}/c/{one}", *rows) for one, rows in zip(tokens, driven, strict=True)]
    for one in senders:
        one.start()
    time.sleep(8)
    alone = spent(home, ALONE_S - 8)
    print("two sessions that nobody watches, ms of processor time a second:", alone)
    with unit_of_work():
        sessions = [live_sessions.running_of(Job.get_by_id(job.id)) for job in cars]
    memory = megabytes(home)
    paths = [f"/jobs/{job.id}/rounds/1/live/{one.id}/watching" for job, one in zip(cars, sessions, strict=True)]
    with chromium() as browser:
        context = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=address)
        context.add_cookies([{"name": key, "value": value, "url": address} for key, value in client.cookies.items()])
        page = context.new_page()
        page.goto(f"/jobs/{cars[0].id}/rounds/1/live")
        page.evaluate(LISTEN)
        watchers = [
            Watcher(address, path, cookie, sender, WATCHED) for path, sender in zip(paths, senders, strict=True)
        ]
        for one in watchers:
            one.start()
        time.sleep(3)
        watched = spent(home, seconds - 8)
        further = [Watcher(address, paths[0], cookie, senders[0], WATCHED) for _ in range(3)]
        for one in further:
            one.start()
        time.sleep(3)
        by_six = spent(home, MORE_S - 8)
        drawn = np.array([one for one in page.evaluate("window.drawn") if one[1] > 0])
    for one in senders:
        one.join()
    for one in watchers:
        one.join(20)
    frames = drawn[np.concatenate(([True], np.diff(drawn[:, 1]) > 0))]
    samples = np.arange(
        frames[0, 1], frames[-1, 1], 1 / HZ
    )  # each is on the screen with the first frame that reaches it
    screen = frames[np.searchsorted(frames[:, 1], samples), 0] - senders[0].began - samples
    late = np.array([one for watcher in watchers for one in watcher.late])
    print(f"watched by three for {watched.seconds:.0f} s, ms of processor time a second:", watched)
    print("watched by six:", by_six)
    first = (watched.web_as_in(alone) - alone.by_kind["web"]) / 3
    more = (by_six.web_as_in(alone) - watched.web_as_in(alone)) / 3
    print(
        f"in the web processes, at the speed of the first stretch: {first:.1f} ms a second for each of the three, following the "
        f"sessions included; {more:.1f} ms for each of three more, who watch what is followed"
    )
    print(f"from sample to socket: median {np.median(late) * 1000:.0f} ms, p95 {np.quantile(late, 0.95) * 1000:.0f} ms, "
          f"longest {late.max() * 1000:.0f} ms of {late.size} samples")  # fmt: skip
    print(f"from sample to screen: median {np.median(screen) * 1000:.0f} ms, p95 {np.quantile(screen, 0.95) * 1000:.0f} ms, "
          f"longest {screen.max() * 1000:.0f} ms of {screen.size} samples")  # fmt: skip
    print(f"web processes' memory: {memory:.0f} MB before it was watched, {megabytes(home):.0f} MB after")
    with unit_of_work():
        rows = [live_sessions.get(session.id).rows for session in sessions]
    print(
        f"rows kept: {rows}, of {[len(one.rows) for one in senders]} sent; {sum(rows) / (seconds + ALONE_S + MORE_S):.0f} a second; all acknowledged: {all(one.kept for one in senders)}"
    )
    live = sessions[0].log_id
    with unit_of_work():
        job, round_ = Job.get_by_id(cars[0].id), jobs.rounds(cars[0])[0]
    same, _ = uploads.receive(job, round_, "same.csv", io.BytesIO(as_file(*driven[0])))
    wait_until_read([live, same.id])
    ours, file = first_strips(client, cars[0].id, [live, same.id])
    print(f"first strips of the finished log: {ours:.0f} ms, of a file with the same rows: {file:.0f} ms")


if __name__ == "__main__":
    main(*(float(one) for one in sys.argv[1:2]))
