"""Figures for Prometheus at an address of their own, which the settings give: those of all web processes, and the database's."""

from __future__ import annotations

import logging
import os
import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pymysql
from peewee import PeeweeException
from prometheus_client import CollectorRegistry, start_http_server
from prometheus_client.core import GaugeMetricFamily
from prometheus_client.multiprocess import MultiProcessCollector
from prometheus_client.registry import Collector

from uchiwa.settings import Settings
from uchiwa.store import mails, operation
from uchiwa.store.database import unit_of_work

_FOLDER = "PROMETHEUS_MULTIPROC_DIR"
_log = logging.getLogger("uchiwa.figures")


class DatabaseFigures(Collector):
    """What waits, what has failed, and sizes, asked of the database each time."""

    def collect(self) -> Iterator[GaugeMetricFamily]:
        """All of them; without the database, only that it does not answer."""
        up = GaugeMetricFamily("uchiwa_database_up", "Whether the database answers")
        try:
            with unit_of_work():
                found = list(self._asked())
        except (PeeweeException, pymysql.MySQLError, OSError) as error:
            _log.warning("no figures, the database does not answer: %s", error)
            up.add_metric([], 0)
            yield up
            return
        up.add_metric([], 1)
        yield up
        yield from found

    def _asked(self) -> Iterator[GaugeMetricFamily]:
        waiting = GaugeMetricFamily("uchiwa_waiting", "What waits for a worker", labels=["what"])
        oldest = GaugeMetricFamily("uchiwa_waiting_seconds", "How long the oldest has waited", labels=["what"])
        for what, backlog in (
            ("logs", operation.waiting_logs()),
            ("rounds", operation.waiting_rounds()),
            ("mails", operation.waiting_mails()),
        ):
            waiting.add_metric([what], backlog.number)
            oldest.add_metric([what], backlog.seconds)
        yield waiting
        yield oldest
        yield _by("uchiwa_logs", "Log files by state", "state", operation.logs_by_state())
        yield _by("uchiwa_mails", "Mails by state", "state", mails.counts())
        alive = GaugeMetricFamily("uchiwa_workers_alive", "Workers that gave a sign of life of late")
        alive.add_metric([], sum(well for _, well, _ in operation.workers()))
        yield alive
        yield _by(
            "uchiwa_raw_bytes",
            "Raw logs by shop",
            "shop",
            {f"{size.shop.id}": size.bytes for size in operation.sizes()},
        )
        yield _by("uchiwa_table_bytes", "Tables on disk", "table", {name: size for name, _, size in operation.tables()})


def _by(name: str, words: str, label: str, found: dict[str, int]) -> GaugeMetricFamily:
    family = GaugeMetricFamily(name, words, labels=[label])
    for key, value in found.items():
        family.add_metric([key], value)
    return family


def gather_in(settings: Settings) -> None:
    """Have the processes started from now on leave their figures in a folder, emptied first; nothing without an address."""
    if settings.metrics:
        folder = settings.home.resolve() / "figures"
        shutil.rmtree(folder, ignore_errors=True)
        folder.mkdir(parents=True, mode=0o700)
        os.environ[_FOLDER] = str(folder)


def serve_figures(settings: Settings) -> Any:
    """Answer at the settings' address until `shutdown` of what is returned; None without one.

    Raises:
        OSError: the address is taken.
    """
    if not settings.metrics:
        return None
    registry = CollectorRegistry()
    MultiProcessCollector(registry, path=str(Path(os.environ[_FOLDER])))  # type: ignore[no-untyped-call]
    registry.register(DatabaseFigures())
    host, _, port = settings.metrics.rpartition(":")
    server, _thread = start_http_server(int(port), host.strip("[]"), registry)
    return server
