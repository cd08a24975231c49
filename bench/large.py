"""`python -m bench.large [ROWS [JOBS [LOGS]]]`: pages of a season of a million rows, and of a shop with thousands of jobs.

First one round with many long logs: what each station takes when it is opened first, and again. Then a shop that has so many
jobs with so many logs each: the queue, searches in it, and the lists. Times are those of the server alone, in ms.
"""

from __future__ import annotations

import io
import re
import sys
import time
from datetime import timedelta

from starlette.testclient import TestClient

from bench.drives import drive
from bench.place import EMAIL, PASSWORD, own_database
from uchiwa.core.logs.writers import write_log
from uchiwa.services.importing import import_log
from uchiwa.standin.cars import pike_base
from uchiwa.store import jobs, leases, uploads
from uchiwa.store.clock import now
from uchiwa.store.database import database, unit_of_work
from uchiwa.store.models import Job, LogFile, Round, User
from uchiwa.store.place import Place
from uchiwa.web.app import create_app

ROWS, LOGS, JOBS, LOGS_EACH = 1_000_000, 20, 2_000, 50
STATIONS = ("logs", "read", "fuel", "fuel?view=proposed", "bins", "airflow", "spark/knock", "spark/pulls", "review")
SEARCHES = ("", "Driver 17", "pull 0042", "drive-19", "nothing like it")


def signed_in() -> TestClient:
    """Somebody at the application, which runs in this process."""
    place = Place.load()
    assert place is not None
    client = TestClient(create_app(place.secret_key), base_url="http://127.0.0.1:8460")
    token = re.search(r'name="csrf" content="([^"]+)"', client.get("/sign-in").text)
    assert token is not None
    answer = client.post("/sign-in", data={"csrf": token[1], "email": EMAIL, "password": PASSWORD})
    assert answer.status_code == 200, answer.text
    return client


def took(client: TestClient, path: str, times: int) -> tuple[list[float], int]:
    """Milliseconds of so many answers, and the length of the last one."""
    found, size = [], 0
    for _ in range(times):
        begun = time.perf_counter()
        answer = client.get(path)
        found.append((time.perf_counter() - begun) * 1000)
        assert answer.status_code == 200, (path, answer.text[:500])
        size = len(answer.content)
    return found, size


def season(user: User, rows: int, logs: int) -> None:
    """A round of so many rows in so many logs, opened station by station."""
    with unit_of_work():
        job = jobs.create(user, "Season", "Corvid Pike", "", pike_base())
        round_ = jobs.rounds(job)[0]
    begun = time.perf_counter()
    for number in range(logs):
        text = write_log(drive(number, rows // logs), "csv")
        uploads.receive(job, round_, f"day-{number}.csv", io.BytesIO(text))
    for log_id in leases.waiting():
        import_log(log_id)
    with unit_of_work():
        ready = [log for log in LogFile.select().where(LogFile.job == job) if log.state == "ready"]
    kept = sum(one.samples or 0 for one in ready)
    print(f"{len(ready)} logs, {kept:,} rows, written, sent and read in {time.perf_counter() - begun:.0f} s\n")
    client = signed_in()
    print("| page | first | again | KiB |\n|---|---|---|---|")
    for station in STATIONS:
        times, size = took(client, f"/jobs/{job.id}/rounds/1/{station}", 4)
        print(f"| `{station}` | {times[0]:.0f} | {min(times[1:]):.0f} | {size / 1024:.0f} |", flush=True)


def fill(user: User, wanted: int, each: int) -> None:
    """Copies of one job with copies of one log's row, made by the database."""
    with unit_of_work():
        job = jobs.create(user, "Driver 0", "Larkspur Tern", "", pike_base())
        first = jobs.rounds(job)[0]
    log, _ = uploads.receive(job, first, "drive-0.csv", io.BytesIO(write_log(drive(1), "csv")))
    assert import_log(log.id)
    with unit_of_work():
        kept = LogFile.get_by_id(log.id).__data__
    at = now()
    for number in range(1, wanted):
        with unit_of_work():
            made = jobs.create(user, f"Driver {number}", f"Larkspur Tern {number % 7}", "", pike_base())
            round_ = Round.get(Round.job == made)
            rows = [
                kept | {"id": None, "job": made.id, "round": round_.id, "name": f"pull {number:04}-{one}.csv",
                        "content_hash": f"{number}-{one}", "upload_key": None}
                for one in range(each)
            ]  # fmt: skip
            LogFile.insert_many([{key: value for key, value in row.items() if key != "id"} for row in rows]).execute()
            Job.update(moved_at=at - timedelta(minutes=number), closed=number % 10 != 0).where(
                Job.id == made.id
            ).execute()


def shop(user: User, wanted: int, each: int) -> None:
    """The lists of a shop with very many jobs."""
    begun = time.perf_counter()
    fill(user, wanted, each)
    with unit_of_work():
        count = LogFile.select().count()
        database.execute_sql("ANALYZE TABLE log_file, job")
    print(f"\n{wanted:,} jobs with {count:,} logs, made in {time.perf_counter() - begun:.0f} s\n")
    client = signed_in()
    print("| page | first | again | KiB |\n|---|---|---|---|")
    paths = [f"/?q={search}".replace(" ", "%20") for search in SEARCHES]
    for path in [*paths, "/?rest=100", "/shop/customers", "/shop/customers?q=17", "/shelf"]:
        times, size = took(client, path, 4)
        print(f"| `{path}` | {times[0]:.0f} | {min(times[1:]):.0f} | {size / 1024:.0f} |", flush=True)


def main(rows: int = ROWS, wanted: int = JOBS, each: int = LOGS_EACH) -> None:
    """Print both tables."""
    with own_database() as user:
        season(user, rows, LOGS)
        shop(user, wanted, each)


if __name__ == "__main__":
    main(*(int(one) for one in sys.argv[1:4]))
