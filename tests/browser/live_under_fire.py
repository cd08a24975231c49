"""Run as a program with UCHIWA_HOME set: a shop whose customer passes a drive on, and what was kept of it.

make            a shop with two jobs; prints the tokens of their customers' links
wait JOB FILE   waits until the session's log is ready, and compares it with the car's own rows, which the file has
"""

from __future__ import annotations

import json
import sys
import time
from pathlib import Path

import numpy as np

from uchiwa.standin.cars import pike_base
from uchiwa.store import accounts, jobs, links, live_sessions, samples
from uchiwa.store.database import connect_to, run_again, unit_of_work
from uchiwa.store.models import Job, LogFile
from uchiwa.store.place import Place


def make() -> None:
    """A shop with two jobs and their links."""
    with unit_of_work():
        shop = accounts.create_shop("Shop")
        user = accounts.create_user(shop, "tuner@example.org", "Tuner", "a long enough password")
        made = [jobs.create(user, f"Customer {number}", "Corvid Pike", "", pike_base()) for number in range(2)]
        print(json.dumps({job.id: links.make(job) for job in made}))


@run_again
def look(job_id: int) -> LogFile | None:
    with unit_of_work():
        session = live_sessions.latest_of(Job.get_by_id(job_id))
        return session.log if session is not None else None


def wait(job_id: int, path: str) -> None:
    """What there is of the log when it is ready."""
    deadline = time.monotonic() + 120
    while (log := look(job_id)) is None or log.state != "ready":
        if time.monotonic() > deadline:
            raise SystemExit(f"the log is still {log.state if log else 'away'}")
        time.sleep(0.3)
    with unit_of_work():
        kept = samples.read_whole(log)
    rows = np.array(json.loads(Path(path).read_text()))
    named = [channel.values for channel in kept.rasters[0].channels]
    same = kept.rasters[0].time.tolist() == (rows[:, 0] - rows[0, 0]).tolist()
    same = same and all(np.array_equal(values, rows[:, place]) for place, values in enumerate(named, start=1))
    print(json.dumps({"same": bool(same), "rows": int(kept.rasters[0].time.size), "channels": len(named)}))


if __name__ == "__main__":
    connect_to(Place.load())
    {"make": make, "wait": lambda: wait(int(sys.argv[2]), sys.argv[3])}[sys.argv[1]]()
