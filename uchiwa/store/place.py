"""Where the project's own database server lives and how to reach it."""

from __future__ import annotations

import json
import os
import secrets
import socket
from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from ipaddress import ip_address
from pathlib import Path

from uchiwa.settings import read_settings

FIRST_PORT = 8461
_PORTS_TRIED = 60
DATABASE = "uchiwa"


def private_home() -> Path:
    """The folder of all state, which from now on nobody but its owner can look into, whoever made it and how."""
    folder = home()
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    if folder.stat().st_uid == os.geteuid():
        folder.chmod(0o700)
        for log in folder.glob("*.log"):
            log.chmod(0o600)
    return folder


def home() -> Path:
    """The folder of all state on disk: `UCHIWA_HOME`, or `.uchiwa` in the working folder."""
    return read_settings().home.resolve()


@dataclass(frozen=True)
class Place:
    """How to reach a database server, or any node of a cluster of them.

    `older_secret_keys` are secrets from before, `other_nodes` further nodes as `host:port`; `ours` says
    whether the server is started and stopped here, rather than looked after by somebody else.
    """

    host: str
    port: int
    user: str
    password: str
    database: str
    secret_key: str
    older_secret_keys: tuple[str, ...] = ()
    other_nodes: tuple[str, ...] = ()
    ours: bool = True

    @property
    def nodes(self) -> tuple[tuple[str, int], ...]:
        """Host and port of every node of the cluster, of which any will do; of a single server, its own."""
        parted = (node.rpartition(":") for node in self.other_nodes)
        return ((self.host, self.port), *((host, int(port)) for host, _, port in parted))

    @property
    def secrets(self) -> tuple[str, ...]:
        """The installation's secrets, the newest first."""
        return (self.secret_key, *self.older_secret_keys)

    @property
    def here(self) -> bool:
        """Whether the server is on this machine."""
        try:
            return ip_address(self.host).is_loopback
        except ValueError:
            return self.host == "localhost"

    @staticmethod
    def file() -> Path:
        """The file that keeps it, readable by its owner only."""
        return home() / "database.json"

    @classmethod
    def load(cls) -> Place | None:
        """The place on file, or None before the first start."""
        path = cls.file()
        if not path.exists():
            return None
        found = json.loads(path.read_text())
        several = {name: tuple(found.get(name, ())) for name in ("older_secret_keys", "other_nodes")}
        return cls(**found | several)

    @classmethod
    def make(cls) -> Place:
        """A new place with a free port and its own secrets, written to file."""
        port = configured_port() or free_port(FIRST_PORT)
        place = cls("127.0.0.1", port, DATABASE, secrets.token_urlsafe(24), DATABASE, secrets.token_hex(32))
        place.save()
        return place

    @classmethod
    def elsewhere(cls, nodes: Sequence[tuple[str, int]], user: str, password: str, database: str) -> Place:
        """A database that somebody else looks after, with the secrets that this installation has, or new ones."""
        known = cls.load()
        secret = known.secrets if known is not None else (secrets.token_hex(32),)
        (host, port), *others = nodes
        more = tuple(f"{name}:{number}" for name, number in others)
        return cls(host, port, user, password, database, secret[0], secret[1:], more, ours=False)

    def rotated(self) -> Place:
        """With a new secret, the ones it had behind it."""
        return replace(self, secret_key=secrets.token_hex(32), older_secret_keys=self.secrets)

    def save(self) -> None:
        """Write it for its owner's eyes only, whole or not at all."""
        path = self.file()
        private_home() if path.parent == home() else path.parent.mkdir(parents=True, exist_ok=True)
        fresh = path.with_name(f"{path.name}.{os.getpid()}")
        descriptor = os.open(fresh, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        with os.fdopen(descriptor, "w") as file:
            json.dump(asdict(self), file, indent=1)
        fresh.replace(path)


def configured_port() -> int | None:
    """The database's port if a person has set one, in `UCHIWA_DB_PORT`; it is kept whatever happens."""
    return read_settings().db_port


def port_is_free(port: int) -> bool:
    """Whether nothing listens on a loopback port."""
    with socket.socket(socket.AF_INET, socket.SOCK_STREAM) as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError:
            return False
    return True


def free_port(first: int) -> int:
    """The first free loopback port from `first` on.

    Raises:
        OSError: none of the next few dozen is free.
    """
    for port in range(first, first + _PORTS_TRIED):
        if port_is_free(port):
            return port
    raise OSError(f"no free port between {first} and {first + _PORTS_TRIED}")
