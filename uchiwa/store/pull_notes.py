"""Notes of pulls: what was changed for each, whether it is shown, and in which order they stand."""

from __future__ import annotations

from collections.abc import Sequence

from uchiwa.store.models import LogFile, PullNote

Key = tuple[int, int]


def of(logs: Sequence[LogFile]) -> dict[Key, PullNote]:
    """Notes by (log id, number of the pull in it)."""
    if not logs:
        return {}
    found = PullNote.select().where(PullNote.log.in_([log.id for log in logs]))
    return {(note.log_id, note.number): note for note in found}


def keep(key: Key, *, note: str | None = None, hidden: bool | None = None, place: float | None = None) -> None:
    """Change what is given of a pull's note."""
    told: dict[str, object] = {}
    if note is not None:
        told["note"] = " ".join(note.split())[:300]
    if hidden is not None:
        told["hidden"] = hidden
    if place is not None:
        told["place"] = place
    if told:
        PullNote.insert(log=key[0], number=key[1], **told).on_conflict(update=told).execute()
