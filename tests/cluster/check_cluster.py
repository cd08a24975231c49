"""Work on a cluster whose nodes are killed one after the other. `make cluster` runs it; `make test` does not."""

from __future__ import annotations

import contextlib
import io
import os
import random
import threading
import time
from collections.abc import Iterator

import pytest

from tests.cluster.cluster import Cluster
from tests.store.conftest import log_text
from uchiwa.services import tables
from uchiwa.services.importing import import_log
from uchiwa.standin.cars import pike_base
from uchiwa.store import accounts, drafts, jobs, leases, messages, uploads
from uchiwa.store.acting import Acting
from uchiwa.store.database import can_run_again, connect_to, database, run_again, unit_of_work
from uchiwa.store.drafts import StaleDraftError
from uchiwa.store.models import Draft, Event, Job, LogFile, Message, User
from uchiwa.store.schema import migrate

SECONDS, WORKERS, LONGEST_S = 60.0, 4, 30.0


@pytest.fixture
def cluster(tmp_path, monkeypatch) -> Iterator[Cluster]:
    monkeypatch.setenv("UCHIWA_HOME", str(tmp_path))
    found = Cluster()
    try:
        found.start()
        found.make_database("uchiwa")
        place = found.place()
        place.save()
        connect_to(place)
        migrate()
        yield found
    finally:
        database.close_all()
        found.stop()


class Work:
    """What several people have been told is done, and how long each act took."""

    def __init__(self, user: User) -> None:
        self.user, self.over = user, threading.Event()
        self.messages: list[str] = []
        self.edits: dict[int, int] = {}
        self.logs: list[int] = []
        self.took: list[float] = []
        self.wrong: list[str] = []
        self.lock = threading.Lock()

    def patiently(self, act):
        """Do it, and again for as long as a person would."""
        begun = time.monotonic()
        while True:
            try:
                found = act()
                break
            except Exception as error:
                if not can_run_again(error) or time.monotonic() - begun > LONGEST_S:
                    raise
                time.sleep(0.3)
        with self.lock:
            self.took.append(time.monotonic() - begun)
        return found

    def run(self, number: int) -> None:
        """One person at one job."""
        rng = random.Random(number)
        try:
            job = self.patiently(lambda: make_job(self.user.id, f"{number}"))
            while not self.over.is_set():
                if rng.random() < 0.5:
                    self.write(job, f"{number} {rng.random()}")
                elif rng.random() < 0.8:
                    self.edit(job, number)
                else:
                    self.send(job, rng)
        except Exception as error:
            self.wrong.append(f"{type(error).__name__}: {error}")
        finally:
            database.close()

    def write(self, job: Job, text: str) -> None:
        @run_again
        def act() -> None:
            with unit_of_work():
                messages.write(job, text, self.user, text)

        self.patiently(act)
        with self.lock:
            self.messages.append(text)

    def edit(self, job: Job, number: int) -> None:
        seen = self.patiently(run_again(lambda: version_of(job)))

        @run_again
        def act() -> None:
            with unit_of_work():
                change(job, self.user, seen)

        with contextlib.suppress(StaleDraftError):  # it was done, and the answer was lost with its node
            self.patiently(act)
        with self.lock:
            self.edits[job.id] = self.edits.get(job.id, 0) + 1

    def send(self, job: Job, rng: random.Random) -> None:
        round_ = self.patiently(run_again(lambda: round_of(job)))
        data = log_text(rng.randrange(1 << 30), size=300).encode()
        log, _ = self.patiently(lambda: uploads.receive(job, round_, "a.csv", io.BytesIO(data)))
        with self.lock:
            self.logs.append(log.id)


def version_of(job: Job) -> int:
    with unit_of_work():
        return drafts.current(job).version


def round_of(job: Job):
    with unit_of_work():
        return jobs.rounds(job)[-1]


@run_again
def make_job(user_id: int, name: str) -> Job:
    with unit_of_work():
        return jobs.create(User.get_by_id(user_id), f"Driver {name}", "Corvid Pike", "", pike_base(), once=name)


def change(job: Job, user: User, version: int) -> None:
    """Turn one cell a little."""
    round_ = jobs.rounds(job)[-1]
    hand = tables.Editor(Acting(job, round_, user, version, "under fire"))
    tables.edit(hand, tables.table_work(job, round_, "spark_main"), [(4, 4)], "x+1" if version % 2 else "x-1")


def test_nodes_are_killed_under_load_and_nothing_is_lost(cluster):
    with unit_of_work():
        user = accounts.create_user(accounts.create_shop("Fire"), "t@example.org", "T", "seven quiet herons wait")
    work = Work(user)
    threads = [threading.Thread(target=work.run, args=(number,)) for number in range(WORKERS)]
    importer = threading.Thread(target=import_all, args=(work,))
    for thread in (*threads, importer):
        thread.start()
    kills, until = 0, time.monotonic() + SECONDS
    rng = random.Random(int(os.environ.get("UCHIWA_SEED", "7")))
    while time.monotonic() < until:
        time.sleep(rng.uniform(2, 5))
        node = rng.choice(cluster.nodes)
        cluster.kill(node)
        kills += 1
        time.sleep(rng.uniform(4, 7))
        cluster.come_back(node)
        cluster.wait(node, 3)
    work.over.set()
    for thread in (*threads, importer):
        thread.join(180)
        assert not thread.is_alive()
    print(f"\n{kills} nodes killed in {SECONDS:.0f} s: {len(work.messages)} messages, {sum(work.edits.values())} edits, "
          f"{len(work.logs)} logs; longest act {max(work.took):.1f} s")  # fmt: skip
    assert work.wrong == [], work.wrong
    with unit_of_work():
        there = [message.text for message in Message.select()]
        assert sorted(there) == sorted(work.messages)
        for job_id, number in work.edits.items():
            steps = Event.select().where(Event.job == job_id, Event.kind == jobs.EDIT).count()
            assert (steps, Draft.get(Draft.job == job_id).version - 1) == (number, number)
        states = {log.id: log.state for log in LogFile.select()}
    assert {number: states.get(number) for number in work.logs} == dict.fromkeys(work.logs, "ready")
    for node in cluster.nodes:
        counts = [
            node.ask(f"SELECT COUNT(*) FROM {name}", database="uchiwa") for name in ("message", "event", "log_file")
        ]
        assert counts == [
            cluster.nodes[0].ask(f"SELECT COUNT(*) FROM {name}", database="uchiwa")
            for name in ("message", "event", "log_file")
        ]


def import_all(work: Work) -> None:
    """A worker beside them, until nothing waits."""
    while True:
        try:
            waiting = leases.waiting()
            for log_id in waiting:
                import_log(log_id)
            if not waiting and work.over.is_set():
                with unit_of_work():
                    if not LogFile.select().where(LogFile.state.in_(("stored", "importing"))).exists():
                        return
        except Exception as error:
            if not can_run_again(error):
                work.wrong.append(f"worker: {type(error).__name__}: {error}")
                return
        time.sleep(0.2)
