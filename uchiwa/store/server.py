"""The project's own MariaDB server: its own data folder, port and password, on loopback only.

Whether it lives is told by its process, never by whether it answers: a server that has no connection to spare, or is
held up for a while, is busy, and a second one on the same folder would only do harm.
"""

from __future__ import annotations

import contextlib
import enum
import fcntl
import os
import shutil
import signal
import subprocess
import tempfile
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import pymysql

from uchiwa.settings import read_settings
from uchiwa.store.database_tls import encryption
from uchiwa.store.place import FIRST_PORT, Place, configured_port, free_port, home, port_is_free, private_home
from uchiwa.store.server_accounts import secure_accounts

_PATIENCE_S = 60.0
_SYSTEM_PLACES = "/usr/sbin:/usr/libexec:/usr/local/sbin"
_REFUSED = 1045


class ServerError(RuntimeError):
    """The database server could not be started or reached."""


class State(enum.Enum):
    """What the server is, as its process and its answer tell."""

    DEAD = "dead"
    BUSY = "busy"
    WELL = "well"


def _program(name: str) -> str:
    found = shutil.which(name) or shutil.which(name, path=_SYSTEM_PLACES)
    if found is None:
        raise ServerError(f"{name} is not installed: run setup/system-packages, which installs mariadb-server-core")
    return found


def _data() -> Path:
    return home() / "mariadb"


def _as_user() -> list[str]:
    return ["--user=root"] if os.geteuid() == 0 else []


def process_id() -> int | None:
    """The process that serves our data folder, found among all processes: a pid file may be missing or old."""
    mark = f"--datadir={_data()}".encode()
    for entry in Path("/proc").iterdir():
        if not entry.name.isdigit():
            continue
        try:
            words = (entry / "cmdline").read_bytes().split(b"\0")
        except OSError:
            continue
        if mark in words[1:] and Path(words[0].decode(errors="replace")).name == "mariadbd":
            return int(entry.name)
    return None


def _refusal(place: Place) -> pymysql.MySQLError | None:
    """Why the server does not take a connection of ours; None if it does."""
    try:
        pymysql.connect(
            host=place.host,
            port=place.port,
            user=place.user,
            password=place.password,
            connect_timeout=2,
            **encryption(place),
        ).close()
    except pymysql.MySQLError as error:
        return error
    return None


def reachable(place: Place) -> bool:
    """Whether the server answers with our password."""
    return _refusal(place) is None


def state() -> State:
    """Whether our server lives, and if so whether it answers."""
    place = Place.load()
    if place is None or process_id() is None:
        return State.DEAD
    return State.WELL if reachable(place) else State.BUSY


def _folder(name: str) -> Path:
    """A folder for the server alone: one that starts clears the temporary tables of any other in the same one."""
    folder = home() / name
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    return folder


def _private(path: str, flags: int) -> int:
    return os.open(path, flags, 0o600)


@contextlib.contextmanager
def _alone() -> Iterator[None]:
    """Held by whoever starts or stops the server; the lock goes with its process, however that ends."""
    private_home()
    with (home() / "server.lock").open("a") as file:
        fcntl.flock(file, fcntl.LOCK_EX)
        yield


def _install() -> None:
    """Make the data folder whole or not at all; its owner is let in over the socket, and nobody else."""
    private_home()
    unfinished = home() / "mariadb.unfinished"
    shutil.rmtree(unfinished, ignore_errors=True)
    done = subprocess.run(
        [
            _program("mariadb-install-db"),
            "--no-defaults",
            f"--datadir={unfinished}",
            f"--tmpdir={_folder('temporary')}",
            "--auth-root-authentication-method=socket",
            f"--auth-root-socket-user={_owner()}",
            "--skip-name-resolve",
            "--skip-test-db",
            *_as_user(),
        ],
        capture_output=True,
        text=True,
        check=False,
    )
    if done.returncode != 0:
        shutil.rmtree(unfinished, ignore_errors=True)
        raise ServerError(f"the database's data folder could not be made: {done.stderr.strip()[-300:]}")
    shutil.rmtree(_data(), ignore_errors=True)
    unfinished.rename(_data())


def _owner() -> str:
    """The name by which the operating system knows us, and so the server on its socket."""
    import pwd

    return pwd.getpwuid(os.geteuid()).pw_name


def start() -> Place:
    """Start the server if its process does not live; the first time, make its data folder and accounts.

    A living server is waited for, never joined by a second one.

    Raises:
        ServerError: it cannot be started, or does not answer; the message says why and what to do.
    """
    place = Place.load()
    if place is not None and not place.ours:
        return _elsewhere(place)
    if place is not None and process_id() is not None and reachable(place):
        return place
    with _alone():
        place = Place.load() or Place.make()
        if process_id() is None:
            return _start_process(_on_free_port(place))
        return _wait_for(place)


