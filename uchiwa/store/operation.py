"""How the installation stands: what waits and since when, what has failed, and how much room everything takes."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from peewee import fn

from uchiwa.store import log_states, mails, worker_beats
from uchiwa.store.clock import now
from uchiwa.store.database import database
from uchiwa.store.models import Job, LogFile, Mail, Round, Shop, WorkerBeat
from uchiwa.store.rows import rows

LATEST = 50


@dataclass(frozen=True)
class Backlog:
    """Something that waits for a worker: how many there are, and since when the oldest of them."""

    number: int
    since: datetime | None

    @property
    def seconds(self) -> float:
        """How long the oldest has waited."""
        return max(0.0, (now() - self.since).total_seconds()) if self.since is not None else 0.0


def waiting_logs() -> Backlog:
    """Logs that wait to be imported, or are being imported."""
    query = LogFile.select(fn.COUNT(LogFile.id), fn.MIN(LogFile.uploaded_at)).where(
        LogFile.source.is_null(), LogFile.state.in_((log_states.STORED, log_states.IMPORTING))
    )
    ((number, since),) = rows(query)
    return Backlog(int(number), since)


def waiting_rounds() -> Backlog:
    """Rounds of which it is still to be told what their logs show."""
    query = Round.select(fn.COUNT(Round.id), fn.MIN(Round.untold_since)).where(Round.untold_since.is_null(False))
    ((number, since),) = rows(query)
    return Backlog(int(number), since)


def waiting_mails() -> Backlog:
    """Mails that are due."""
    query = Mail.select(fn.COUNT(Mail.id), fn.MIN(Mail.due_at)).where(
        Mail.state.in_((mails.WAITING, mails.SENDING)), Mail.due_at <= now()
    )
    ((number, since),) = rows(query)
    return Backlog(int(number), since)


def logs_by_state() -> dict[str, int]:
    """How many files there are in each state."""
    query = LogFile.select(LogFile.state, fn.COUNT(LogFile.id)).where(LogFile.source.is_null()).group_by(LogFile.state)
    return {str(state): int(number) for state, number in rows(query)}


def under_way() -> list[LogFile]:
    """Files that are being imported, or wait for it, the one that has waited longest first."""
    query = LogFile.select(LogFile, Job, Shop).join(Job).join(Shop)
    query = query.where(LogFile.source.is_null(), LogFile.state.in_((log_states.STORED, log_states.IMPORTING)))
    return list(query.order_by(LogFile.uploaded_at, LogFile.id).limit(LATEST))


def refused_logs() -> list[LogFile]:
    """Files that could not be read, the newest first."""
    query = LogFile.select(LogFile, Job, Shop).join(Job).join(Shop).where(LogFile.state == log_states.REFUSED)
    return list(query.order_by(LogFile.id.desc()).limit(LATEST))


def refused_log(log_id: int) -> LogFile | None:
    """One of them."""
    found: LogFile | None = LogFile.get_or_none(LogFile.id == log_id, LogFile.state == log_states.REFUSED)
    return found


def workers() -> list[tuple[str, bool, datetime]]:
    """Workers that gave a sign of life within a day: name, whether of late, when."""
    at = now()
    query = WorkerBeat.select().order_by(WorkerBeat.at.desc())
    return [(beat.name, abs(at - beat.at) <= worker_beats.ALIVE, beat.at) for beat in query]


@dataclass(frozen=True)
class ShopSize:
    """A shop, what there is of it, and the room it takes."""

    shop: Shop
    jobs: int
    logs: int
    bytes: int


def sizes() -> list[ShopSize]:
    """All shops, the one that takes the most room first; in three queries."""
    jobs = {key: int(number) for key, number in rows(Job.select(Job.shop, fn.COUNT(Job.id)).group_by(Job.shop))}
    query = LogFile.select(Job.shop, fn.COUNT(LogFile.id), fn.SUM(LogFile.size)).join(Job)
    logs = {
        key: (int(number), int(size or 0))
        for key, number, size in rows(query.where(LogFile.source.is_null()).group_by(Job.shop))
    }
    found = [ShopSize(shop, jobs.get(shop.id, 0), *logs.get(shop.id, (0, 0))) for shop in Shop.select()]
    return sorted(found, key=lambda shop_size: -shop_size.bytes)


def tables() -> list[tuple[str, int, int]]:
    """Tables with their rows, about, and bytes on disk, the largest first."""
    found = database.execute_sql(
        "SELECT table_name, table_rows, data_length + index_length FROM information_schema.tables "
        "WHERE table_schema = DATABASE() ORDER BY 3 DESC"
    )
    return [(str(name), int(number or 0), int(size or 0)) for name, number, size in found.fetchall()]


def server_version() -> str:
    """MariaDB's version."""
    found: Any = database.execute_sql("SELECT VERSION()").fetchone()
    return str(found[0])
