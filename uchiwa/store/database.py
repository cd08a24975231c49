"""The connection to MariaDB, one per thread out of a pool, and transactions that can run again."""

from __future__ import annotations

import functools
import random
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any, ParamSpec, TypeVar

import pymysql
from peewee import PeeweeException
from playhouse.pool import MaxConnectionsExceeded, PooledMySQLDatabase
from pymysql.constants import SERVER_STATUS

from uchiwa.store import keys
from uchiwa.store.database_tls import encryption
from uchiwa.store.described import DescribedDatabase
from uchiwa.store.place import Place

THREADS = 12
"""Threads of one process that may want a connection at once; the pool has one for each, and some for the rest."""
_CONNECTIONS = THREADS + 8
_WAIT_FOR_CONNECTION_S = 20
_FRESH_S = 2.0

_DEADLOCK, _LOCK_TIMEOUT = 1213, 1205
_CONNECTION_LOST = frozenset({2006, 2013, 2055, 1927, 1053, 1080, 1152, 1158, 1159, 1160, 1161})
_NOT_REACHED = frozenset({2003, 2002, 1040, 1203, 1047})
"""Refused connections, too many of them, and a node of a cluster that is not ready."""

_NO_ROOM = frozenset({1114, 1021, 1030, 3})
"""A table or the disk is full; the storage engine met an error of the system."""
_NOT_IN_THE_CLUSTER = 1047
_TRIES = 12
_PATIENCE_S = 12.0
_FIRST_PAUSE_S, _LONGEST_PAUSE_S = 0.02, 1.0

Asked = ParamSpec("Asked")
Found = TypeVar("Found")


class Pool(PooledMySQLDatabase, DescribedDatabase):
    """Connections that find the server again when it has moved, and know whether their thread has written."""

    def __init__(self) -> None:
        super().__init__(None)  # type: ignore[no-untyped-call]
        self.mine = _PerThread()
        self.clustered = False

    def _connect(self) -> Any:
        """A connection to the node it used last, else to any other that takes one."""
        try:
            return self._ready(super()._connect())
        except pymysql.err.OperationalError:
            place = Place.load()
            for host, port in self._elsewhere(place):
                self.connect_params |= {"host": host, "port": port, "password": place.password if place else ""}
                try:
                    return self._ready(super()._connect())
                except pymysql.err.OperationalError:
                    continue
            raise

    def _ready(self, connection: Any) -> Any:
        """A connection, if its node can be worked with: one that has lost the others of its cluster cannot."""
        if self.clustered:
            try:
                with connection.cursor() as cursor:
                    cursor.execute("SHOW STATUS LIKE 'wsrep_ready'")
                    found = cursor.fetchone()
            except pymysql.MySQLError:
                connection.close()
                raise
            if found and found[1] != "ON":
                connection.close()
                raise pymysql.err.OperationalError(_NOT_IN_THE_CLUSTER, "this node has lost its cluster")
        return connection

    def _is_closed(self, conn: Any) -> bool:
        """Whether a connection is of no use any more; one that was used a moment ago is not asked.

        Should its server have gone in that moment, the statement fails, and the act is run again.
        """
        if time.monotonic() - getattr(conn, "returned_at", 0.0) < _FRESH_S:
            return False
        return bool(super()._is_closed(conn))  # type: ignore[no-untyped-call]

    def _can_reuse(self, conn: Any) -> bool:
        """Whether a connection can be handed on; a transaction that was left open is rolled back."""
        try:
            if conn.server_status & SERVER_STATUS.SERVER_STATUS_IN_TRANS:
                conn.rollback()
        except Exception:
            return False
        conn.returned_at = time.monotonic()
        return True

    def _elsewhere(self, place: Place | None) -> list[tuple[str, int]]:
        """The other nodes, in an order of their own for each process; of a single server, where it has moved to."""
        here = (self.connect_params.get("host"), self.connect_params.get("port"))
        found = [node for node in (place.nodes if place is not None else ()) if node != here]
        random.shuffle(found)
        return found

    def execute_sql(self, sql: str, params: Any = None, **more: Any) -> Any:
        """Run a statement, noting whether it may have changed something."""
        if not sql.lstrip("( ")[:6].upper().startswith(("SELECT", "SHOW", "SET")):
            self.mine.wrote = True
        return super().execute_sql(sql, params, **more)  # type: ignore[no-untyped-call]


class _PerThread(threading.local):
    """What a thread's run has done so far."""

    wrote = False
    committed = False
    running = False


database = Pool()


