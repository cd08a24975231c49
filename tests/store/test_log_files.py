"""Logs as pages ask for them."""

from __future__ import annotations

from tests.store.conftest import Scene, log_text, scene  # noqa: F401
from uchiwa.services.importing import import_log
from uchiwa.store import jobs, log_files
from uchiwa.store.database import database, unit_of_work


def ready(scene: Scene, seed: int):  # noqa: F811
    log, _ = scene.receive(log_text(seed))
    assert import_log(log.id)
    return log


def test_a_log_is_found_by_its_own_job_only(scene):  # noqa: F811
    log = ready(scene, 1)
    with unit_of_work():
        assert log_files.find(scene.job.id, log.id).id == log.id
        assert log_files.find(scene.job.id + 1, log.id) is None


def test_a_baseline_is_of_other_rounds_until_it_is_unmarked(scene):  # noqa: F811
    log = ready(scene, 1)
    with unit_of_work():
        log_files.mark_baseline(log, baseline=True)
        assert log_files.earlier_baselines(scene.job, jobs.rounds(scene.job)[0]) == []
        log_files.mark_baseline(log, baseline=False)
        assert not log_files.find(scene.job.id, log.id).baseline


def test_the_shops_newest_logs_come_with_job_and_car_in_one_statement(scene, monkeypatch):  # noqa: F811
    logs = [ready(scene, seed) for seed in (1, 2, 3)]
    statements = []
    original = database.execute_sql
    monkeypatch.setattr(
        database, "execute_sql", lambda sql, *rest, **named: (statements.append(sql), original(sql, *rest, **named))[1]
    )
    with unit_of_work():
        statements.clear()
        found = log_files.latest_of_shop(scene.user.shop_id, 2)
        assert [one.id for one in found] == [logs[2].id, logs[1].id]
        assert {one.job.car.title for one in found} == {scene.job.car.title}
        assert sum(sql.lstrip().startswith("SELECT") for sql in statements) == 1
        assert log_files.latest_of_shop(scene.user.shop_id + 1, 2) == []


def test_channels_and_what_waits(scene):  # noqa: F811
    log = ready(scene, 1)
    with unit_of_work():
        assert {"engine_speed", "lambda_measured"} <= {channel.quantity for channel in log_files.channels_of(log)}
        assert not log_files.being_read(scene.job)
        assert log_files.with_volts(scene.job) == 0
        assert [one.id for one in log_files.arrived(scene.job)] == [log.id]
        assert [one.id for one in log_files.latest_ready(scene.job, 5)] == [log.id]
