"""What was worked out from logs, kept on disk for all processes of this machine, and across restarts.

Nothing here is the only copy, and nothing of it is believed that this installation has not written itself: each result stands
with a keyed hash of its bytes. What cannot be read, written or found is worked out again.
"""

from __future__ import annotations

import hashlib
import hmac
import io
import logging
import pickle
import sqlite3
from collections.abc import Callable
from contextlib import nullcontext
from functools import cache
from importlib.metadata import version
from pathlib import Path
from types import MappingProxyType
from typing import Any

import diskcache
import numpy as np
from peewee import PeeweeException
from pydantic import BaseModel

from uchiwa.settings import Settings
from uchiwa.store.database import database
from uchiwa.store.place import Place

_HERE = Path(__file__).parents[1]
_COMPUTING = ("core", "services", "store")
_LIBRARIES = ("numpy", "scipy", "numba", "polars", "pydantic")
_WAIT_S = 2.0
_HASH_BYTES = 32
_RAW, _BINARY = 1, 2
"""The ways in which the library keeps bytes: in a row, or in a file of their own."""
_OURS = ("uchiwa.core.", "uchiwa.services.", "uchiwa.store.kept_results")
_OTHERS = frozenset({
    ("numpy", "ndarray"), ("numpy", "dtype"), ("numpy.core.multiarray", "_reconstruct"), ("numpy._core.multiarray", "_reconstruct"),
    ("numpy.core.multiarray", "scalar"), ("numpy._core.multiarray", "scalar"), ("numpy._core.numeric", "_frombuffer"),
    ("numpy.core.numeric", "_frombuffer"), ("builtins", "slice"), ("builtins", "set"), ("builtins", "frozenset"), ("builtins", "range"),
    ("builtins", "complex"), ("datetime", "datetime"), ("datetime", "date"), ("datetime", "timedelta"), ("copyreg", "_reconstructor"),
    ("builtins", "object"), ("builtins", "str"), ("collections", "OrderedDict"), ("copyreg", "__newobj__"),
})  # fmt: skip
_TROUBLE = (
    PeeweeException,
    OSError,
    sqlite3.Error,
    diskcache.Timeout,
    pickle.PickleError,
    TypeError,
    AttributeError,
    RecursionError,
    EOFError,
)
_log = logging.getLogger("uchiwa.results")


class KeptResults:
    """Results by everything that they follow from, up to a number of bytes; the oldest go first.

    Args:
        folder: for its owner's eyes only.
        megabytes: of all of them together.
        secret: of the installation.
        origin: names database and sources, asked for once; with another, nothing is found.
    """

    def __init__(self, folder: Path, megabytes: int, secret: str, origin: Callable[[], str]) -> None:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        self._secret = hashlib.sha256(f"results\0{secret}".encode()).digest()
        self._ask_origin = origin
        self._origin = ""
        self._cache = diskcache.Cache(
            str(folder),
            disk=_Bytes,
            timeout=_WAIT_S,
            size_limit=megabytes * 1_000_000,
            eviction_policy="least-recently-stored",
        )

    def find(self, key: tuple[object, ...]) -> tuple[Any] | None:
        """A result, alone in a tuple; None if it is not kept, or not as it was written."""
        try:
            name = self._name(key)
            kept = self._cache.get(name)
            if not isinstance(kept, bytes) or not hmac.compare_digest(
                kept[:_HASH_BYTES], self._hash(name, kept[_HASH_BYTES:])
            ):
                return None
            return (_Unpickler(io.BytesIO(kept[_HASH_BYTES:])).load(),)
        except _TROUBLE as error:
            _log.info("a kept result cannot be read: %s", error)
            return None

    def keep(self, key: tuple[object, ...], result: object) -> None:
        """Keep a result, if it can be."""
        try:
            name = self._name(key)
            file = io.BytesIO()
            _Pickler(file, protocol=pickle.HIGHEST_PROTOCOL).dump(result)
            data = file.getvalue()
            self._cache.set(name, self._hash(name, data) + data)
        except _TROUBLE as error:
            _log.info("a result cannot be kept: %s", error)

    def clear(self) -> None:
        """Drop all of them."""
        try:
            self._cache.clear()
        except _TROUBLE as error:
            _log.info("the kept results cannot be dropped: %s", error)

    def _name(self, key: tuple[object, ...]) -> str:
        self._origin = self._origin or self._ask_origin()
        return hashlib.sha256(repr((self._origin, written_out(key))).encode()).hexdigest()

    def _hash(self, name: str, data: bytes) -> bytes:
        return hashlib.blake2b(data, key=self._secret, person=name[:16].encode(), digest_size=_HASH_BYTES).digest()


