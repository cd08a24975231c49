"""A backup of everything the database holds, as one file; and a database made from it, equal to the last byte.

The dump is mariadb-dump's, of one snapshot (`--single-transaction`), so that nobody has to wait for it. It is written the same
way for the same rows, so that a restored database is proved equal by dumping it again.
"""

from __future__ import annotations

import hashlib
import hmac
import json
import os
import shutil
import subprocess
import tempfile
import zipfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import IO

import zstandard

from uchiwa import __version__
from uchiwa.core.errors import BadInput
from uchiwa.core.json_text import read_json
from uchiwa.store import uploads, worker_beats
from uchiwa.store.clock import now
from uchiwa.store.database import database, unit_of_work
from uchiwa.store.models import LogFile
from uchiwa.store.place import Place
from uchiwa.store.schema import applied_migrations

FORMAT = "uchiwa.backup/1"
_DUMP, _MANIFEST = "database.sql.zst", "manifest.json"
_PIECE = 1 << 20
_MANIFEST_LARGEST = 1 << 20
_OPTIONS = (
    "--single-transaction", "--skip-lock-tables", "--no-tablespaces", "--skip-comments", "--skip-dump-date", "--skip-add-locks", "--order-by-primary",
    "--hex-blob", "--max-allowed-packet=64M", "--default-character-set=utf8mb4",
)  # fmt: skip


class BackupError(RuntimeError):
    """A backup could not be made, or what was made from one differs from it."""


@dataclass(frozen=True)
class Manifest:
    """What a backup says of itself.

    Attributes:
        format: of the file.
        version: of Uchiwa that made it.
        made_at: in UTC.
        migrations: that had been applied.
        sha256: of the dump, unpacked.
        size: of the dump, unpacked, in bytes.
        seal: a keyed hash of all that, by the installation's secret; empty in backups of versions before there was one.
    """

    format: str
    version: str
    made_at: str
    migrations: list[str]
    sha256: str
    size: int
    seal: str = ""

    def sealed_with(self, secret: str) -> str:
        """The keyed hash that an installation with this secret writes."""
        document = json.dumps(asdict(self) | {"seal": ""}, sort_keys=True)
        return hmac.new(f"backup {secret}".encode(), document.encode(), hashlib.sha256).hexdigest()

    def made_here(self, place: Place) -> bool:
        """Whether this installation made it, and nobody has changed it since."""
        return any(hmac.compare_digest(self.seal, self.sealed_with(secret)) for secret in place.secrets)


def _program(name: str) -> str:
    found = shutil.which(name)
    if found is None:
        raise BackupError(f"{name} is not installed: run setup/system-packages, which installs mariadb-client")
    return found


@contextmanager
def _login(place: Place) -> Iterator[str]:
    """The option that tells MariaDB's programs where and who, from a file that only we can read: no password on a command line."""
    with tempfile.TemporaryDirectory(prefix="uchiwa-") as folder:
        path = Path(folder) / "login.cnf"
        with os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT, 0o600), "w") as file:
            file.write(
                f'[client]\nhost="{place.host}"\nport={place.port}\nuser="{place.user}"\npassword="{place.password}"\n'
                f"{'ssl=0' if place.here else ''}\n"
            )
        yield f"--defaults-file={path}"


def _dump(place: Place, take: Callable[[bytes], object]) -> tuple[str, int]:
    """Dump the database; each piece is taken as it comes. SHA-256 and size of all of it."""
    digest, size = hashlib.sha256(), 0
    with _login(place) as login, tempfile.TemporaryFile() as said:
        command = [_program("mariadb-dump"), login, *_OPTIONS, place.database]
        with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=said, stdin=subprocess.DEVNULL) as process:
            assert process.stdout is not None  # noqa: S101 - it was asked for above
            while piece := process.stdout.read(_PIECE):
                digest.update(piece)
                size += len(piece)
                take(piece)
        if process.returncode:
            said.seek(0)
            raise BackupError(f"mariadb-dump failed: {said.read().decode(errors='replace').strip()[-300:]}")
    return digest.hexdigest(), size


