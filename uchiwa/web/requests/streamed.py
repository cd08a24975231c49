"""Large files that go out while they are written, so that nobody waits for the whole of one before its first byte."""

from __future__ import annotations

import io
import logging
import queue
import threading
from collections.abc import Callable, Iterator
from typing import IO, Any, cast

from fastapi.responses import StreamingResponse

from uchiwa.store.database import database

_AHEAD, _PIECE = 16, 65_536
_AT_ONCE = threading.BoundedSemaphore(3)
"""So many are written at once by a process; others wait their turn."""
_log = logging.getLogger("uchiwa.web")


class _Pipe(io.RawIOBase):
    """What is written is handed on in pieces; nobody can go back in it."""

    def __init__(self) -> None:
        super().__init__()
        self.pieces: queue.Queue[bytes | None] = queue.Queue(_AHEAD)
        self.left = threading.Event()
        self._gathered = bytearray()

    def writable(self) -> bool:
        """It is."""
        return True

    def write(self, data: Any) -> int:
        """Hand some more on; whoever reads may have gone."""
        self._gathered += data
        if len(self._gathered) >= _PIECE:
            self._hand_on()
        return len(data)

    def _hand_on(self) -> None:
        while self._gathered:
            if self.left.is_set():
                raise BrokenPipeError("nobody reads any more")
            try:
                self.pieces.put(bytes(self._gathered), timeout=1.0)
            except queue.Full:
                continue
            self._gathered.clear()

    def end(self) -> None:
        """Everything was written."""
        self._hand_on()
        self._put(None)

    def _put(self, piece: None) -> None:
        while not self.left.is_set():
            try:
                self.pieces.put(piece, timeout=1.0)
            except queue.Full:
                continue
            return


def streamed(write: Callable[[IO[bytes]], None], name: str, kind: str) -> StreamingResponse:
    """An answer whose body is what `write` writes, as a file to be kept; one that fails ends short, and says so in the log.

    Args:
        write: runs in a thread of its own, with its own connection.
        name: of the file.
        kind: its media type.
    """
    headers = {"content-disposition": f'attachment; filename="{name}"'}
    return StreamingResponse(_pieces(write), media_type=kind, headers=headers)


def _pieces(write: Callable[[IO[bytes]], None]) -> Iterator[bytes]:
    pipe, failed = _Pipe(), list[BaseException]()

    def run() -> None:
        try:
            with _AT_ONCE:
                write(cast("IO[bytes]", pipe))
                pipe.end()
        except BrokenPipeError:
            return
        except BaseException as error:
            failed.append(error)
            pipe._put(None)
        finally:
            database.close()

    thread = threading.Thread(target=run, daemon=True)
    thread.start()
    try:
        while (piece := pipe.pieces.get()) is not None:
            yield piece
        if failed:
            _log.error("a file could not be written to its end", exc_info=failed[0])
            raise failed[0]
    finally:
        pipe.left.set()
