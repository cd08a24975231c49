"""Now, in UTC, as the database keeps it."""

from __future__ import annotations

from datetime import UTC, datetime


def now() -> datetime:
    """The time in UTC without a zone, to the second."""
    return datetime.now(UTC).replace(tzinfo=None, microsecond=0)


def aware(moment: datetime) -> datetime:
    """A moment as the database keeps it, with its zone."""
    return moment.replace(tzinfo=UTC)
