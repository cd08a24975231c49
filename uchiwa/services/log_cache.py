"""What is worked out from logs, remembered for as long as they are read as they were: the one cache for all of it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import fields, is_dataclass
from functools import partial
from threading import BoundedSemaphore, local
from typing import Any, TypeVar, cast

import numpy as np

from uchiwa.store.models import LogFile
from uchiwa.store.remembered import Remembered

_BYTES = 64_000_000
_EACH = 120
_AT_ONCE = 2
_turns = BoundedSemaphore(_AT_ONCE)
_cache: Remembered[Any] = Remembered(_BYTES)
Found = TypeVar("Found")


class _Mine(local):
    """Whether this thread has its turn."""

    working = False


_mine = _Mine()


def from_logs(
    kind: str,
    logs: Iterable[LogFile],
    more: tuple[object, ...],
    make: Callable[[], Found],
    size: Callable[[Found], int] | None = None,
) -> Found:
    """What `make()` gives, remembered.

    A log that is read anew keeps its id and gets another reading, so that nothing that was worked out from the old one
    is found any more, in whichever process. When several people ask at once, it is worked out once.

    Args:
        kind: what it is.
        logs: from which it follows.
        more: everything else that it follows from.
        make: works it out.
        size: bytes that it takes beside what is remembered anyway; all of it, if not given.
    """
    readings = tuple((log.id, log.reading) for log in logs)
    return cast(Found, _cache.get_or_make((kind, readings, *more), partial(_in_turn, make), size or bytes_of))


def allow(megabytes: int) -> None:
    """Remember so much in this process."""
    _cache.allow(megabytes * 1_000_000)


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
        inner = [getattr(part, one.name, None) for one in fields(part)]
    elif isinstance(part, Mapping):
        inner = [*part.keys(), *part.values()]
    elif isinstance(part, (tuple, list, set, frozenset)):
        inner = part
    elif isinstance(part, (str, bytes)):
        return len(part) + _EACH
    return _EACH + sum(_bytes_of(one, seen) for one in inner)


def forget() -> None:
    """Drop everything that is remembered; for measurements."""
    _cache.clear()
