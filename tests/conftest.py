"""What all tests share: small tables and logs, and one database server for the whole run."""

from __future__ import annotations

import gc
import json
import os
import shutil
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pytest
from hypothesis import settings

from tests.kept import keep_drives
from tests.ports import own
from uchiwa.core.logs.log import Channel, Log, Raster
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.tables.table import Axis, Calibration, Constant, Table, frozen
from uchiwa.store.place import Place, free_port

gc.disable()  # until everything is loaded, which stays
os.environ.setdefault("UCHIWA_DB_FAST", "1")
keep_drives()
# Times belong in the bench, not in tests; and a run that decides whether a change lands must be repeatable.
settings.register_profile("uchiwa", deadline=None, derandomize=bool(os.environ.get("CI")))
settings.load_profile("uchiwa")


def make_table(values: list[list[float]], *, limits: tuple[float | None, float | None] = (0, 160)) -> Table:
    """A VE table over 1000/2000/3000 rpm and 40/80 kPa."""
    return Table(
        "ve_main",
        "Volumetric efficiency",
        "volumetric_efficiency",
        "%",
        Axis("engine_speed", "rpm", frozen([1000, 2000, 3000])),
        Axis("manifold_pressure", "kPa", frozen([40, 80])),
        frozen(values),
        limits[0],
        limits[1],
        1,
    )


def make_log(rate: float = 20.0, name: str = "drive.csv", **signals: object) -> Log:
    """A recognised log of some quantities; numbers stand for constant signals."""
    size = max((len(value) for value in signals.values() if isinstance(value, (list, np.ndarray))), default=100)
    channels = tuple(
        Channel(
            quantity,
            QUANTITIES[quantity].unit,
            np.broadcast_to(np.asarray(value, dtype=float), (size,)).copy(),
            quantity,
        )
        for quantity, value in signals.items()
    )
    return Log(name, (Raster(np.arange(size) / rate, channels),))


@pytest.fixture
def table() -> Table:
    """VE of 50 % everywhere."""
    return make_table([[50.0] * 3, [50.0] * 3])


@pytest.fixture
def calibration(table: Table) -> Calibration:
    """A calibration with one table."""
    constants = (Constant("displacement", "displacement", 2.0, "L"), Constant("cylinders", "cylinders", 4, "1"))
    return Calibration("demo", "Demo", constants, (table,))


@pytest.fixture
def steady() -> Callable[..., Log]:
    """Warm steady running at 2000 rpm and 40 kPa, unless said otherwise."""

    def make(size: int = 100, **changes: object) -> Log:
        signals: dict[str, object] = {
            "engine_speed": np.full(size, 2000.0),
            "manifold_pressure": 40.0,
            "throttle_position": 12.0,
            "coolant_temperature": 90.0,
            "lambda_measured": 1.0,
            "lambda_target": 1.0,
            "short_term_trim": 0.0,
            "long_term_trim": 0.0,
        }
        return make_log(**(signals | changes))

    return make


def place_in(cluster: str) -> Place:
    """A database of this worker's own in a cluster of `tests.cluster`, each worker beginning with another node."""
    told = json.loads(cluster)
    number = int(os.environ.get("PYTEST_XDIST_WORKER", "gw0").removeprefix("gw"))
    ports = told["ports"][number % len(told["ports"]) :] + told["ports"][: number % len(told["ports"])]
    nodes = [("127.0.0.1", port) for port in ports]
    return Place.elsewhere(nodes, told["user"], told["password"], f"{told['database']}_{number}")


@pytest.fixture(scope="session")
def database_home() -> Iterator[Path]:
    """A database server of the tests' own, in a folder of its own."""
    from argon2 import PasswordHasher

    from uchiwa.store import passwords, server
    from uchiwa.store.database import connect_to, database
    from uchiwa.store.schema import migrate

    # A hash of a password costs a tenth of a second, so that guessing does; every test makes one and asks for one.
    passwords._hasher = PasswordHasher(time_cost=1, memory_cost=8, parallelism=1)
    passwords.nobody.cache_clear()
    home = Path(tempfile.mkdtemp(prefix="uchiwa-test-"))
    before = {key: os.environ.get(key) for key in ("UCHIWA_HOME", "UCHIWA_DB_PORT")}
    os.environ["UCHIWA_HOME"] = str(home)
    os.environ["UCHIWA_DB_PORT"] = str(free_port(own(8561)))
    try:
        if cluster := os.environ.get("UCHIWA_TEST_CLUSTER"):
            place_in(cluster).save()
        connect_to(server.start())
        migrate()
        yield home
    finally:
        database.close_all()
        server.stop()
        for key, value in before.items():
            if value is None:
                os.environ.pop(key, None)
            else:
                os.environ[key] = value
        shutil.rmtree(home, ignore_errors=True)


@pytest.fixture
def clean_database(database_home: Path) -> Path:
    """The database with empty tables."""
    from uchiwa.store.database import database, unit_of_work
    from uchiwa.store.models import ALL

    with unit_of_work():
        database.execute_sql("SET FOREIGN_KEY_CHECKS=0")
        for model in ALL:
            database.execute_sql(f"DELETE FROM `{model._meta.table_name}`")
        database.execute_sql("SET FOREIGN_KEY_CHECKS=1")
    return database_home


def pytest_collection_finish() -> None:
    """What is loaded by now stays: the collector need not look through it again and again, a twelfth of the time of the tests."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(50_000, 20, 50)
    gc.enable()


OWN_SERVERS = ("test_demo", "test_live_under_fire", "test_serving", "test_first_run", "test_server")
"""Modules that start servers of their own and wait for them most of their time."""


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """One worker begins with the servers, another with the pages in a browser, which share one server; the rest is shared.

    So the long tests are not begun last, and no two of them wait for each other's servers.
    """
    workers = int(os.environ.get("PYTEST_XDIST_WORKER_COUNT", "1"))
    own = [item for item in items if item.module.__name__.rpartition(".")[2] in OWN_SERVERS]
    pages = [item for item in items if item.module.__name__.startswith("tests.browser") and item not in own]
    if workers < 2 or len(items) < 4 * len(own + pages):
        return
    first = {page.nodeid for page in own + pages}
    rest = [item for item in items if item.nodeid not in first]
    size = len(items) // workers
    begun = [own, pages, *([] for _ in range(workers - 2))]
    items.clear()
    for number, part in enumerate(begun):
        count = len(rest) if number == workers - 1 else size - len(part)
        items += [*part, *rest[:count]]
        rest = rest[count:]
