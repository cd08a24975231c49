"""python-can's reader of BLF, guarded by progress: a damaged file whose objects have no length turns it in circles else."""

from __future__ import annotations

import logging
from collections.abc import Iterator
from typing import Any

from can import Message
from can.io.blf import BLFParseError, BLFReader

logging.getLogger("can").setLevel(logging.CRITICAL)  # it tells of each of a damaged file's objects

LONGEST_TAIL = 16 * 2**20
"""Bytes that an object may reach beyond the container in which it begins."""


class _Advancing(bytes):
    """What is searched for the next object; each search has to begin behind the one before."""

    _searched_from = -1

    def index(self, mark: Any, start: Any = 0, stop: Any = None) -> int:
        """As bytes do.

        Raises:
            BLFParseError: the search begins where one has begun before: the object there has no length.
        """
        if start <= self._searched_from:
            raise BLFParseError("an object has no length")
        self._searched_from = start
        return super().index(mark, start, stop)


class AdvancingReader(BLFReader):  # type: ignore[misc]  # the library has no types
    """Messages of a BLF file; each object takes the reader on by a byte at least."""

    def _parse_container(self, data: bytes) -> Iterator[Message]:
        if len(self._tail) > LONGEST_TAIL:
            raise BLFParseError("an object is longer than any is")
        yield from super()._parse_container(data)

    def _parse_data(self, data: bytes) -> Iterator[Message]:
        yield from super()._parse_data(_Advancing(data))
