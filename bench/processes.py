"""The running processes of a served home: what each is, and what it has taken."""

from __future__ import annotations

import contextlib
import os
import re
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

_TICKS = os.sysconf("SC_CLK_TCK")
_KINDS = {
    "mariadbd": "database",
    "uchiwa loaded": "loaded",
    "uchiwa web": "web",
    "uchiwa worker": "worker",
    "uchiwa import": "worker's",
    "uchiwa tell": "worker's",
    "uchiwa watch": "worker's",
}


@dataclass(frozen=True)
class Process:
    """One of them."""

    id: int
    kind: str
    """web, worker, worker's (what it has begun), loaded (from which these are forked), database, or other."""

    @property
    def seconds(self) -> float:
        """Processor time so far, that of its children that have ended with it."""
        with contextlib.suppress(OSError):
            stat = Path(f"/proc/{self.id}/stat").read_text().rpartition(")")[2].split()
            return sum(int(one) for one in stat[11:15]) / _TICKS
        return 0.0

    @property
    def megabytes(self) -> float:
        """Its memory; what several share is counted once among them."""
        with contextlib.suppress(OSError):
            found = re.search(r"^Pss:\s+(\d+)", Path(f"/proc/{self.id}/smaps_rollup").read_text(), re.MULTILINE)
            return int(found[1]) / 1000 if found else 0.0
        return 0.0


def processes_of(home: str | Path) -> Iterator[Process]:
    """Those whose environment names the home, this one excepted."""
    mark = f"UCHIWA_HOME={home}"
    for entry in Path("/proc").glob("[0-9]*"):
        try:
            environment = (entry / "environ").read_bytes().decode(errors="replace").split("\0")
            name = (entry / "comm").read_text().strip()
        except OSError:
            continue
        if mark in environment and int(entry.name) != os.getpid():
            yield Process(int(entry.name), _KINDS.get(name, "other"))


def by_kind(home: str | Path) -> dict[str, list[Process]]:
    """Those of a home, by what they are."""
    found: dict[str, list[Process]] = defaultdict(list)
    for process in processes_of(home):
        found[process.kind].append(process)
    return found
