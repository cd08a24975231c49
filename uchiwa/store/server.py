"""The project's own MariaDB server: its own data folder, port and password, on loopback only."""

from __future__ import annotations

import contextlib
import os
import shutil
import signal
import subprocess
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import pymysql

from uchiwa.store.place import FIRST_PORT, Place, free_port, home, port_is_free

_PATIENCE_S = 60.0
_SYSTEM_PLACES = "/usr/sbin:/usr/libexec:/usr/local/sbin"


class ServerError(RuntimeError):
    """The database server could not be started or reached."""


def _program(name: str) -> str:
    found = shutil.which(name) or shutil.which(name, path=_SYSTEM_PLACES)
    if found is None:
        raise ServerError(f"{name} is not installed: run setup/system-packages, which installs mariadb-server-core")
    return found


def _data() -> Path:
    return home() / "mariadb"


def _pid_file() -> Path:
    return home() / "mariadb.pid"


def _as_user() -> list[str]:
    return ["--user=root"] if os.geteuid() == 0 else []


def _pid() -> int | None:
    try:
        pid = int(_pid_file().read_text())
        command = Path(f"/proc/{pid}/cmdline").read_bytes()
    except (OSError, ValueError):
        return None
    return pid if str(_data()).encode() in command else None


def reachable(place: Place) -> bool:
    """Whether the server answers with our password."""
    try:
        pymysql.connect(
            host=place.host, port=place.port, user=place.user, password=place.password, connect_timeout=2
        ).close()
    except pymysql.MySQLError:
        return False
    return True


def _temporary() -> Path:
    """A folder for the server's temporary tables: a server that starts clears those of any other in the same one."""
    folder = home() / "temporary"
    folder.mkdir(parents=True, exist_ok=True)
    return folder


def _install() -> None:
    """Make the data folder; afterwards only this machine's owner of the folder can come in, over its socket."""
    home().mkdir(parents=True, exist_ok=True)
    done = subprocess.run(
        [
            _program("mariadb-install-db"),
            "--no-defaults",
            f"--datadir={_data()}",
            f"--tmpdir={_temporary()}",
            "--auth-root-authentication-method=normal",
            "--skip-test-db",
            *_as_user(),
        ],
        capture_output=True,
        text=True,
        check=False,
    )
    if done.returncode != 0:
        shutil.rmtree(_data(), ignore_errors=True)
        raise ServerError(f"the database's data folder could not be made: {done.stderr.strip()[-300:]}")


def _first_accounts(socket_path: str, place: Place) -> None:
    """Lock root in and make the application's account and database, over the socket."""
    connection = pymysql.connect(unix_socket=socket_path, user="root", password="")
    with connection, connection.cursor() as cursor:
        cursor.execute(
            f"CREATE DATABASE IF NOT EXISTS `{place.database}` CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci"
        )
        for host in ("127.0.0.1", "localhost"):
            cursor.execute("CREATE OR REPLACE USER %s@%s IDENTIFIED BY %s", (place.user, host, place.password))
            cursor.execute(f"GRANT ALL PRIVILEGES ON `{place.database}`.* TO %s@%s", (place.user, host))
        cursor.execute("ALTER USER root@localhost IDENTIFIED BY %s", (place.password,))


def start() -> Place:
    """Start the server if it is not running; the first time, make its data folder and accounts.

    Raises:
        ServerError: it cannot be started; the message says why.
    """
    place = Place.load() or Place.make()
    if _pid() is not None and reachable(place):
        return place
    first = not (_data() / "mysql").exists()
    if first:
        _install()
    if not port_is_free(place.port):
        place = replace(place, port=free_port(FIRST_PORT))
        place.save()
    # A socket's path may have 107 bytes at most, and a project can lie deeper than that.
    with tempfile.TemporaryDirectory(prefix="uchiwa-db-") as folder:
        socket_path = f"{folder}/s"
        log = (home() / "mariadb.log").open("ab")
        process = subprocess.Popen(
            [
                _program("mariadbd"),
                "--no-defaults",
                f"--datadir={_data()}",
                f"--tmpdir={_temporary()}",
                f"--port={place.port}",
                "--bind-address=127.0.0.1",
                f"--socket={socket_path}",
                f"--pid-file={_pid_file()}",
                "--skip-name-resolve=0",
                "--character-set-server=utf8mb4",
                "--collation-server=utf8mb4_unicode_ci",
                "--max-allowed-packet=64M",
                "--innodb-buffer-pool-size=512M",
                "--innodb-log-file-size=512M",
                "--innodb-log-buffer-size=64M",
                "--skip-log-bin",
                *(["--innodb-flush-log-at-trx-commit=0"] if os.environ.get("UCHIWA_DB_FAST") else []),
                *_as_user(),
            ],
            stdout=log,
            stderr=log,
            stdin=subprocess.DEVNULL,
            start_new_session=True,
        )
        log.close()
        deadline = time.monotonic() + _PATIENCE_S
        while time.monotonic() < deadline:
            if process.poll() is not None:
                raise ServerError(f"the database server stopped at once: see {home() / 'mariadb.log'}")
            if first and Path(socket_path).exists():
                try:
                    _first_accounts(socket_path, place)
                    first = False
                except pymysql.MySQLError:
                    time.sleep(0.1)
            if not first and reachable(place):
                return place
            time.sleep(0.1)
    raise ServerError(f"the database server did not answer within {_PATIENCE_S:.0f} s: see {home() / 'mariadb.log'}")


def running() -> bool:
    """Whether our server runs and answers."""
    place = Place.load()
    return place is not None and _pid() is not None and reachable(place)


def stop() -> bool:
    """Stop the server, waiting for it; whether there was one to stop."""
    pid = _pid()
    if pid is None:
        return False
    os.kill(pid, signal.SIGTERM)
    deadline = time.monotonic() + _PATIENCE_S
    while _pid() is not None and time.monotonic() < deadline:
        with contextlib.suppress(ChildProcessError):
            os.waitpid(pid, os.WNOHANG)
        time.sleep(0.1)
    return True
