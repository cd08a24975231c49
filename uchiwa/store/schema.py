"""The schema: brought up to date by the migrations, from wherever an earlier run was interrupted."""

from __future__ import annotations

from pathlib import Path

from playhouse.migrations import Runner

from uchiwa.store.database import database, run_again

MIGRATIONS = Path(__file__).parent / "migrations"
_LOCK = "uchiwa-migrate"
_WAIT_S = 120


class SchemaError(RuntimeError):
    """The schema cannot be used by this version."""


@run_again
def migrate() -> list[str]:
    """Bring the schema up to date, one process at a time; the names of the migrations applied.

    A migration counts once all of it is done. Its statements do nothing where they have been run before, so that one
    that was interrupted is simply run again.

    Raises:
        SchemaError: a newer version has changed the schema, or another process does not come to an end with it.
    """
    with database.connection_context():
        got = database.execute_sql("SELECT GET_LOCK(%s, %s)", (_LOCK, _WAIT_S)).fetchone()
        if not got or got[0] != 1:
            raise SchemaError("another process is changing the schema and does not come to an end: look at it first")
        try:
            runner = Runner(database, str(MIGRATIONS))
            before = set(runner.applied())
            _refuse_newer(before, {migration.name for migration in runner.migrations()})
            runner.up()
            return sorted(str(name) for name in set(runner.applied()) - before)
        finally:
            database.execute_sql("SELECT RELEASE_LOCK(%s)", (_LOCK,))


def applied_migrations() -> list[str]:
    """The migrations that the database has had, in order."""
    with database.connection_context():
        return sorted(str(name) for name in Runner(database, str(MIGRATIONS)).applied())


def check() -> None:
    """Raises SchemaError unless the schema is the one that this version knows."""
    with database.connection_context():
        runner = Runner(database, str(MIGRATIONS))
        applied, known = set(runner.applied()), {migration.name for migration in runner.migrations()}
    _refuse_newer(applied, known)
    if applied < known:
        raise SchemaError("the schema is older than this version of Uchiwa: run uchiwa db migrate first")


def _refuse_newer(applied: set[str], known: set[str]) -> None:
    unknown = sorted(applied - known)
    if unknown:
        raise SchemaError(
            f"the database was changed by a newer version of Uchiwa ({unknown[-1]}): run that version, or restore a backup"
        )
