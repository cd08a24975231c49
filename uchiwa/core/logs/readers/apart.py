"""Reading in a process of its own, within limits of memory and time: binary formats can claim any size.

The children are forked from a server process that has the readers loaded, and neither threads nor the caller's memory.
"""

from __future__ import annotations

import multiprocessing
import os
import resource
from collections.abc import Callable
from functools import cache
from multiprocessing.connection import Connection
from multiprocessing.context import BaseContext
from typing import Any, TypeVar

from uchiwa.core.errors import BadInput
from uchiwa.core.words.sentence import N_, Sentence

SECONDS = 60.0
ROOM_BYTES = 256 << 20
_TIMES_THE_FILE = 4
_Found = TypeVar("_Found")
_ADVICE = N_("export the log again, as delimited text if the program offers it")


@cache
def _context() -> BaseContext:
    context = multiprocessing.get_context("forkserver")
    context.set_forkserver_preload(
        [
            "asammdf",
            "cantools",
            "can.io",
            "uchiwa.core.logs.readers.mdf_content",
            "uchiwa.core.logs.readers.columnar_content",
        ]
    )
    return context


def _child(pipe: Connection, read: Callable[[bytes], Any], size: int) -> None:
    used = _address_space()
    most = used + ROOM_BYTES + _TIMES_THE_FILE * size
    data = pipe.recv_bytes()
    resource.setrlimit(resource.RLIMIT_AS, (most, most))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    # Each thread of a pool takes address space; on a machine of many cores a pool for all of them would take it all.
    os.environ["POLARS_MAX_THREADS"] = "2"
    try:
        answer: tuple[str, Any] = ("found", read(data))
    except BadInput as error:
        answer = ("refused", (error.what, error.advice))
    except MemoryError:
        answer = ("memory", None)
    except BaseException as error:  # a damaged file may break the library in any way, and none must reach a person
        answer = ("damaged", f"{type(error).__name__}: {error}"[:200])
    try:
        pipe.send(answer)
    except MemoryError:
        pipe.send(("memory", None))
    pipe.close()


def _address_space() -> int:
    with open("/proc/self/statm", encoding="ascii") as statm:  # noqa: PTH123
        return int(statm.read().split()[0]) * resource.getpagesize()


_here = False


def already_apart() -> None:
    """This process has been made for one file and is limited as a whole: nothing more is gained by another."""
    global _here
    _here = True


def _read_here(read: Callable[[bytes], _Found], data: bytes, what: str, where: str) -> _Found:
    try:
        return read(data)
    except BadInput as error:
        raise BadInput(error.what, where=where, advice=error.advice) from error
    except MemoryError as error:
        raise BadInput(
            Sentence("the {what} file claims to be far larger than it is", what=what), where=where, advice=_ADVICE
        ) from error
    except (KeyboardInterrupt, SystemExit):
        raise
    except BaseException as error:  # a damaged file may break the library in any way, and none must reach a person
        raise BadInput(Sentence("the {what} file is damaged", what=what), where=where, advice=_ADVICE) from error


def read_apart(read: Callable[[bytes], _Found], data: bytes, what: str, where: str) -> _Found:
    """What `read(data)` returns, computed in a child process.

    Args:
        read: a function of a module, since it is called by name.
        data: the whole file.
        what: the kind of file, for messages.
        where: its name, for messages.

    Raises:
        BadInput: the reader refused the file, broke on it, took longer than a minute, or wanted more memory than four
            times the file and 256 MB.
    """
    if _here:
        return _read_here(read, data, what, where)
    context = _context()
    ours, theirs = context.Pipe()
    child = context.Process(target=_child, args=(theirs, read, len(data)), daemon=True)  # type: ignore[attr-defined]
    child.start()
    theirs.close()
    advice = _ADVICE
    try:
        ours.send_bytes(data)
        if not ours.poll(SECONDS):
            raise BadInput(
                Sentence("the {what} file cannot be read within {most:.0f} s", what=what, most=SECONDS),
                where=where,
                advice=advice,
            )
        kind, answer = ours.recv()
    except (EOFError, OSError) as error:
        raise BadInput(Sentence("the {what} file is damaged", what=what), where=where, advice=advice) from error
    finally:
        ours.close()
        child.kill()
        child.join()
    if kind == "found":
        found: _Found = answer
        return found
    if kind == "refused":
        raise BadInput(answer[0], where=where, advice=answer[1])
    if kind == "memory":
        raise BadInput(
            Sentence("the {what} file claims to be far larger than it is", what=what), where=where, advice=advice
        )
    raise BadInput(Sentence("the {what} file is damaged", what=what), where=where, advice=advice)