def back_up(place: Place, path: Path) -> Manifest:
    """Write everything the database holds to a new file, as it was at one moment; whole or not at all.

    Raises:
        BadInput: the file is there already, or its folder is not.
        BackupError: it could not be made.
    """
    if path.exists():
        raise BadInput("this file is there already", where=str(path), advice="give another name")
    if not path.parent.is_dir():
        raise BadInput("there is no such folder", where=str(path.parent), advice="make it first")
    unfinished = path.with_name(f".{path.name}.{os.getpid()}")
    try:
        with os.fdopen(os.open(unfinished, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as file:
            manifest = _write(place, file)
            file.flush()
            os.fsync(file.fileno())
        unfinished.replace(path)
    finally:
        unfinished.unlink(missing_ok=True)
    return manifest


def _write(place: Place, file: IO[bytes]) -> Manifest:
    migrations = applied_migrations()
    with zipfile.ZipFile(file, "w", zipfile.ZIP_STORED) as archive:
        packing = zstandard.ZstdCompressor(level=3, threads=-1)
        with archive.open(_DUMP, "w", force_zip64=True) as inner, packing.stream_writer(inner, closefd=False) as packer:
            sha256, size = _dump(place, packer.write)
        manifest = Manifest(FORMAT, __version__, f"{now()}", migrations, sha256, size)
        manifest = replace(manifest, seal=manifest.sealed_with(place.secret_key))
        archive.writestr(_MANIFEST, json.dumps(asdict(manifest), indent=1))
    return manifest


def read_manifest(path: Path) -> Manifest:
    """What a backup says of itself, once every byte of it has been found to be as it was written.

    Raises:
        BadInput: it is no backup, or was damaged.
    """
    try:
        with zipfile.ZipFile(path) as archive:
            if archive.getinfo(_MANIFEST).file_size > _MANIFEST_LARGEST:
                raise ValueError("what it says of itself is too long")
            document = read_json(archive.read(_MANIFEST), where=str(path), advice="take another")
            manifest = Manifest(**document)
            digest, size = hashlib.sha256(), 0
            with archive.open(_DUMP) as inner:
                for piece in _unpacked(inner):
                    digest.update(piece)
                    size += len(piece)
    except (OSError, zipfile.BadZipFile, KeyError, ValueError, TypeError, zstandard.ZstdError) as error:
        raise BadInput(f"this is no whole backup ({error})", where=str(path), advice="take another") from None
    if manifest.format != FORMAT or (digest.hexdigest(), size) != (manifest.sha256, manifest.size):
        raise BadInput("this backup was damaged, or is of another kind", where=str(path), advice="take another")
    return manifest


def _unpacked(file: IO[bytes]) -> Iterator[bytes]:
    reader = zstandard.ZstdDecompressor().stream_reader(file)
    while piece := reader.read(_PIECE):
        yield piece


def restore(place: Place, path: Path, *, replace: bool = False) -> Manifest:
    """Make the database what it was when a backup was made, and prove it by dumping it again.

    Args:
        place: of the database, whose server runs.
        path: of the backup.
        replace: whatever is in the database now goes.

    Raises:
        BadInput: the backup is damaged, or the database is not empty.
        BackupError: a worker is at work on the database, or what was made differs.
    """
    manifest = read_manifest(path)
    tables = _tables()
    if tables and not replace:
        raise BadInput(
            f"the database is not empty: it has {len(tables)} tables", advice="give --replace to lose what is in it"
        )
    if tables and "worker_beat" in tables and worker_beats.alive():
        raise BackupError("a worker is at work on this database: stop uchiwa serve first, and wait for twenty seconds")
    _drop(tables)
    with zipfile.ZipFile(path) as archive, archive.open(_DUMP) as inner:
        _feed(place, _unpacked(inner))
    sha256, size = _dump(place, lambda _: None)
    if (sha256, size) != (manifest.sha256, manifest.size):
        raise BackupError("what was made from the backup differs from it: do not use it, and restore again")
    return manifest


def _tables() -> list[str]:
    with database.connection_context():
        return list(database.get_tables())


def _drop(tables: list[str]) -> None:
    with database.connection_context():
        database.execute_sql("SET FOREIGN_KEY_CHECKS=0")
        try:
            for name in tables:
                database.execute_sql(f"DROP TABLE IF EXISTS `{name}`")
        finally:
            database.execute_sql("SET FOREIGN_KEY_CHECKS=1")


def _feed(place: Place, pieces: Iterator[bytes]) -> None:
    with _login(place) as login, tempfile.TemporaryFile() as said:
        command = [
            _program("mariadb"),
            login,
            "--max-allowed-packet=64M",
            "--default-character-set=utf8mb4",
            "--batch",
            # What stands in a dump may change this database, and run nothing else: no shell, no files (`\\!`, `source`, `tee`).
            "--sandbox",
            place.database,
        ]
        with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.DEVNULL, stderr=said) as process:
            assert process.stdin is not None  # noqa: S101 - it was asked for above
            try:
                for piece in pieces:
                    process.stdin.write(piece)
                process.stdin.close()
            except BrokenPipeError:
                pass  # it has said why
        if process.returncode:
            said.seek(0)
            raise BackupError(f"mariadb failed: {said.read().decode(errors='replace').strip()[-300:]}")


def damaged_uploads() -> tuple[int, list[int]]:
    """How many raw uploads there are, and the ids of those whose bytes are not the ones that came."""
    with unit_of_work():
        logs = list(LogFile.select().where(LogFile.content_hash.is_null(False)).order_by(LogFile.id))
    bad: list[int] = []
    for log in logs:
        digest = hashlib.sha256()
        with unit_of_work():
            for piece in uploads.pieces(log):
                digest.update(piece)
        if digest.hexdigest() != log.content_hash:
            bad.append(log.id)
    return len(logs), bad
