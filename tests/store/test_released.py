"""Databases as released versions have left them, with data: brought up to date, everything is there and can be worked with.

Each dump was made by that version itself; one is added with each release.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
import zstandard

from tests.store.test_schema import test_migrations_make_what_the_models_say as must_be_as_the_models_say
from uchiwa.store import accounts, backup, calibrations, drafts, jobs, people, queue, revisions, samples
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Job, LogFile, User
from uchiwa.store.place import Place
from uchiwa.store.schema import migrate

RELEASED = Path(__file__).parent / "released"


@pytest.fixture
def place(clean_database) -> Iterator[Place]:
    found = Place.load()
    assert found is not None
    yield found
    backup._drop(backup._tables())
    migrate()


@pytest.mark.parametrize("version", sorted(one.name.removesuffix(".sql.zst") for one in RELEASED.iterdir()))
def test_a_database_of_a_released_version(place, version):
    backup._drop(backup._tables())
    dump = zstandard.ZstdDecompressor().decompress(
        (RELEASED / f"{version}.sql.zst").read_bytes(), max_output_size=10_000_000
    )
    backup._feed(place, iter([dump]))
    assert migrate()
    must_be_as_the_models_say(None)
    with unit_of_work():
        user = User.get()
        job = jobs.find(user.shop_id, Job.get().id)
        assert (user.role, user.disabled_at, job.tuner_id) == ("owner", None, None), (
            "who was there before may do what they did"
        )
        assert drafts.current(job).calibration is not None
        assert calibrations.content(drafts.current(job).calibration).tables
        assert revisions.numbered(job, 0) is not None
        assert [person.email for person in people.of_shop(user.shop_id)] == ["tuner@example.org"]
        assert len(queue.queue(user.shop_id)) == 1
        logs = list(LogFile.select())
        for log in logs:
            assert samples.read_whole(log).rasters
    if version != "0.1.0":
        assert len(logs) == 1
    assert accounts.sign_in("tuner@example.org", "a long enough password", "10.0.0.1").id == user.id
