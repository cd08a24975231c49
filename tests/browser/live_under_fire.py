"""Steps in a served home: a shop whose customers pass drives on, and what was kept of them."""

from __future__ import annotations

import json
import time
from pathlib import Path

import numpy as np

from uchiwa.standin.cars import pike_base
from uchiwa.store import accounts, jobs, links, live_sessions, samples
from uchiwa.store.database import run_again, unit_of_work
from uchiwa.store.models import Job, LogFile


def make() -> dict[int, str]:
    """A shop with two jobs, and the tokens of their customers' links."""
    with unit_of_work():
        shop = accounts.create_shop("Shop")
        user = accounts.create_user(shop, "tuner@example.org", "Tuner", "a long enough password")
        made = [jobs.create(user, f"Customer {number}", "Corvid Pike", "", pike_base()) for number in range(2)]
        return {job.id: links.make(job) for job in made}


@run_again
def look(job_id: int) -> LogFile | None:
    with unit_of_work():
        session = live_sessions.latest_of(Job.get_by_id(job_id))
        return session.log if session is not None else None


def wait(job_id: int, path: str) -> dict[str, object]:
    """What there is of the session's log once it is ready, against the car's own rows, which the file has."""
    deadline = time.monotonic() + 120
    while (log := look(job_id)) is None or log.state != "ready":
        if time.monotonic() > deadline:
            raise AssertionError(f"the log is still {log.state if log else 'away'}")
        time.sleep(0.3)
    with unit_of_work():
        kept = samples.read_whole(log)
    rows = np.array(json.loads(Path(path).read_text()))
    named = [channel.values for channel in kept.rasters[0].channels]
    same = kept.rasters[0].time.tolist() == (rows[:, 0] - rows[0, 0]).tolist()
    same = same and all(np.array_equal(values, rows[:, place]) for place, values in enumerate(named, start=1))
    return {"same": bool(same), "rows": int(kept.rasters[0].time.size), "channels": len(named)}
