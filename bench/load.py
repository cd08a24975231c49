"""`python -m bench.load [SECONDS] [PAUSE]`: fifty people at two hundred jobs, two seconds (or PAUSE) between pages, a log every ten.

Prints how long they wait, page by page, and how memory grows in the second half.

The jobs are the demo's, brought in again and again as archives, so that each has logs, revisions and history of its own.
"""

from __future__ import annotations

import asyncio
import io
import os
import random
import re
import signal
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter

import httpx2 as httpx

from bench.drives import drive
from bench.processes import by_kind
from bench.screenshots import wait_until_well
from uchiwa import demo
from uchiwa.core.logs.writers import write_log
from uchiwa.store import archive_in, archive_out, server, uploads
from uchiwa.store.database import connect_to, database, unit_of_work
from uchiwa.store.models import Job, LogFile, Round, User
from uchiwa.store.place import free_port

PEOPLE, JOBS, PAUSE_S, SECONDS, LOG_EVERY_S = 50, 200, 2.0, 600.0, 10.0
STATIONS = (
    "brief", "logs", "fuel", "fuel", "fuel?view=proposed", "tables", "review", "return", "spark/knock", "spark/pulls",
    "spark/torque", "read",
)  # fmt: skip
PIECES = {"fuel": ("fuel/cell?i=4&j=5", "fuel/moments?i=5&j=4", "fuel/cell?i=6&j=3"), "tables": ("tables/pictures",)}


def copies(wanted: int) -> None:
    """Bring the demo's jobs in again until there are so many."""
    with unit_of_work():
        user = User.get(User.email == demo.EMAIL)
        jobs = list(Job.select().where(Job.shop == user.shop_id))
        archives = []
        for job in jobs:
            file = io.BytesIO()
            archive_out.export(job, file)
            archives.append(file)
    for number in range(wanted - len(jobs)):
        file = archives[number % len(archives)]
        file.seek(0)
        with unit_of_work():
            archive_in.bring_in(archive_in.open_archive(file, "copy.zip"), user)


def wait_for_imports() -> None:
    """Until every log is read."""
    while True:
        with unit_of_work():
            left = LogFile.select().where(LogFile.state.in_(("stored", "importing"))).count()
        if not left:
            return
        time.sleep(1)


def resident(home: str) -> dict[str, float]:
    """MB of memory of the processes of a home, by what they are; and the sum of the web processes' numbers.

    The sum changes when one of them has died and was begun anew.
    """
    found = {kind: sum(one.megabytes for one in those) for kind, those in by_kind(home).items()}
    return found | {"processes": float(sum(one.id for one in by_kind(home)["web"]))}


class Person:
    """Somebody who goes from page to page."""

    def __init__(self, address: str, number: int, rounds: list[tuple[int, int]], pause: float) -> None:
        self.pause = pause
        self.client = httpx.AsyncClient(base_url=address, timeout=60, trust_env=False)
        self.random = random.Random(number)
        self.rounds = rounds
        self.took: list[tuple[float, str]] = []
        self.wrong: list[str] = []

    async def sign_in(self) -> None:
        """As on any morning."""
        page = await self.client.get("/sign-in")
        token = re.search(r'name="csrf" content="([^"]+)"', page.text)[1]
        form = {"csrf": token, "email": demo.EMAIL, "password": demo.PASSWORD}
        answer = await self.client.post("/sign-in", data=form)
        assert answer.status_code == 303, answer.status_code

    async def get(self, path: str, kind: str, **headers: str) -> None:
        """One page."""
        start = time.perf_counter()
        try:
            answer = await self.client.get(path, headers=headers)
        except httpx.TransportError as error:
            self.wrong.append(f"{type(error).__name__} after {time.perf_counter() - start:.3f} s {path}")
            return
        self.took.append((time.perf_counter() - start, kind))
        if answer.status_code >= 500:
            self.wrong.append(f"{answer.status_code} {path}")

    async def work(self, until: float) -> None:
        """Home, a job, a station of it, and what a page asks for by itself."""
        await asyncio.sleep(self.random.uniform(0, self.pause))
        while time.monotonic() < until:
            await self.get("/", "home")
            await asyncio.sleep(self.pause)
            job, number = self.random.choice(self.rounds)
            await self.get(f"/jobs/{job}", "job")
            await asyncio.sleep(self.pause)
            for _ in range(self.random.randint(1, 4)):
                station = self.random.choice(STATIONS)
                await self.get(f"/jobs/{job}/rounds/{number}/{station}", station)
                for piece in PIECES.get(station, ()):
                    await self.get(f"/jobs/{job}/rounds/{number}/{piece}", piece, **{"x-fragment": "yes"})
                await asyncio.sleep(self.pause)
        await self.client.aclose()


