"""Answers are the same over a connection that remembers how columns are described."""

from __future__ import annotations

import datetime

import pymysql
import pytest

from uchiwa.store import described
from uchiwa.store.database import database, unit_of_work

EVERYTHING = (
    "SELECT CAST(7 AS SIGNED) AS number, 1.25E0 AS real_one, CAST('1.50' AS DECIMAL(5, 2)) AS exact, 'λ äö' AS words, "
    "x'00ff' AS bytes, DATE '2026-01-02' AS day, TIMESTAMP '2026-01-02 03:04:05' AS moment, NULL AS nothing"
)


@pytest.fixture
def answer(clean_database):
    """What is answered to a statement: how it is described, and its rows."""

    def ask(statement: str):
        with unit_of_work():
            cursor = database.execute_sql(statement)
            return cursor.description, cursor.fetchall()

    return ask


def test_it_answers_as_the_driver_does_the_first_time_and_again(answer):
    described._description.cache_clear()
    kept = {key: value for key, value in database.connect_params.items() if key != "max_connections"}
    plain = pymysql.connect(database=database.database, autocommit=True, **kept)
    with plain, plain.cursor() as cursor:
        cursor.execute(EVERYTHING)
        wanted = (cursor.description, cursor.fetchall())
    for _ in range(3):
        assert answer(EVERYTHING) == wanted
    (row,) = wanted[1]
    assert row[3:6] == ("λ äö", b"\x00\xff", datetime.date(2026, 1, 2))
    told = described._description.cache_info()
    assert told.hits >= 2 * len(row) >= 2 * 8 > told.misses - len(row)


def test_a_column_of_the_same_name_and_another_kind_is_another(answer):
    words, rows = answer("SELECT CAST('12' AS CHAR(2)) AS value")
    number, counted = answer("SELECT CAST('12' AS SIGNED) AS value")
    assert (rows, counted) == ((("12",),), ((12,),))
    assert words[0][0] == number[0][0] == "value"
    assert words != number