def _elsewhere(place: Place) -> Place:
    """The place of a database that somebody else looks after, once one of its nodes answers.

    Raises:
        ServerError: none does.
    """
    refusals = [_refusal(replace(place, host=host, port=port)) for host, port in place.nodes]
    if all(refusals):
        told = ", ".join(f"{host}:{port}" for host, port in place.nodes)
        raise ServerError(f"the database at {told} does not take a connection: {refusals[0]}")
    return place


def looked_after_here() -> bool:
    """Whether the server is started and stopped here."""
    place = Place.load()
    return place is None or place.ours


def _on_free_port(place: Place) -> Place:
    """The place on the port that is configured, or on its own, or, if that is taken by a stranger, on another.

    Raises:
        ServerError: the configured port is taken.
    """
    configured = configured_port()
    wanted = place.port if configured is None else configured
    deadline = time.monotonic() + 2
    while not port_is_free(wanted):
        if time.monotonic() > deadline:
            if configured is not None:
                raise ServerError(
                    f"port {wanted} of UCHIWA_DB_PORT is taken: stop what listens there, or set another port"
                )
            wanted = free_port(FIRST_PORT)
            break
        time.sleep(0.2)
    if wanted != place.port:
        place = replace(place, port=wanted)
        place.save()
    return place


def _start_process(place: Place) -> Place:
    if not (_data() / "mysql").exists():
        _install()
    # A socket's path may have 107 bytes at most, and a project can lie deeper than that.
    with tempfile.TemporaryDirectory(prefix="uchiwa-db-") as folder:
        socket_path = f"{folder}/s"
        with open(home() / "mariadb.log", "ab", opener=_private) as log:
            process = subprocess.Popen(
                [
                    _program("mariadbd"),
                    "--no-defaults",
                    f"--datadir={_data()}",
                    f"--tmpdir={_folder('temporary')}",
                    f"--secure-file-priv={_folder('nothing')}",
                    "--local-infile=0",
                    f"--port={place.port}",
                    "--bind-address=127.0.0.1",
                    f"--socket={socket_path}",
                    f"--pid-file={home() / 'mariadb.pid'}",
                    "--skip-name-resolve",
                    "--character-set-server=utf8mb4",
                    "--collation-server=utf8mb4_unicode_ci",
                    "--max-allowed-packet=64M",
                    "--innodb-buffer-pool-size=512M",
                    "--innodb-log-file-size=512M",
                    "--innodb-log-buffer-size=64M",
                    "--skip-log-bin",
                    *(["--innodb-flush-log-at-trx-commit=0"] if read_settings().db_fast else []),
                    *_as_user(),
                ],
                stdout=log,
                stderr=log,
                stdin=subprocess.DEVNULL,
                start_new_session=True,
            )
        secured = False
        deadline = time.monotonic() + _PATIENCE_S
        while time.monotonic() < deadline:
            if process.poll() is not None:
                raise ServerError(f"the database server stopped at once: see {home() / 'mariadb.log'}")
            if not secured and Path(socket_path).exists():
                secured = secure_accounts(socket_path, place, _owner())
            if secured and reachable(place):
                return place
            time.sleep(0.05)
    raise ServerError(f"the database server did not answer within {_PATIENCE_S:.0f} s: see {home() / 'mariadb.log'}")


def _wait_for(place: Place) -> Place:
    """The place of a server whose process lives, once it answers."""
    deadline = time.monotonic() + _PATIENCE_S
    while True:
        refusal = _refusal(place)
        if refusal is None:
            return place
        if refusal.args and refusal.args[0] == _REFUSED:
            raise ServerError(
                f"the database server on {_data()} runs with another password than {Place.file()} has: "
                "stop it (uchiwa db stop), and start again"
            )
        if process_id() is None:
            return _start_process(_on_free_port(place))
        if time.monotonic() > deadline:
            raise ServerError(
                f"the database server on {_data()} runs as process {process_id()} and does not answer: it is busy, or "
                "stuck; look at mariadb.log beside it, and stop it with uchiwa db stop"
            )
        time.sleep(0.1)


def running() -> bool:
    """Whether our server's process lives, busy or not; or the server is not ours to start and stop."""
    return not looked_after_here() or state() is not State.DEAD


def stop() -> bool:
    """Stop the server, waiting for it; whether there was one to stop, and ours."""
    if not looked_after_here():
        return False
    with _alone():
        pid = process_id()
        if pid is None:
            return False
        os.kill(pid, signal.SIGTERM)
        deadline = time.monotonic() + _PATIENCE_S
        while process_id() == pid and time.monotonic() < deadline:
            with contextlib.suppress(ChildProcessError):
                os.waitpid(pid, os.WNOHANG)
            time.sleep(0.05)
        return True
