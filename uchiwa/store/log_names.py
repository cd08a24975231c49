"""What logs are called where several stand together."""

from __future__ import annotations

from collections.abc import Collection
from itertools import count

from uchiwa.store.models import LogFile


def told_apart(logs: Collection[LogFile]) -> list[str]:
    """Names of logs in their order; of those that share one, all but the oldest carry a number: “log.csv (2)”."""
    taken = {str(log.name) for log in logs}
    met: set[str] = set()
    names: dict[int, str] = {}
    for log in sorted(logs, key=lambda one: one.id):
        name = str(log.name)
        if name in met:
            name = next(told for number in count(2) if (told := f"{log.name} ({number})") not in taken)
        met.add(name)
        taken.add(name)
        names[log.id] = name
    return [names[log.id] for log in logs]