def connect_to(place: Place) -> None:
    """Point the pool at a server, and know its installation's secrets; connections are opened when first needed."""
    keys.use(*place.secrets)
    if not database.deferred:
        database.close_all()
    database.clustered = len(place.nodes) > 1
    database.init(
        place.database,
        host=place.host,
        port=place.port,
        user=place.user,
        password=place.password,
        charset="utf8mb4",
        max_connections=_CONNECTIONS,
        stale_timeout=300,
        timeout=_WAIT_FOR_CONNECTION_S,
        connect_timeout=5,
        read_timeout=120,
        write_timeout=120,
        **encryption(place),
        init_command="SET SESSION sql_mode='TRADITIONAL', time_zone='+00:00', innodb_lock_wait_timeout=8",
    )


@contextmanager
def unit_of_work() -> Iterator[None]:
    """A connection and one transaction on it: all of it happens, or none. Nested, it is part of the outer one.

    A body cannot be run again by what it stands in: an act that writes is wrapped in `run_again`, as every route is.
    """
    if database.in_transaction():
        with database.atomic():
            yield
        return
    if not database.is_closed():
        with _outermost():
            yield
        return
    try:
        with database.connection_context(), _outermost():
            yield
    except BaseException as error:
        if is_lost(error):
            database.close_idle()
        raise


@contextmanager
def connected() -> Iterator[None]:
    """A connection, and no transaction: for one statement that reads, which needs neither a beginning nor an end."""
    if not database.is_closed():
        yield
        return
    try:
        with database.connection_context():
            yield
    except BaseException as error:
        if is_lost(error):
            database.close_idle()
        raise


@contextmanager
def _outermost() -> Iterator[None]:
    mine = database.mine
    mine.wrote = False
    try:
        with database.atomic():
            yield
    except Exception as error:
        stopped = told_to_stop(error)
        if stopped is not None:
            raise stopped from None
        raise
    if mine.wrote:
        mine.committed = True


def told_to_stop(error: BaseException) -> BaseException | None:
    """What told this process to stop, where an error came of it: a Ctrl-C breaks the connection, and so the rollback fails."""
    earlier = error.__context__
    while earlier is not None and not isinstance(earlier, (KeyboardInterrupt, SystemExit)):
        earlier = earlier.__context__
    return earlier


def code_of(error: BaseException) -> int:
    """MariaDB's number of an error, or 0."""
    first = error.args[0] if error.args else 0
    return first if isinstance(first, int) else 0


def is_lost(error: BaseException) -> bool:
    """Whether a connection broke, or none could be had."""
    if isinstance(error, MaxConnectionsExceeded):
        return True
    if not isinstance(error, (PeeweeException, pymysql.MySQLError)):
        return False
    code = code_of(error)
    closed = type(error).__name__ == "InterfaceError" and code == 0
    return closed or code in _CONNECTION_LOST or code in _NOT_REACHED


def has_no_room(error: BaseException) -> bool:
    """Whether the database could not write since its disk is full."""
    return isinstance(error, (PeeweeException, pymysql.MySQLError)) and code_of(error) in _NO_ROOM


def can_run_again(error: BaseException) -> bool:
    """Whether a transaction failed through no fault of its own: a deadlock, a lock not got, a connection lost."""
    if isinstance(error, (PeeweeException, pymysql.MySQLError)) and code_of(error) in (_DEADLOCK, _LOCK_TIMEOUT):
        return True
    return is_lost(error)


def run_again(act: Callable[Asked, Found], before: Callable[..., None] | None = None) -> Callable[Asked, Found]:
    """An act that is run from its beginning again when its transaction was lost before anything was committed.

    The pauses grow and are drawn at random; after a dozen tries or twelve seconds the error is raised. An act within
    an act is run again by the outermost, unless that has committed something already.

    Args:
        act: may be run any number of times until it has committed; each run does all of it.
        before: called with the act's arguments before it is run another time, to put back what a run has used up.
    """

    @functools.wraps(act)
    def run(*args: Asked.args, **kwargs: Asked.kwargs) -> Found:
        mine = database.mine
        if database.in_transaction() or (mine.running and not mine.committed):
            return act(*args, **kwargs)
        outer = mine.running
        deadline = time.monotonic() + _PATIENCE_S
        mine.running, mine.committed = True, False
        try:
            for attempt in range(_TRIES):
                try:
                    return act(*args, **kwargs)
                except Exception as error:
                    last = attempt == _TRIES - 1 or time.monotonic() > deadline
                    if last or mine.committed or not can_run_again(error):
                        raise
                    if is_lost(error):
                        database.close_idle()
                pause = min(_LONGEST_PAUSE_S, _FIRST_PAUSE_S * 2**attempt)
                time.sleep(pause * random.uniform(0.5, 1.5))  # noqa: S311 - to come apart, not to be secret
                if before is not None:
                    before(*args, **kwargs)
        finally:
            mine.running = outer
            mine.committed = mine.committed or outer
        raise AssertionError

    return run
