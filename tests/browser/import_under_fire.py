"""Steps in a served home: a shop with a large log, and a kill -9 in the middle of its import."""

from __future__ import annotations

import hashlib
import io
import os
import signal
import time

import numpy as np
import polars as pl
import pymysql

from bench.processes import by_kind
from uchiwa.core.logs.readers import read_recordings
from uchiwa.standin.cars import pike_base
from uchiwa.store import accounts, import_results, jobs, samples, uploads
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import LogFile

ROWS = 120_000


def content() -> bytes:
    """Most of an hour of a log with sixteen channels."""
    rng = np.random.default_rng(4)
    names = [
        "Engine speed [rpm]",
        "Intake pressure [kPa]",
        "Throttle [%]",
        *(f"Sensor {number} [V]" for number in range(13)),
    ]
    data = {"Time [s]": np.arange(ROWS) / 40}
    data |= {name: np.round(50 + 30 * np.sin(np.arange(ROWS) / 900) + rng.normal(0, 3, ROWS), 2) for name in names}
    stream = io.BytesIO()
    pl.DataFrame(data).write_csv(stream)
    return stream.getvalue()


def make(name: str) -> int:
    """A shop with a job and a stored log; the log's id."""
    with unit_of_work():
        shop = accounts.create_shop(name)
        user = accounts.create_user(shop, f"{name}@example.org", "Tuner", "a long enough password")
        job = jobs.create(user, "Customer", "Corvid Pike", "", pike_base())
        round_ = jobs.rounds(job)[0]
    log, _ = uploads.receive(job, round_, "long.csv", io.BytesIO(content()))
    return log.id


def look(log_id: int) -> LogFile:
    with unit_of_work():
        return LogFile.get_by_id(log_id)


def kill(what: str, log_id: int) -> int:
    """Kill the worker or the database while an import keeps its samples, at how many percent; one over too soon is done again."""
    (victim,) = (one.id for one in by_kind(os.environ["UCHIWA_HOME"])[what])
    deadline = time.monotonic() + 90
    seen = 0
    while time.monotonic() < deadline:
        log = look(log_id)
        if log.state == "ready":
            with unit_of_work():
                import_results.read_again([log])
        elif log.state == "importing" and log.reading and 30 <= log.percent < 100:
            os.kill(victim, signal.SIGKILL)
            return log.percent
        seen = max(seen, log.percent)
        time.sleep(0.02)
    raise AssertionError(f"the import never got half-way: {log.state}, {seen} %, reading {log.reading}")


def wait(log_id: int) -> dict[str, object]:
    """What there is of the log once it is ready."""
    deadline = time.monotonic() + 120
    while True:
        try:
            with unit_of_work():
                log = LogFile.get_by_id(log_id)
                state = log.state
        except Exception as error:
            if (
                not isinstance(error.__cause__, pymysql.MySQLError)
                and "MySQL" not in str(error)
                and "Lost" not in str(error)
            ):
                raise
            state = "database away"
        if state == "ready":
            break
        if time.monotonic() > deadline:
            raise AssertionError(f"the log is still {state}")
        time.sleep(0.3)
    with unit_of_work():
        kept = samples.read_whole(log)
        raw = hashlib.sha256(uploads.whole(log)).hexdigest()
    whole = read_recordings(content(), "long.csv")[0]
    same = all(
        np.array_equal(one.values, other.values)
        for one, other in zip(kept.rasters[0].channels, whole.rasters[0].channels, strict=True)
    )
    return {"same": same, "rows": int(kept.rasters[0].time.size), "raw": raw == log.content_hash}
