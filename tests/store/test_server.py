"""The database server: who may come in, and when another one is started."""

from __future__ import annotations

import contextlib
import os
import signal
import socket
import subprocess
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pymysql
import pytest

from tests.ports import own
from tests.store.listening import until_listening
from uchiwa.serve import Watch
from uchiwa.store import server, server_accounts
from uchiwa.store.database import Pool
from uchiwa.store.place import Place, free_port


@pytest.fixture
def home(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Path]:
    """A server's folder of its own; whatever runs on it is stopped in the end."""
    monkeypatch.setenv("UCHIWA_HOME", str(tmp_path / "home"))
    monkeypatch.setenv("UCHIWA_DB_PORT", str(free_port(own(8571))))
    yield tmp_path / "home"
    server.stop()


def accounts_of(home: Path, place: Place) -> dict[tuple[str, str], str]:
    """All accounts with how they come in, asked as the folder's owner over a socket: a start with none of our own."""
    server.stop()
    socket_path = f"/tmp/uchiwa-{os.getpid()}.s"
    process = subprocess.Popen(
        [server._program("mariadbd"), "--no-defaults", f"--datadir={home}/mariadb", "--skip-grant-tables",
         "--skip-networking", f"--socket={socket_path}", *server._as_user()],
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    try:
        until_listening(socket_path, process)
        with pymysql.connect(unix_socket=socket_path, user="root") as connection, connection.cursor() as cursor:
            cursor.execute("SELECT User, Host, JSON_VALUE(Priv, '$.plugin') FROM mysql.global_priv")
            return {(user, host): plugin for user, host, plugin in cursor.fetchall()}
    finally:
        process.terminate()
        process.wait(60)


def test_only_the_application_and_the_folder_s_owner_have_an_account(home):
    place = server.start()
    with contextlib.suppress(pymysql.MySQLError):
        pymysql.connect(host="127.0.0.1", port=place.port, user="root", password="")
        pytest.fail("root came in without a password")
    connection = pymysql.connect(
        host="127.0.0.1", port=place.port, user=place.user, password=place.password, database=place.database
    )
    with connection, connection.cursor() as cursor:
        cursor.execute("SELECT @@secure_file_priv, @@local_infile, @@skip_name_resolve, @@bind_address")
        folder, infile, unresolved, address = cursor.fetchone()
        assert (infile, unresolved, address) == (0, 1, "127.0.0.1")
        assert Path(folder).is_dir()
        assert list(Path(folder).iterdir()) == []
        cursor.execute("SHOW GRANTS")
        grants = " ".join(row[0] for row in cursor.fetchall())
        assert "ALL PRIVILEGES" not in grants
        assert "GRANT USAGE ON *.*" in grants
        assert "GRANT OPTION" not in grants
        for statement in (
            "SELECT * FROM mysql.global_priv",
            "CREATE DATABASE other",
            "SELECT 1 INTO OUTFILE '/tmp/uchiwa-out'",
            "SET GLOBAL max_connections = 3",
            "CREATE USER guest",
        ):
            with pytest.raises(pymysql.MySQLError):
                cursor.execute(statement)
    found = accounts_of(home, place)
    people = {account: plugin for account, plugin in found.items() if account[0] not in ("mariadb.sys", "PUBLIC")}
    assert people == {(place.user, "127.0.0.1"): "mysql_native_password", (server._owner(), "localhost"): "unix_socket"}


def test_the_application_never_lacks_its_rights_while_accounts_are_put_right(home, monkeypatch):
    place = server.start()
    server.stop()
    came_in: list[bool] = []
    as_keeper = server_accounts._as_keeper

    class Watched(pymysql.cursors.Cursor):
        """After each statement somebody comes in as the application."""

        def execute(self, *given):
            done = super().execute(*given)
            pymysql.connect(
                host=place.host, port=place.port, user=place.user, password=place.password, database=place.database
            ).close()
            came_in.append(True)
            return done

    def watched(*given):
        connection = as_keeper(*given)
        connection.cursorclass = Watched
        return connection

    monkeypatch.setattr(server_accounts, "_as_keeper", watched)
    assert server.start() == place
    assert len(came_in) > 5


def test_a_folder_from_before_is_put_right_at_its_next_start(home):
    place = server.start()
    server.stop()
    socket_path = f"/tmp/uchiwa-{os.getpid()}.s"
    process = subprocess.Popen(
        [server._program("mariadbd"), "--no-defaults", f"--datadir={home}/mariadb", "--skip-networking",
         f"--socket={socket_path}", *server._as_user()],
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    until_listening(socket_path, process)
    with (
        pymysql.connect(unix_socket=socket_path, user=server._owner(), ssl_disabled=True) as connection,
        connection.cursor() as cursor,
    ):
        for host in (socket.gethostname(), "127.0.0.1", "::1"):
            cursor.execute("CREATE USER root@%s", (host,))
            cursor.execute("GRANT ALL PRIVILEGES ON *.* TO root@%s", (host,))
        cursor.execute("CREATE USER ''@localhost")
        cursor.execute("GRANT FILE ON *.* TO %s@'127.0.0.1'", (place.user,))
    process.terminate()
    process.wait(60)
    assert server.start() == place
    with (
        pymysql.connect(
            host="127.0.0.1", port=place.port, user=place.user, password=place.password, database=place.database
        ) as connection,
        connection.cursor() as cursor,
    ):
        cursor.execute("SHOW GRANTS")
        assert "FILE" not in " ".join(row[0] for row in cursor.fetchall())
    found = accounts_of(home, place)
    assert {user for user, _ in found} <= {place.user, server._owner(), "mariadb.sys", "PUBLIC"}
    assert ("root", "127.0.0.1") not in found


def connections_of(place: Place, number: int) -> list[pymysql.Connection]:
    """All connections that the server has to give."""
    held = []
    with contextlib.suppress(pymysql.MySQLError):
        for _ in range(number):
            held.append(
                pymysql.connect(
                    host=place.host, port=place.port, user=place.user, password=place.password, ssl_disabled=True
                )
            )
    return held


class _NoWorker:
    """Stands in for the worker's process, which is not what is looked at here."""

    def is_alive(self) -> bool:
        return True


def test_a_busy_server_is_left_alone_and_a_dead_one_started_again_where_it_was(home):
    place = server.start()
    first = server.process_id()
    held = connections_of(place, 300)
    assert server.state() is server.State.BUSY
    watch = Watch(_NoWorker())
    watch.start()
    try:
        time.sleep(4)
        assert server.process_id() == first
        assert Place.load() == place
        for one in held:
            one.close()
        deadline = time.monotonic() + 30
        while server.state() is not server.State.WELL:
            assert time.monotonic() < deadline
            time.sleep(0.1)
        os.kill(first, signal.SIGKILL)
        while server.state() is not server.State.WELL or server.process_id() == first:
            assert time.monotonic() < deadline + 60
            time.sleep(0.1)
        assert Place.load() == place
    finally:
        watch.stop()


def test_many_who_start_it_at_once_start_one(home):
    found: list[Place] = []
    threads = [threading.Thread(target=lambda: found.append(server.start())) for _ in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(found) == 4
    assert len(set(found)) == 1
    mark = f"--datadir={home}/mariadb".encode()
    running = [one for one in Path("/proc").glob("[0-9]*/cmdline") if mark in one.read_bytes()]
    assert len(running) == 1


def test_a_configured_port_is_kept_and_another_is_chosen_only_by_itself(home, monkeypatch):
    place = server.start()
    server.stop()
    with socket.socket() as stranger:
        stranger.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        stranger.bind(("127.0.0.1", place.port))
        stranger.listen()
        with pytest.raises(server.ServerError, match="UCHIWA_DB_PORT is taken"):
            server.start()
        assert Place.load() == place
        monkeypatch.delenv("UCHIWA_DB_PORT")
        moved = server.start()
        assert moved.port != place.port
    pool = Pool()
    pool.init(place.database, host=place.host, port=place.port, user=place.user, password=place.password)
    with pool.connection_context():
        assert pool.execute_sql("SELECT @@port").fetchone() == (moved.port,)
    pool.close_all()
