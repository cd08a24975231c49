"""The queue of jobs: whose move each is, with its fan and its next step."""

from __future__ import annotations

from dataclasses import dataclass

from uchiwa.core.rounds.progress import Station, StationState, next_station, standings
from uchiwa.store.queue import QueueEntry
from uchiwa.web.round_context import address


@dataclass(frozen=True)
class QueueRow:
    """A job of the queue with its fan and its next step."""

    entry: QueueEntry
    standing: dict[Station, StationState]
    next: Station
    href: str

    @property
    def needs_you(self) -> bool:
        """Whether something is wrong that only the tuner can settle."""
        return StationState.NEEDS_YOU in self.standing.values()


def queue_rows(entries: list[QueueEntry]) -> list[QueueRow]:
    """The rows of the queue."""
    rows: list[QueueRow] = []
    for entry in entries:
        station = next_station(entry.facts)
        href = address(entry.job.id, entry.round.number, station)
        rows.append(
            QueueRow(entry, standings(entry.facts, closed=entry.job.closed), station, href or f"/jobs/{entry.job.id}")
        )
    return rows
