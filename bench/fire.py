"""Acts in a shop while something is killed, and what must be there afterwards."""

from __future__ import annotations

import hashlib
import io
import random
import re
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import httpx2 as httpx

from bench.drives import drive
from bench.fuzzer import PASSWORD
from uchiwa.core.logs.writers import write_log
from uchiwa.standin.cars import pike_base
from uchiwa.standin.mailbox import kept_mails
from uchiwa.store import jobs, leases, links, revisions, uploads
from uchiwa.store.database import database, run_again, unit_of_work
from uchiwa.store.models import Customer, Draft, Event, Job, LogFile, Message, Revision, Round, User

EMAIL, DRIVER = "tuner@example.org", "driver@example.org"
PATIENCE_S = leases.LEASE.total_seconds() + 60.0


class Tuner:
    """Somebody who works, and sends again what was not answered."""

    def __init__(self, address: str) -> None:
        self.client = httpx.Client(base_url=address, timeout=60, trust_env=False)
        self.token = ""
        self.sign_in()

    def sign_in(self) -> None:
        """With patience."""

        def once() -> bool:
            page = self.client.get("/sign-in").text
            token = re.search(r'name="csrf" content="([^"]+)"', page)[1]
            form = {"csrf": token, "email": EMAIL, "password": PASSWORD}
            if self.client.post("/sign-in", data=form).status_code != 303:
                return False
            self.token = re.search(r'name="csrf" content="([^"]+)"', self.client.get("/").text)[1]
            return True

        until(once, "signing in")

    def send(self, path: str, data: dict[str, Any], **more: Any) -> int:
        """A form, again and again until it is taken, or refused since it was taken already; the status."""
        status = 0

        def once() -> bool:
            nonlocal status
            answer = self.client.post(path, data=data, headers={"x-csrf": self.token}, **more)
            status = answer.status_code
            return status < 500 and status != 403

        until(once, path)
        return status


def until(done: Callable[[], bool], what: str, seconds: float = PATIENCE_S) -> None:
    """Try with short pauses until it is done.

    Raises:
        TimeoutError: it is not, in time.
    """
    deadline = time.monotonic() + seconds
    while True:
        try:
            if done():
                return
        except (httpx.HTTPError, TypeError):
            pass
        if time.monotonic() > deadline:
            raise TimeoutError(f"{what} was stuck for {seconds:.0f} s")
        time.sleep(0.15)


@run_again
def look(act: Callable[[], Any]) -> Any:
    """Ask the database, with patience."""
    with unit_of_work():
        return act()


def patient(act: Callable[[], Any]) -> Any:
    """The same, however long the database is away."""
    found: list[Any] = []

    def once() -> bool:
        try:
            found[:] = [look(act)]
        except Exception:
            database.close_all()
            return False
        return True

    until(once, "asking the database", 120.0)
    return found[0]


