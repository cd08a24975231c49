"""Logs that share a name are told apart."""

from __future__ import annotations

from uchiwa.store.log_names import told_apart
from uchiwa.store.models import LogFile


def logs(*names: tuple[int, str]) -> list[LogFile]:
    return [LogFile(id=number, name=name) for number, name in names]


def test_the_oldest_keeps_its_name_in_any_order():
    assert told_apart(logs((1, "log.csv"), (2, "log.csv"), (3, "drive.csv"))) == ["log.csv", "log.csv (2)", "drive.csv"]
    assert told_apart(logs((5, "log.csv"), (2, "log.csv"))) == ["log.csv (2)", "log.csv"]


def test_a_number_that_is_somebodys_name_is_passed_over():
    found = told_apart(logs((1, "log.csv"), (2, "log.csv"), (3, "log.csv (2)"), (4, "log.csv"), (5, "log.csv (2)")))
    assert found == ["log.csv", "log.csv (3)", "log.csv (2)", "log.csv (4)", "log.csv (2) (2)"]


def test_none_gives_none():
    assert told_apart([]) == []
