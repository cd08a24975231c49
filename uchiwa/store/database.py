"""The connection to MariaDB, one per thread out of a pool."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from playhouse.migrations import Runner
from playhouse.pool import PooledMySQLDatabase

from uchiwa.store.place import Place

MIGRATIONS = Path(__file__).parent / "migrations"
_LOCK = "uchiwa-migrate"

database = PooledMySQLDatabase(None)


def connect_to(place: Place) -> None:
    """Point the pool at a server; connections are opened when first needed."""
    if not database.deferred:
        database.close_all()
    database.init(
        place.database,
        host=place.host,
        port=place.port,
        user=place.user,
        password=place.password,
        charset="utf8mb4",
        max_connections=32,
        stale_timeout=300,
        connect_timeout=5,
        init_command="SET SESSION sql_mode='TRADITIONAL', time_zone='+00:00', innodb_lock_wait_timeout=20",
    )


@contextmanager
def unit_of_work() -> Iterator[None]:
    """A connection and one transaction on it: all of it happens, or none. Nested, it is part of the outer one."""
    if not database.is_closed():
        with database.atomic():
            yield
        return
    with database.connection_context(), database.atomic():
        yield


def migrate() -> list[str]:
    """Bring the schema up to date, one process at a time; the names of the migrations applied."""
    with database.connection_context():
        database.execute_sql("SELECT GET_LOCK(%s, 60)", (_LOCK,))
        try:
            runner = Runner(database, str(MIGRATIONS))
            before = set(runner.applied())
            runner.up()
            return sorted(str(name) for name in set(runner.applied()) - before)
        finally:
            database.execute_sql("SELECT RELEASE_LOCK(%s)", (_LOCK,))