class Fire:
    """One shop, and the acts in it."""

    def __init__(self, address: str, mailbox: Path, rng: random.Random) -> None:
        self.tuner, self.mailbox, self.rng = Tuner(address), mailbox, rng
        self.number = 0
        self.answered = 0.0
        self.log = write_log(drive(1), "csv")

    def scene(self) -> tuple[Job, Round]:
        """A fresh job with a log that is ready."""

        def make() -> tuple[Job, Round]:
            user = User.get(User.email == EMAIL)
            self.number += 1
            job = jobs.create(user, f"Driver {self.number}-{time.monotonic_ns()}", "Corvid Pike", "", pike_base())
            Customer.update(email=DRIVER).where(Customer.id == job.car.customer_id).execute()
            links.make(jobs.find(user.shop_id, job.id))
            return job, jobs.rounds(job)[0]

        return patient(make)

    def with_log(self) -> tuple[Job, Round]:
        """A fresh job whose log is read."""
        job, round_ = self.scene()
        log, _ = uploads.receive(job, round_, "before.csv", io.BytesIO(self.log))
        self.ready(log.id)
        return job, round_

    def ready(self, log_id: int) -> None:
        """Until a log is read."""
        until(lambda: patient(lambda: LogFile.get_by_id(log_id).state) == "ready", f"log {log_id}")

    def act(self, kind: str, victim: Callable[[], None]) -> list[str]:
        """Do one thing while a victim is killed; what is wrong afterwards."""
        return {"upload": self.upload, "import": self.imported, "edit": self.edit, "take": self.take,
                "freeze": self.freeze, "return": self.returned, "mail": self.mail}[kind](victim)  # fmt: skip

    def upload(self, victim: Callable[[], None]) -> list[str]:
        """Sending a file in pieces: it goes on where it broke off."""
        job, _ = self.scene()
        data = write_log(drive(self.rng.randrange(1 << 30), 20_000), "csv")
        path = f"/jobs/{job.id}/rounds/1/logs/pieces"
        name, at, first = "sent.csv", 0, True
        while at < len(data):
            piece = data[at : at + 300_000]
            arrived = at

            def once(piece: bytes = piece, start: int = at) -> bool:
                nonlocal arrived
                answer = self.tuner.client.post(
                    path, params={"name": name, "size": len(data), "start": start, "changed": "1"}, content=piece,
                    headers={"x-csrf": self.tuner.token, "x-fragment": "yes", "content-type": "application/octet-stream"},
                )  # fmt: skip
                if answer.status_code >= 500 or answer.status_code == 403:
                    return False
                if answer.status_code != 200:
                    raise TimeoutError(f"a piece from {start} was answered {answer.status_code}: {answer.text[:200]}")
                arrived = answer.json()["received"]
                return True

            if first:
                victim()
                first = False
            until(once, "a piece")
            if arrived < at + len(piece):
                raise TimeoutError("a piece that was answered is not there")
            at = arrived
        self.answered = time.monotonic()
        log_id = patient(lambda: LogFile.get(LogFile.job == job.id, LogFile.name == name).id)
        self.ready(log_id)
        wrong = []
        if patient(lambda: LogFile.select().where(LogFile.job == job.id, LogFile.source.is_null()).count()) != 1:
            wrong.append("the file is there twice")
        whole = patient(lambda: uploads.whole(LogFile.get_by_id(log_id)))
        if hashlib.sha256(whole).hexdigest() != hashlib.sha256(data).hexdigest():
            wrong.append("the raw bytes are others")
        return wrong

    def imported(self, victim: Callable[[], None]) -> list[str]:
        """Reading a file that is stored."""
        job, round_ = self.scene()
        data = write_log(drive(self.rng.randrange(1 << 30), 30_000), "csv")
        log, _ = uploads.receive(job, round_, "long.csv", io.BytesIO(data))
        victim()
        self.ready(log.id)
        self.answered = time.monotonic()
        return [] if patient(lambda: LogFile.get_by_id(log.id).samples) == 30_000 else ["samples are missing"]

    def _draft(self, job: Job) -> tuple[int, str, int]:
        def ask() -> tuple[int, str, int]:
            draft = Draft.get(Draft.job == job.id)
            steps = Event.select().where(Event.job == job.id, Event.kind.in_(jobs.STEPS)).count()
            return draft.version, draft.calibration.content_hash, steps

        return patient(ask)

    def edit(self, victim: Callable[[], None]) -> list[str]:
        """An edit of a table by hand."""
        job, _ = self.scene()
        version, content, _ = self._draft(job)
        form = {"table": "spark_main", "cells": "4.4", "line": "x-1", "version": version, "why": "kill"}
        victim()
        status = self.tuner.send(f"/jobs/{job.id}/rounds/1/tables/edit", form)
        self.answered = time.monotonic()
        after, changed, steps = self._draft(job)
        return self._once(status, (after - version, steps), content != changed)

    def take(self, victim: Callable[[], None]) -> list[str]:
        """Taking the fuel proposal."""
        job, _ = self.with_log()
        version, content, _ = self._draft(job)
        victim()
        status = self.tuner.send(f"/jobs/{job.id}/rounds/1/fuel/take", {"version": version})
        self.answered = time.monotonic()
        after, changed, steps = self._draft(job)
        return self._once(status, (after - version, steps), content != changed)

    def _once(self, status: int, counted: tuple[int, int], changed: bool) -> list[str]:
        wrong = []
        if status not in (200, 303, 409):
            wrong.append(f"answered {status}")
        if counted != (1, 1):
            wrong.append(f"done {counted[1]} times, version by {counted[0]}")
        if not changed:
            wrong.append("lost")
        return wrong

    def freeze(self, victim: Callable[[], None]) -> list[str]:
        """Freezing a draft as a revision."""
        job, _ = self.scene()
        version, _, _ = self._draft(job)
        victim()
        status = self.tuner.send(f"/jobs/{job.id}/rounds/1/return", {"version": version, "notes": "kill"})
        self.answered = time.monotonic()
        wrong = [] if status in (303, 409) else [f"answered {status}"]
        number, rounds, report = patient(
            lambda: (
                Revision.select().where(Revision.job == job.id).count(),
                Round.select().where(Round.job == job.id).count(),
                bool(revisions.numbered(Job.get_by_id(job.id), 1).report),
            )
        )
        if (number, rounds) != (2, 2):
            wrong.append(f"{number - 1} revisions, {rounds} rounds")
        if not report:
            wrong.append("without its report")
        return wrong

    def returned(self, victim: Callable[[], None]) -> list[str]:
        """The customer fetches the package and says that it is flashed."""
        job, _ = self.scene()
        version, _, _ = self._draft(job)
        self.tuner.send(f"/jobs/{job.id}/rounds/1/return", {"version": version, "notes": "kill"})
        token = patient(lambda: links.make(jobs.find(User.get(User.email == EMAIL).shop_id, job.id)))
        with httpx.Client(base_url=self.tuner.client.base_url, timeout=60, trust_env=False) as customer:
            found: dict[str, str] = {}

            def page() -> bool:
                text = customer.get(f"/c/{token}").text
                found["token"] = re.search(r'name="csrf" content="([^"]+)"', text)[1]
                return True

            until(page, "the customer's page")
            victim()

            def fetch() -> bool:
                return customer.get(f"/c/{token}/package.zip").status_code == 200

            def say() -> bool:
                answer = customer.post(f"/c/{token}/flashed", data={"number": "1"}, headers={"x-csrf": found["token"]})
                return answer.status_code in (303, 409)

            until(fetch, "the package")
            until(say, "saying that it is flashed")
            self.answered = time.monotonic()
        flashed = patient(lambda: Revision.get(Revision.job == job.id, Revision.number == 1).flashed_at)
        return [] if flashed is not None else ["lost"]

    def mail(self, victim: Callable[[], None]) -> list[str]:
        """A message to the customer, which is told by mail."""
        job, _ = self.scene()
        words = f"message of job {job.id}"
        victim()
        form = {"text": words, "once": f"once-{job.id}"}
        self.tuner.send(f"/jobs/{job.id}/rounds/1/brief/message", form)

        def arrived() -> int:
            return sum(words in mail.text.splitlines() for mail in kept_mails(self.mailbox))

        until(lambda: arrived() > 0, "the mail", 180.0)
        self.answered = time.monotonic()
        wrong = [] if arrived() == 1 else [f"the mail came {arrived()} times"]
        if patient(lambda: Message.select().where(Message.job == job.id).count()) != 1:
            wrong.append("the message is there twice")
        return wrong
