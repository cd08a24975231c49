"""The web processes that `uchiwa serve` looks after: forked where everything is loaded, and missed at once when they die."""

from __future__ import annotations

import contextlib
import ctypes
import os
from collections.abc import Callable
from contextlib import closing
from multiprocessing.context import ForkServerProcess
from socket import socket

from uvicorn import Config
from uvicorn.supervisors import multiprocess

from uchiwa import forking

_GIVE_BACK = {"trim": (-1, 1 << 20), "map": (-3, 1 << 18), "arenas": (-8, 2)}
"""What glibc's allocator is told: arrays go back to the system when they are freed, and no thread keeps a heap of its own."""


class MissedProcess(multiprocess.Process):  # type: ignore[misc]  # uvicorn brings no types
    """A web process whose death ends the pipe to it.

    uvicorn asks each process for a sign of life over a pipe, and waits for the answer as long as a busy one may need. It keeps
    the other end of that pipe open itself, so that one that died after the question was waited for all that time, and nobody
    answered a request. With that end closed, its death is an answer.
    """

    def start(self) -> None:
        """Start it; from now on only it has the other end."""
        super().start()
        self.child_conn.close()


def _forked(config: Config, target: Callable[..., None], sockets: list[socket]) -> ForkServerProcess:
    return forking.context().Process(target=_serve, args=(dict(os.environ), config, target, sockets))


def _serve(environment: dict[str, str], config: Config, target: Callable[..., None], sockets: list[socket]) -> None:
    forking.begin_forked("uchiwa web", environment)
    _give_back_memory()
    config.configure_logging()
    target(sockets=sockets)


def _give_back_memory() -> None:
    with contextlib.suppress(OSError, AttributeError):  # another C library has other ways
        allocator = ctypes.CDLL("libc.so.6")
        for option, value in _GIVE_BACK.values():
            allocator.mallopt(option, value)


def serve_from(config: Config) -> None:
    """Answer from web processes, even if it is one alone, until told to stop; what looks after them answers nothing itself.

    Raises:
        SystemExit: the address cannot be bound.
    """
    multiprocess.Process = MissedProcess
    multiprocess.get_subprocess = _forked
    with closing(config.bind_socket()) as address:
        multiprocess.Multiprocess(config, sockets=[address]).run()
