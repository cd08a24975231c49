"""What one file may cost: seconds and memory of the process that imports it."""

from __future__ import annotations

import resource
from dataclasses import dataclass

_SECONDS, _SECONDS_A_MEGABYTE, _MOST_SECONDS = 90.0, 2.0, 900.0
_ROOM_BYTES, _TIMES_THE_FILE = 1536 << 20, 8


@dataclass(frozen=True)
class Budget:
    """Limits of one import.

    Attributes:
        seconds: from its beginning; then its process is ended.
        room_bytes: of memory, beyond what the process has when it begins.
    """

    seconds: float
    room_bytes: int

    def limit_memory(self) -> None:
        """Let this process have no more than that from now on; wanting more is a MemoryError."""
        with open("/proc/self/statm", encoding="ascii") as statm:  # noqa: PTH123
            used = int(statm.read().split()[0]) * resource.getpagesize()
        most = used + self.room_bytes
        resource.setrlimit(resource.RLIMIT_AS, (most, most))
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))


def budget_of(size: int) -> Budget:
    """What the import of a file of so many bytes may cost: many times what it does cost on a small machine."""
    seconds = min(_MOST_SECONDS, _SECONDS + _SECONDS_A_MEGABYTE * size / 1e6)
    return Budget(seconds, _ROOM_BYTES + _TIMES_THE_FILE * size)