class _Bytes(diskcache.Disk):
    """Keeps bytes by names and nothing else: what the library would unpickle by itself is not there for it."""

    def put(self, key: Any) -> tuple[Any, bool]:
        """A name as the database keeps it."""
        if not isinstance(key, str):
            raise TypeError("a result has a name")
        return key, True

    def get(self, key: Any, raw: bool) -> Any:
        """The name of a row."""
        return key if raw else None

    def fetch(self, mode: int, filename: str | None, value: Any, read: bool) -> Any:
        """The bytes of a row; None for one that is kept in any other way."""
        if mode not in (_RAW, _BINARY):
            return None
        return super().fetch(mode, filename, value, read)


class _Unpickler(pickle.Unpickler):
    """Makes values of our own kinds and arrays; no other function or class can be named, so that no code can be run by it."""

    def find_class(self, module: str, name: str) -> Any:
        """A class of ours, or one of the few of libraries that results are made of.

        Raises:
            UnpicklingError: it is any other.
        """
        member = super().find_class(module, name) if module.startswith(_OURS) or (module, name) in _OTHERS else None
        ours = member in (fixed, fixed_array) or (isinstance(member, type) and module.startswith(_OURS))
        if not ours and (module, name) not in _OTHERS:
            raise pickle.UnpicklingError(f"{module}.{name} is no part of a result")
        return member


class _Pickler(pickle.Pickler):
    """Knows mappings that cannot be changed, too, and has arrays that cannot be come back as such."""

    def reducer_override(self, obj: Any) -> Any:
        if isinstance(obj, MappingProxyType):
            return fixed, (dict(obj),)
        if isinstance(obj, np.ndarray) and not obj.flags.writeable:
            return fixed_array, (obj.copy(),)
        return NotImplemented


def written_out(part: object) -> object:
    """A part of a key in words that tell everything of it.

    Raises:
        TypeError: it is something whose words may leave out a part, as those of a long array do.
    """
    if isinstance(part, (tuple, frozenset)):
        return tuple(written_out(one) for one in (part if isinstance(part, tuple) else sorted(part, key=repr)))
    if isinstance(part, BaseModel):
        return type(part).__name__, part.model_dump_json()
    if part is None or isinstance(part, (str, bytes, int, float)):
        return part
    raise TypeError(f"{type(part).__name__} cannot be a part of a key")


def fixed(mapping: dict[Any, Any]) -> MappingProxyType[Any, Any]:
    """A mapping that cannot be changed."""
    return MappingProxyType(mapping)


def fixed_array(array: np.ndarray) -> np.ndarray:
    """An array that cannot be changed."""
    array.flags.writeable = False
    return array


def open_for(settings: Settings, place: Place) -> KeptResults | None:
    """The results of an installation, in the folder of all its state; None if it keeps none, or the folder cannot be used."""
    if not settings.disk_cache_megabytes:
        return None
    folder = settings.home.resolve() / "results"
    try:
        return KeptResults(folder, settings.disk_cache_megabytes, place.secret_key, origin)
    except _TROUBLE as error:
        _log.warning("no results are kept in %s: %s", folder, error)
        return None


def origin() -> str:
    """Names the database whose logs are meant, and the sources by which is computed.

    A database that was made from a backup has its tables made anew, and so another name: numbers of logs and of their
    readings may stand for others there.
    """
    with database.connection_context() if database.is_closed() else nullcontext():
        made = database.execute_sql(
            "SELECT CREATE_TIME FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = 'log_file'"
        ).fetchone()
    return repr((database.database, str(made and made[0]), sources()))


@cache
def sources() -> str:
    """A hash of every module that has a part in what is computed, and of the libraries' versions."""
    found = hashlib.sha256(repr([version(library) for library in _LIBRARIES]).encode())
    for part in _COMPUTING:
        for path in sorted((_HERE / part).rglob("*.py")):
            found.update(path.read_bytes())
    return found.hexdigest()
