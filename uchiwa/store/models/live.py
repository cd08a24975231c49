"""Live sessions: how each stands, what happened in it, and the overlays that were offered to the car."""

from __future__ import annotations

from peewee import (
    BigIntegerField,
    BooleanField,
    CharField,
    CompositeKey,
    DateTimeField,
    DoubleField,
    ForeignKeyField,
    IntegerField,
)

from uchiwa.store.models.base import Base
from uchiwa.store.models.fields import LongTextField
from uchiwa.store.models.jobs import Job
from uchiwa.store.models.logs import LogFile


class LiveSession(Base):
    """A log that is being recorded, or was; its rows are the raw chunks of the log, batch n at position n.

    `running` is the job as long as it is recorded, so that a job has one at most. `key_hash` is that of the key which the
    program at the car was given. `heard_ms` is when it was last heard, in milliseconds of Unix time. `analysis` is what the
    worker has found in the first `analysed` batches; `analyst` holds a lease on that. `overlay` is the
    number of the newest overlay, `acknowledged` of the one that the car drives by, 0 for its own calibration; `allowed` is the
    customer's leave.
    """

    log = ForeignKeyField(LogFile, unique=True, on_delete="CASCADE")
    log_id: int
    job = ForeignKeyField(Job, on_delete="CASCADE")
    job_id: int
    running = ForeignKeyField(Job, null=True, unique=True, on_delete="CASCADE")
    running_id: int | None
    key_hash = CharField(max_length=64)
    opening = LongTextField()
    began_at = DateTimeField()
    heard_ms = BigIntegerField()
    ended_at = DateTimeField(null=True)
    ended_why = CharField(max_length=12, default="")
    batches = IntegerField(default=0)
    rows = IntegerField(default=0)
    bytes = BigIntegerField(default=0)
    limits = LongTextField(default="{}")
    limits_version = IntegerField(default=0)
    analysis = LongTextField(default="")
    analysed = IntegerField(default=0)
    analyst = CharField(max_length=36, default="")
    analyst_until_ms = BigIntegerField(default=0)
    wanted = BooleanField(default=False)
    allowed = BooleanField(default=False)
    overlay = IntegerField(default=0)
    acknowledged = IntegerField(default=0)
    decided = CharField(max_length=12, default="")

    class Meta:
        """Peewee's settings."""

        table_name = "live_session"
        indexes = ((("job", "began_at"), False), (("ended_at",), False))


class LiveEvent(Base):
    """Something that happened in a session: a mark, a link that broke, leave given or taken back, an overlay driven."""

    session = ForeignKeyField(LiveSession, on_delete="CASCADE")
    session_id: int
    at_ms = BigIntegerField()
    seconds = DoubleField()
    kind = CharField(max_length=16)
    who = CharField(max_length=8)
    text = CharField(max_length=500, default="")

    class Meta:
        """Peewee's settings."""

        table_name = "live_event"
        indexes = ((("session", "id"), False),)


class LiveOverlay(Base):
    """Factors that were offered to the car, as JSON; `base` is the number of those that they are a step from, 0 for none."""

    id = None  # type: ignore[assignment]
    session = ForeignKeyField(LiveSession, on_delete="CASCADE")
    session_id: int
    number = IntegerField()
    base = IntegerField(default=0)
    table = CharField(max_length=120, column_name="table_id")
    factors = LongTextField()
    made_ms = BigIntegerField()
    acknowledged_ms = BigIntegerField(null=True)

    class Meta:
        """Peewee's settings."""

        table_name = "live_overlay"
        primary_key = CompositeKey("session", "number")
