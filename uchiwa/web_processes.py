"""The web processes that `uchiwa serve` looks after, and that one of them that dies is missed at once."""

from __future__ import annotations

from uvicorn.supervisors import multiprocess


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


def miss_the_dead() -> None:
    """Have uvicorn start its processes as such."""
    multiprocess.Process = MissedProcess
