"""Logs: raw bytes, channels, samples, findings and notes."""

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
    TextField,
)

from uchiwa.store.models.base import Base
from uchiwa.store.models.fields import LongTextField, MediumBlobField
from uchiwa.store.models.jobs import Car, Job, Round
from uchiwa.store.models.people import Shop, User


class LogFile(Base):
    """An uploaded log. The raw bytes are kept for ever; samples exist once its state is `ready`.

    A file with several recordings has one row for each; `source` is the one that has the raw bytes and, once they are
    whole, their `content_hash`. `owner` is the import that holds the lease, `attempts` how often one was begun.
    `reading` grows each time the samples are made anew. `upload_key` names an upload that has not arrived whole, so
    that it can go on; in another form, one that has, for its last piece may come again.
    """

    job = ForeignKeyField(Job, on_delete="CASCADE")
    job_id: int
    round = ForeignKeyField(Round, on_delete="CASCADE")
    round_id: int
    source = ForeignKeyField("self", null=True, on_delete="CASCADE")
    source_id: int | None
    name = CharField(max_length=200)
    size = BigIntegerField()
    content_hash = CharField(max_length=64, null=True)
    codec = CharField(max_length=8, default="")
    state = CharField(max_length=12)
    stage = CharField(max_length=24, default="")
    percent = IntegerField(default=0)
    accepted = BooleanField(default=True)
    decided = BooleanField(default=False)
    baseline = BooleanField(default=False)
    dyno = BooleanField(default=False)
    by_customer = BooleanField(default=False)
    message = CharField(max_length=500, default="")
    message_words = LongTextField(null=True)
    duration_s = DoubleField(null=True)
    samples = IntegerField(null=True)
    notes = TextField(default="{}")
    repairs = LongTextField(default="[]")
    drives = LongTextField(default="[]")
    verdicts = LongTextField(default="[]")
    dwell = LongTextField(default="")
    header = CharField(max_length=64, default="")
    upload_key = CharField(max_length=64, null=True)
    uploaded_at = DateTimeField()
    lease_until = DateTimeField(null=True)
    owner = CharField(max_length=36, default="")
    reading = IntegerField(default=0)
    attempts = IntegerField(default=0)
    import_seconds = DoubleField(null=True)

    class Meta:
        """Peewee's settings."""

        table_name = "log_file"
        indexes = (
            (("job", "content_hash"), True),
            (("job", "name"), False),
            (("round", "upload_key"), True),
            (("state",), False),
        )


class LogRawChunk(Base):
    """A piece of an upload as it came."""

    id = None  # type: ignore[assignment]
    log = ForeignKeyField(LogFile, on_delete="CASCADE")
    log_id: int
    position = IntegerField()
    data = MediumBlobField()

    class Meta:
        """Peewee's settings."""

        table_name = "log_raw_chunk"
        primary_key = CompositeKey("log", "position")


class LogChannel(Base):
    """One channel of a log; the time base of a raster is its channel with the quantity `time`.

    `levels` lists the blocks of its pyramid, finest first; NULL as long as that has not been built.
    """

    log = ForeignKeyField(LogFile, on_delete="CASCADE")
    log_id: int
    raster = IntegerField()
    position = IntegerField()
    name = CharField(max_length=190)
    unit = CharField(max_length=32)
    source_unit = CharField(max_length=32)
    quantity = CharField(max_length=64, null=True)
    reason = CharField(max_length=400)
    confidence = DoubleField(default=0.0)
    doubt = CharField(max_length=300, default="")
    read_as = CharField(max_length=40, default="")
    second = CharField(max_length=40, default="")
    samples = IntegerField()
    minimum = DoubleField(null=True)
    maximum = DoubleField(null=True)
    mean = DoubleField(null=True)
    levels = CharField(max_length=120, null=True)

    class Meta:
        """Peewee's settings."""

        table_name = "log_channel"
        indexes = ((("log", "quantity"), False),)


class ChannelChunk(Base):
    """A piece of a channel's samples, compressed, with its extremes."""

    id = None  # type: ignore[assignment]
    channel = ForeignKeyField(LogChannel, on_delete="CASCADE")
    channel_id: int
    position = IntegerField()
    samples = IntegerField()
    minimum = DoubleField(null=True)
    maximum = DoubleField(null=True)
    data = MediumBlobField()

    class Meta:
        """Peewee's settings."""

        table_name = "channel_chunk"
        primary_key = CompositeKey("channel", "position")


class ChannelLevel(Base):
    """One level of a channel's pyramid: lows and highs in one blob, sums and numbers of readings in another."""

    id = None  # type: ignore[assignment]
    channel = ForeignKeyField(LogChannel, on_delete="CASCADE")
    channel_id: int
    block = IntegerField()
    blocks = IntegerField()
    extremes = MediumBlobField()
    sums = MediumBlobField()

    class Meta:
        """Peewee's settings."""

        table_name = "channel_level"
        primary_key = CompositeKey("channel", "block")


class FoundInLog(Base):
    """A finding of a log; `at` holds its stretches as JSON, `words` the customer's sentence with its values, if it has any."""

    log = ForeignKeyField(LogFile, on_delete="CASCADE")
    log_id: int
    rule = CharField(max_length=32)
    severity = CharField(max_length=12)
    customer = CharField(max_length=600)
    tuner = CharField(max_length=600)
    at = TextField(default="[]")
    words = LongTextField(null=True)

    class Meta:
        """Peewee's settings."""

        table_name = "finding"


class LogNote(Base):
    """A note on a moment or stretch of a log; `shown` to the customer or not."""

    log = ForeignKeyField(LogFile, on_delete="CASCADE")
    log_id: int
    author = ForeignKeyField(User)
    author_id: int
    start_s = DoubleField()
    end_s = DoubleField()
    text = CharField(max_length=1000)
    shown = BooleanField(default=False)
    at = DateTimeField()

    class Meta:
        """Peewee's settings."""

        table_name = "log_note"
        indexes = ((("log", "start_s"), False),)


class ChannelMemory(Base):
    """What a person said a channel is: for a car, and for every log of the shop with the same header.

    `car` is null for what holds by header; `scope` names the one or the other. `quantity` is null for “leave it alone”.
    """

    shop = ForeignKeyField(Shop, on_delete="CASCADE")
    shop_id: int
    car = ForeignKeyField(Car, null=True, on_delete="CASCADE")
    car_id: int | None
    header = CharField(max_length=64, default="")
    scope = CharField(max_length=72)
    channel = CharField(max_length=255)
    quantity = CharField(max_length=64, null=True)
    unit = CharField(max_length=40, default="")

    class Meta:
        """Peewee's settings."""

        table_name = "channel_memory"
        indexes = ((("shop", "header"), False), (("shop", "scope", "channel"), True))


class PullNote(Base):
    """What was changed for a pull, whether it is shown, and its place among the others."""

    log = ForeignKeyField(LogFile, on_delete="CASCADE")
    log_id: int
    number = IntegerField()
    note = CharField(max_length=300, default="")
    hidden = BooleanField(default=False)
    place = DoubleField(null=True)

    class Meta:
        """Peewee's settings."""

        table_name = "pull_note"
        indexes = ((("log", "number"), True),)


class Estimate(Base):
    """Something estimated from logs, as JSON, under a hash of all that it follows from."""

    mark = CharField(max_length=64, unique=True)
    document = TextField()
    at = DateTimeField(index=True)


class WorkerBeat(Base):
    """The last sign of life of the worker."""

    name = CharField(max_length=64, unique=True)
    at = DateTimeField()

    class Meta:
        """Peewee's settings."""

        table_name = "worker_beat"