async def crowd(address: str, home: str, rounds: list[tuple[int, int]], seconds: float, pause: float) -> list[Person]:
    """All of them at once; memory is printed every twenty seconds."""
    people = [Person(address, number, rounds, pause) for number in range(PEOPLE)]
    for person in people:
        await person.sign_in()
    begun = time.monotonic()
    working = [asyncio.create_task(person.work(begun + seconds)) for person in people]
    memory: list[tuple[float, float]] = []
    while not all(one.done() for one in working):
        found = resident(home)
        memory.append((time.monotonic() - begun, sum(mb for key, mb in found.items() if key != "processes")))
        print(f"  {memory[-1][0]:4.0f} s", {key: round(mb) for key, mb in found.items()}, flush=True)
        await asyncio.wait(working, timeout=20)
    for one in working:
        one.result()
    half = [mb for at, mb in memory if seconds / 2 - 40 <= at <= seconds / 2 + 40] or [memory[0][1]]
    end = [mb for at, mb in memory if at >= seconds - 80]
    print(f"memory of all processes: {statistics.mean(half):.0f} MB half-way, {statistics.mean(end):.0f} MB at the end, "
          f"{100 * (statistics.mean(end) / statistics.mean(half) - 1):+.1f} %")  # fmt: skip
    return people


def sending(over: threading.Event, sent: list[int]) -> None:
    """A customer's log every few seconds, to whichever job."""
    rng = random.Random(5)
    with unit_of_work():
        jobs = [job.id for job in Job.select(Job.id)]
    while not over.wait(LOG_EVERY_S):
        with unit_of_work():
            job = Job.get_by_id(rng.choice(jobs))
            round_ = Round.select().where(Round.job == job).order_by(Round.number.desc()).get()
        log, _ = uploads.receive(
            job,
            round_,
            "drive.csv",
            io.BytesIO(write_log(drive(rng.randrange(1 << 30), 6000), "csv")),
            by_customer=True,
        )
        sent.append(log.id)
    database.close_all()


def main(seconds: float = SECONDS, pause: float = PAUSE_S) -> None:
    """Print what people would have met."""
    with tempfile.TemporaryDirectory(prefix="uchiwa-load-") as home:
        port = free_port(8597)
        os.environ |= {"UCHIWA_HOME": home, "UCHIWA_DB_PORT": str(free_port(8598)), "UCHIWA_PORT": str(port)}
        address = f"http://127.0.0.1:{port}"
        process = subprocess.Popen([sys.executable, "-m", "uchiwa", "serve", "--demo"], stdout=subprocess.DEVNULL)
        try:
            wait_until_well(address)
            connect_to(server.start())
            copies(JOBS)
            wait_for_imports()
            with unit_of_work():
                latest = {round_.job_id: round_.number for round_ in Round.select().order_by(Round.number)}
            over, sent = threading.Event(), list[int]()
            sender = threading.Thread(target=sending, args=(over, sent))
            sender.start()
            people = asyncio.run(crowd(address, os.environ["UCHIWA_HOME"], sorted(latest.items()), seconds, pause))
            over.set()
            sender.join()
            with unit_of_work():
                states = Counter(log.state for log in LogFile.select(LogFile.state).where(LogFile.id.in_(sent)))
            print(f"{len(sent)} logs sent meanwhile: {dict(states)}")
            database.close_all()
        finally:
            process.send_signal(signal.SIGINT)
            process.wait(60)
    took = sorted(one for person in people for one, _ in person.took)
    wrong = Counter(one for person in people for one in person.wrong)
    print(f"{PEOPLE} people, {JOBS} jobs, {len(took)} pages in {seconds:.0f} s")
    p = statistics.quantiles(took, n=100)
    print(
        f"median {p[49]:.3f} s, p95 {p[94]:.3f} s, p99 {p[98]:.3f} s, longest {took[-1]:.2f} s; errors {sum(wrong.values())}"
    )
    for kind in sorted({kind for person in people for _, kind in person.took}):
        mine = sorted(one for person in people for one, other in person.took if other == kind)
        print(f"  {kind:22} {len(mine):4}  median {mine[len(mine) // 2]:.3f}  p95 {mine[int(len(mine) * 0.95)]:.3f}")
    for text, count in wrong.most_common(10):
        print(f"  {count} × {text}")


if __name__ == "__main__":
    main(*(float(one) for one in sys.argv[1:3]))
