"""A database for the length of a command: the one that runs, or one that is started for it and stopped again."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def at_database(*, to_migrate: bool = False) -> Iterator[None]:
    """Connected to the installation's database.

    Args:
        to_migrate: bring the schema up to date, rather than ask that it is.
    """
    from uchiwa.store import schema, server
    from uchiwa.store.database import connect_to, database

    ours = not server.running()
    try:
        connect_to(server.start())
        if to_migrate:
            schema.migrate()
        else:
            schema.check()
        yield
    finally:
        database.close_all()
        if ours:
            server.stop()
