"""A shop with one job, and a quick log."""

from __future__ import annotations

import io
import time
from dataclasses import dataclass

import numpy as np
import pytest

from tests.conftest import make_log
from uchiwa.services.importing import import_log
from uchiwa.standin.cars import pike_base
from uchiwa.standin.logger import write_delimited
from uchiwa.store import accounts, drafts, jobs, leases, log_states, uploads
from uchiwa.store.acting import Acting
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Job, LogFile, Round, User


def log_text(seed: int = 1, *, size: int = 1500, mixture: float = 1.06, trim: float = 0.0) -> str:
    """A drive over the Pike's axes whose mixture is off by a known factor."""
    rng = np.random.default_rng(seed)
    knots = np.arange(0, size + 100, 100)
    log = make_log(
        engine_speed=np.interp(np.arange(size), knots, rng.uniform(900, 4500, knots.size)).round(),
        manifold_pressure=np.interp(np.arange(size), knots, rng.uniform(30, 95, knots.size)).round(1),
        throttle_position=15.0 + 20.0 * (np.arange(size) // 400 % 2),
        coolant_temperature=90.0,
        lambda_measured=np.round(mixture + rng.normal(0, 0.004, size), 3),
        lambda_target=1.0,
        short_term_trim=trim,
        long_term_trim=0.0,
    )
    return write_delimited(log)


def ready(log: LogFile, within_s: float = 120.0) -> LogFile:
    """The log once it is imported: in this process, or by the application's worker where that was quicker."""
    until = time.monotonic() + within_s
    while not import_log(log.id):
        with unit_of_work():
            state = LogFile.get_by_id(log.id).state
        if state == log_states.READY:
            break
        assert state in (log_states.STORED, log_states.IMPORTING), state
        assert time.monotonic() < until, state
        time.sleep(0.1)
    return log


def sweep() -> None:
    """Import whatever waits, in this process."""
    for log_id in leases.waiting():
        import_log(log_id)


@dataclass
class Scene:
    """A shop at work."""

    user: User
    job: Job
    round: Round

    def acting(self, version: int | None = None, why: str = "", round_: Round | None = None) -> Acting:
        """The tuner, who has seen the draft as it is unless said otherwise."""
        seen = drafts.current(self.job).version if version is None else version
        return Acting(self.job, round_ or self.round, self.user, seen, why)

    def receive(self, text: str | bytes, name: str = "drive.csv") -> tuple[LogFile, bool]:
        """Store an upload."""
        data = text.encode() if isinstance(text, str) else text
        return uploads.receive(self.job, self.round, name, io.BytesIO(data))


@pytest.fixture
def scene(clean_database) -> Scene:
    """One shop, one tuner, one job in round 1."""
    with unit_of_work():
        shop = accounts.create_shop("Shop")
        user = accounts.create_user(shop, "tuner@example.org", "Tuner", "a long enough password")
        job = jobs.create(user, "Customer", "Corvid Pike", "", pike_base())
        return Scene(user, job, jobs.rounds(job)[0])
