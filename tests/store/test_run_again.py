"""Transactions that are lost through no fault of theirs are run again, and end."""

from __future__ import annotations

import threading

import pymysql
import pytest
from peewee import OperationalError

from uchiwa.store import database as here
from uchiwa.store import jobs
from uchiwa.store.database import can_run_again, database, run_again, unit_of_work
from uchiwa.store.models import Customer, Job, Shop


def lost(code: int) -> OperationalError:
    return OperationalError(code, "lost")


@pytest.fixture(autouse=True)
def quick(monkeypatch):
    monkeypatch.setattr(here, "_FIRST_PAUSE_S", 0.0005)


def test_a_real_deadlock_ends_with_both_changes_made(scene):
    with unit_of_work():
        names = [f"{letter}" for letter in "ab"]
        for name in names:
            Customer.create(shop=scene.user.shop_id, name=name)
    both_hold_one = threading.Barrier(2)
    runs: list[str] = []

    @run_again
    def change(first: str, second: str) -> None:
        runs.append(first)
        with unit_of_work():
            shop = Customer.shop == scene.user.shop_id
            Customer.update(name=first).where(shop, Customer.name == first).execute()
            Customer.select().where(shop, Customer.name == first).for_update().get()
            if len(runs) <= 2:
                both_hold_one.wait(10)
            Customer.select().where(shop, Customer.name == second).for_update().get()
            Job.update(closed=~Job.closed).where(Job.id == scene.job.id).execute()

    threads = [threading.Thread(target=change, args=pair) for pair in (("a", "b"), ("b", "a"))]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(runs) >= 3, "there was no deadlock to begin with"
    with unit_of_work():
        assert not Job.get_by_id(scene.job.id).closed


def test_a_killed_connection_is_replaced_and_the_act_done_once(scene):
    runs = []

    @run_again
    def rename() -> None:
        runs.append(1)
        with unit_of_work():
            Shop.update(name=Shop.name.concat("!")).where(Shop.id == scene.user.shop_id).execute()
            if len(runs) == 1:
                mine = database.execute_sql("SELECT CONNECTION_ID()").fetchone()[0]
                other = pymysql.connect(
                    **{key: database.connect_params[key] for key in ("host", "port", "user", "password")}
                )
                with other, other.cursor() as cursor:
                    cursor.execute(f"KILL {mine}")
            Shop.get_by_id(scene.user.shop_id)

    rename()
    assert len(runs) == 2
    with unit_of_work():
        assert Shop.get_by_id(scene.user.shop_id).name == "Shop!"


@pytest.mark.parametrize("code", [1213, 1205, 2013, 2006, 2003])
def test_it_has_an_end(clean_database, code, monkeypatch):
    monkeypatch.setattr(here, "_LONGEST_PAUSE_S", 0.001)
    runs = []

    @run_again
    def never() -> None:
        runs.append(1)
        raise lost(code)

    with pytest.raises(OperationalError):
        never()
    assert len(runs) == here._TRIES


def test_what_is_our_own_fault_is_not_tried_again(clean_database):
    runs = []

    @run_again
    def wrong() -> None:
        runs.append(1)
        raise OperationalError(1146, "no such table")

    with pytest.raises(OperationalError):
        wrong()
    assert len(runs) == 1
    assert not can_run_again(ValueError("no"))


@pytest.mark.parametrize("stop", [KeyboardInterrupt, SystemExit])
def test_a_stop_in_the_middle_of_a_statement_is_no_lost_connection(scene, stop):
    runs = []

    @run_again
    def rename() -> None:
        runs.append(1)
        with unit_of_work():
            Shop.update(name="Half done").where(Shop.id == scene.user.shop_id).execute()
            database.connection()._force_close()  # as the client does when a statement is broken off
            raise stop

    with pytest.raises(stop):
        rename()
    assert runs == [1]
    with unit_of_work():
        assert Shop.get_by_id(scene.user.shop_id).name != "Half done"


def test_what_was_committed_is_not_done_twice(scene):
    runs = []

    @run_again
    def two_steps() -> None:
        runs.append(1)
        with unit_of_work():
            jobs.moved(scene.job)
        with unit_of_work():
            Shop.get_by_id(scene.user.shop_id)
        raise lost(1213)

    with pytest.raises(OperationalError):
        two_steps()
    assert len(runs) == 1

    @run_again
    def only_read() -> None:
        runs.append(1)
        with unit_of_work():
            Shop.get_by_id(scene.user.shop_id)
        raise lost(1213)

    runs.clear()
    with pytest.raises(OperationalError):
        only_read()
    assert len(runs) == here._TRIES


def test_an_act_within_an_act_is_run_again_by_the_outer_one(scene):
    runs = []

    @run_again
    def inner() -> None:
        runs.append("inner")
        if runs.count("inner") == 1:
            raise lost(1213)

    @run_again
    def outer() -> None:
        runs.append("outer")
        with unit_of_work():
            inner()

    outer()
    assert runs == ["outer", "inner", "outer", "inner"]


def test_more_threads_than_connections_wait_for_each_other(clean_database):
    found = []
    ready = threading.Barrier(40)

    def ask() -> None:
        ready.wait(30)
        with unit_of_work():
            found.append(database.execute_sql("SELECT SLEEP(0.05)").fetchone())

    threads = [threading.Thread(target=ask) for _ in range(40)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(found) == 40
