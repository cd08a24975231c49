"""What is worked out from logs, remembered for as long as they are read as they were: the one cache for all of it."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Mapping
from dataclasses import fields, is_dataclass
from threading import BoundedSemaphore, local
from typing import Any, TypeVar, cast

import numpy as np

from uchiwa.store.kept_results import KeptResults
from uchiwa.store.models import LogFile
from uchiwa.store.remembered import Remembered

_BYTES = 64_000_000
_EACH = 120
_AT_ONCE = 2
_WORTH_KEEPING_S = 0.02
_turns = BoundedSemaphore(_AT_ONCE)
_cache: Remembered[Any] = Remembered(_BYTES)
_on_disk: KeptResults | None = None
Found = TypeVar("Found")


class _PerThread(local):
    """Whether this thread has its turn."""

    working = False


_mine = _PerThread()


def from_logs(
    kind: str,
    logs: Iterable[LogFile],
    more: tuple[object, ...],
    make: Callable[[], Found],
    size: Callable[[Found], int] | None = None,
) -> Found:
    """What `make()` gives, remembered in this process, and on disk if it took its time.

    A log that is read anew keeps its id and gets another reading, so that nothing that was worked out from the old one
    is found any more, in whichever process. When several people ask at once, it is worked out once.

    Args:
        kind: what it is.
        logs: from which it follows.
        more: everything else that it follows from.
        make: works it out.
        size: bytes that it takes beside what is remembered anyway; all of it, if not given.
    """
    readings = tuple((log.id, log.reading, log.content_hash, str(log.uploaded_at)) for log in logs)
    key = (kind, readings, *more)
    from_disk = False

    def found() -> Found:
        nonlocal from_disk
        known = _on_disk.find(key) if _on_disk is not None else None
        if known is not None:
            from_disk = True
            return cast(Found, known[0])
        begun = time.monotonic()
        made = _in_turn(make)
        if _on_disk is not None and time.monotonic() - begun > _WORTH_KEEPING_S:
            _on_disk.keep(key, made)
        return made

    def bytes_taken(part: Found) -> int:
        # What comes from disk shares nothing with what is remembered.
        return bytes_of(part) if size is None or from_disk else size(part)

    return cast(Found, _cache.get_or_make(key, found, bytes_taken))


def allow(megabytes: int) -> None:
    """Remember so much in this process."""
    _cache.allow(megabytes * 1_000_000)


def share(kept: KeptResults | None) -> None:
    """Look among results kept on disk before anything is worked out, and keep there what took its time; None: no more."""
    global _on_disk
    _on_disk = kept


def _in_turn(make: Callable[[], Found]) -> Found:
    """Work something out when it is its turn: what many want at once comes sooner one after the other than all together."""
    if _mine.working:
        return make()
    with _turns:
        _mine.working = True
        try:
            return make()
        finally:
            _mine.working = False


def bytes_of(part: object) -> int:
    """About how many bytes something takes: its arrays, and a little for everything else."""
    return _bytes_of(part, set())


def _bytes_of(part: object, seen: set[int]) -> int:
    if id(part) in seen:
        return 0
    seen.add(id(part))
    if isinstance(part, np.ndarray):
        whole = part if part.base is None or not isinstance(part.base, np.ndarray) else part.base
        if whole is not part and id(whole) in seen:
            return _EACH
        seen.add(id(whole))
        return int(whole.nbytes) + _EACH
    inner: Iterable[object] = ()
    if is_dataclass(part) and not isinstance(part, type):
        inner = [getattr(part, field.name, None) for field in fields(part)]
    elif isinstance(part, Mapping):
        inner = [*part.keys(), *part.values()]
    elif isinstance(part, (tuple, list, set, frozenset)):
        inner = part
    elif isinstance(part, (str, bytes)):
        return len(part) + _EACH
    return _EACH + sum(_bytes_of(one, seen) for one in inner)


def forget() -> None:
    """Drop everything that is remembered and kept; for measurements."""
    _cache.clear()
    if _on_disk is not None:
        _on_disk.clear()
