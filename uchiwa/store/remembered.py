"""Parts of the database that never change, remembered up to a number of bytes."""

from __future__ import annotations

from collections import OrderedDict
from threading import Lock
from typing import Generic, TypeVar

Part = TypeVar("Part")


class Remembered(Generic[Part]):
    """The parts that were asked for last, within a process; what drops out is fetched or worked out again."""

    def __init__(self, most_bytes: int) -> None:
        self._parts: OrderedDict[tuple[object, ...], tuple[Part, int]] = OrderedDict()
        self._lock = Lock()
        self._bytes, self._most = 0, most_bytes

    def get(self, key: tuple[object, ...]) -> Part | None:
        """A part, if it is remembered."""
        with self._lock:
            if key not in self._parts:
                return None
            self._parts.move_to_end(key)
            return self._parts[key][0]

    def put(self, key: tuple[object, ...], part: Part, size: int) -> Part:
        """Remember a part of so many bytes, and give it back."""
        with self._lock:
            if key not in self._parts and size <= self._most:
                self._parts[key] = (part, size)
                self._bytes += size
                while self._bytes > self._most:
                    _, (_, dropped) = self._parts.popitem(last=False)
                    self._bytes -= dropped
        return part

    def clear(self) -> None:
        """Forget everything."""
        with self._lock:
            self._parts.clear()
            self._bytes = 0
