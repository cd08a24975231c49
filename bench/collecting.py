"""How long a large log takes from file to ready, and how much memory: against polars on the same file."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import polars as pl

ROWS, COLUMNS = 1_000_000, 20

_CHILD = """
import json, resource, sys, threading, time
sys.path.insert(0, {root!r})
import uchiwa
def resident():
    return int(open("/proc/self/statm").read().split()[1]) * resource.getpagesize()
peak, over = 0, False
def watch():
    global peak
    while not over:
        peak = max(peak, resident()); time.sleep(0.004)
from bench.collecting import {task}, warm_up
if "{task}" != "by_polars":
    warm_up("a.csv")
thread = threading.Thread(target=watch, daemon=True)
took = []
for number in range({times}):
    before = resident()
    if number == 0:
        thread.start()
    began = time.perf_counter()
    {task}({path!r})
    took.append(time.perf_counter() - began)
    if number == 0:
        first = peak - before
over = True
print(json.dumps([sorted(took)[len(took) // 2] * 1000, first]))
"""


def write(path: Path) -> int:
    """A log of 1,000,000 rows and 20 columns as loggers write them; its size in bytes."""
    rng = np.random.default_rng(1)
    time_ = np.arange(ROWS) / 100
    names = [
        "RPM [rpm]", "MAP [kPa]", "TPS [%]", "ECT [degC]", "IAT [degC]", "Lambda [1]", "Lambda target [1]", "STFT [%]",
        "LTFT [%]", "Spark advance [deg]", "Baro [kPa]", "Vehicle speed [km/h]", "Battery [V]", "Pulse width [ms]",
        "Injector duty [%]", "Gear [1]", "Closed loop [1]", "Knock retard [deg]", "Fuel pressure [kPa]",
    ]  # fmt: skip
    centre = [2600, 60, 25, 88, 30, 1.0, 1.0, 1, 1, 25, 99, 70, 13.9, 5, 20, 3, 1, 0.4, 300]
    swing = [1500, 30, 20, 3, 5, 0.05, 0.03, 4, 2, 9, 0.2, 40, 0.1, 3, 15, 1, 0, 0.4, 10]
    data = {"Time [s]": time_}
    for number, name in enumerate(names):
        values = centre[number] + swing[number] * (np.sin(time_ / (7 + number)) + 0.01 * rng.normal(size=ROWS))
        digits = 3 if "Lambda" in name or "Pulse" in name else 0 if "RPM" in name or "Gear" in name else 2
        if name.startswith(("Gear", "Closed")):
            values = centre[number] + swing[number] * np.sin(time_ / 40)
        data[name] = np.round(values, digits)
    pl.DataFrame(data).write_csv(path)
    return path.stat().st_size


def by_polars(path: str) -> None:
    """The measure."""
    pl.read_csv(path)


def to_log(path: str) -> None:
    """Bytes to a recognised Log."""
    from uchiwa.core.logs.readers import read_recordings

    read_recordings(Path(path).read_bytes(), "bench.csv")


def warm_up(path: str) -> None:
    """Load what a worker has loaded before a log comes."""
    from uchiwa.core.logs.readers import read_recordings
    from uchiwa.services import importing

    assert importing
    read_recordings(b"time,rpm\n0,1\n1,2\n", path)


def to_ready(path: str) -> None:
    """Upload, import, checks and samples: until the log can be worked with. A fresh job each time."""
    from uchiwa.services.importing import read_and_check
    from uchiwa.standin.cars import pike_base
    from uchiwa.store import jobs, leases, uploads
    from uchiwa.store.database import connect_to, database, unit_of_work
    from uchiwa.store.models import LogFile, User
    from uchiwa.store.place import Place

    if database.database is None:
        place = Place.load()
        assert place is not None
        connect_to(place)
    with unit_of_work():
        job = jobs.create(User.get(), "Customer", "Car", "", pike_base())
        with Path(path).open("rb") as stream:
            log, _ = uploads.receive(job, jobs.rounds(job)[0], "bench.csv", stream)
    claimed = leases.claim(log.id)
    assert claimed is not None
    read_and_check(claimed)
    with unit_of_work():
        assert LogFile.get_by_id(log.id).state == "ready", LogFile.get_by_id(log.id).message


def _measured(task: str, path: Path, times: int) -> tuple[float, float]:
    """Median milliseconds and the peak of memory above the start, MB, in a process of its own."""
    root = str(Path(__file__).parents[1])
    code = _CHILD.format(root=root, task=task, path=str(path), times=times)
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    import json

    milliseconds, memory = json.loads(done.stdout)
    return milliseconds, memory / 1e6


def rows() -> list[tuple[str, float, str]]:
    """The table's rows."""
    from uchiwa.store import accounts, server
    from uchiwa.store.database import connect_to, database, unit_of_work
    from uchiwa.store.schema import migrate

    with tempfile.TemporaryDirectory(prefix="uchiwa-bench-") as folder:
        os.environ["UCHIWA_HOME"] = folder
        os.environ.pop("UCHIWA_DB_FAST", None)
        os.environ.setdefault("UCHIWA_DB_PORT", "8661")
        path = Path(folder) / "bench.csv"
        size = write(path) / 1e6
        connect_to(server.start())
        try:
            migrate()
            with unit_of_work():
                accounts.create_user(
                    accounts.create_shop("Bench"), "bench@example.org", "Bench", "a long enough password"
                )
            polars, _ = _measured("by_polars", path, 5)
            log, log_memory = _measured("to_log", path, 5)
            ready, ready_memory = _measured("to_ready", path, 3)
        finally:
            database.close_all()
            server.stop()
            time.sleep(0.2)
    return [
        (f"text to Log, {ROWS:,} × {COLUMNS}, {size:.0f} MB", log, f"{log / polars:.1f}× polars read_csv, peak {log_memory / size:.1f}× the file"),
        ("upload to ready, the same file", ready, f"{ready / polars:.1f}× polars read_csv, peak {ready_memory / size:.1f}× the file"),
        ("  polars read_csv", polars, ""),
    ]  # fmt: skip
