"""Parts of the database that never change, and what is worked out from them, remembered up to a number of bytes."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from concurrent.futures import Future
from threading import Lock
from typing import Generic, TypeVar

Part = TypeVar("Part")
Key = tuple[object, ...]


class Remembered(Generic[Part]):
    """The parts that were asked for last, within a process; what drops out is fetched or worked out again."""

    def __init__(self, most_bytes: int) -> None:
        self._parts: OrderedDict[Key, tuple[Part, int]] = OrderedDict()
        self._making: dict[Key, Future[Part]] = {}
        self._lock = Lock()
        self._bytes, self._most = 0, most_bytes

    def allow(self, most_bytes: int) -> None:
        """Let all parts together take so much from now on."""
        with self._lock:
            self._most = most_bytes

    @property
    def bytes(self) -> int:
        """Of all parts together."""
        return self._bytes

    def get(self, key: Key) -> Part | None:
        """A part, if it is remembered."""
        with self._lock:
            return self._known(key)

    def put(self, key: Key, part: Part, size: int) -> Part:
        """Remember a part of so many bytes, and give it back."""
        with self._lock:
            self._keep(key, part, size)
        return part

    def get_or_make(self, key: Key, make: Callable[[], Part], size: Callable[[Part], int]) -> Part:
        """A part, remembered or made now; when several ask for it at once, one of them makes it for all.

        Args:
            key: everything that the part depends on.
            make: makes it; what it raises is raised to everybody who waits.
            size: its bytes.
        """
        with self._lock:
            known = self._known(key)
            if known is not None:
                return known
            making = self._making.get(key)
            mine = making is None
            if making is None:
                making = self._making[key] = Future()
        if not mine:
            return making.result()
        try:
            part = make()
            bytes_of = size(part)
        except BaseException as error:
            with self._lock:
                del self._making[key]
            making.set_exception(error)
            raise
        with self._lock:
            self._keep(key, part, bytes_of)
            del self._making[key]
        making.set_result(part)
        return part

    def _known(self, key: Key) -> Part | None:
        if key not in self._parts:
            return None
        self._parts.move_to_end(key)
        return self._parts[key][0]

    def _keep(self, key: Key, part: Part, size: int) -> None:
        if key in self._parts or size > self._most:
            return
        self._parts[key] = (part, size)
        self._bytes += size
        while self._bytes > self._most:
            _, (_, dropped) = self._parts.popitem(last=False)
            self._bytes -= dropped

    def clear(self) -> None:
        """Forget everything."""
        with self._lock:
            self._parts.clear()
            self._bytes = 0
