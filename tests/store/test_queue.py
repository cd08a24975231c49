"""The queue finds jobs by what a person remembers of them, within their shop."""

from __future__ import annotations

import pytest

from uchiwa.standin.cars import pike_base
from uchiwa.store import accounts, jobs
from uchiwa.store.database import database, unit_of_work
from uchiwa.store.models import Job, LogFile
from uchiwa.store.queue import JobFilter, queue, told_logs
from uchiwa.store.uploads import receive


def found(shop_id: int, text: str) -> list[str]:
    with unit_of_work():
        return [one.job.car.customer.name for one in queue(shop_id, JobFilter(text))]


@pytest.fixture
def shops(scene) -> tuple[int, int]:
    """Two shops; in the first a second job with a log, in the other one with a log of the same name."""
    import io

    with unit_of_work():
        other = accounts.create_shop("Other")
        stranger = accounts.create_user(other, "other@example.org", "Other", "a long enough password")
        second = jobs.create(scene.user, "I. Fell", "Larkspur Tern", "", pike_base())
        foreign = jobs.create(stranger, "Not ours", "Corvid Pike", "", pike_base())
        rounds = {job: jobs.rounds(job)[0] for job in (second, foreign)}
    for job, round_ in rounds.items():
        receive(job, round_, "night_pull 40%.csv", io.BytesIO(b"a,b\n1,2\n"))
    return scene.user.shop_id, other.id


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("tern", ["I. Fell"]),
        ("FELL", ["I. Fell"]),
        ("pull 40", ["I. Fell"]),
        ("  40%.c ", ["I. Fell"]),
        ("pike", ["Customer"]),
        ("", ["Customer", "I. Fell"]),
        ("night%csv", []),
        ("nightxpull", []),
        ("night_pull", ["I. Fell"]),
    ],
)
def test_a_job_is_found_by_part_of_car_customer_or_log_of_its_own_shop(shops, text, expected):
    assert sorted(found(shops[0], text)) == expected
    if text and expected == ["I. Fell"] and "night" in text:
        assert found(shops[1], text) == ["Not ours"]


def test_names_of_logs_are_read_from_an_index_and_not_from_the_logs(shops):
    query = LogFile.select(LogFile.job).join(Job).where(Job.shop == shops[0], LogFile.name.contains("pull"))
    with unit_of_work():
        cursor = database.execute_sql(*(f"EXPLAIN {query.sql()[0]}", query.sql()[1]))
        plan = [dict(zip([one[0] for one in cursor.description], row, strict=True)) for row in cursor]
    (logs,) = (one for one in plan if "log_file" in (one["key"] or ""))
    assert logs["key"] == "log_file_job_id_name"
    assert "Using index" in logs["Extra"]


@pytest.mark.parametrize(
    ("names", "said"),
    [
        ([], ""),
        (["a.csv"], "a.csv"),
        (["a.csv", "b.csv", "a.csv"], "a.csv ×2 · b.csv"),
        (["a", "b", "c", "d", "d"], "a · b · c and 2 more"),
        (["a", "a", "b", "c", "c", "c"], "a ×2 · b · c ×3"),
    ],
)
def test_logs_of_one_name_are_named_once(names, said):
    assert told_logs(names) == said
