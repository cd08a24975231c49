"""The tables as peewee models. The migrations make them; a test compares the two."""

from __future__ import annotations

import base64

from peewee import (
    BigAutoField,
    BigIntegerField,
    BlobField,
    BooleanField,
    CharField,
    CompositeKey,
    DateTimeField,
    DoubleField,
    ForeignKeyField,
    Function,
    IntegerField,
    Model,
    TextField,
    fn,
)

from uchiwa.store.database import database


class MediumBlobField(BlobField):
    """Up to 16 MiB."""

    field_type = "MEDIUMBLOB"


def blob(data: bytes) -> Function:
    """Bytes as a statement carries them: as base64, which the driver escapes thirty times quicker than raw bytes."""
    return fn.FROM_BASE64(base64.b64encode(data).decode("ascii"))


class LongBlobField(BlobField):
    """Up to 4 GiB."""

    field_type = "LONGBLOB"


class LongTextField(TextField):
    """Up to 4 GiB of text."""

    field_type = "LONGTEXT"


class Base(Model):
    """Every model, on the one database."""

    id = BigAutoField()

    class Meta:
        """Peewee's settings."""

        database = database
        legacy_table_names = False


class Shop(Base):
    """A tuner's shop: everything below belongs to exactly one."""

    name = CharField(max_length=120)
    thresholds = LongTextField(default="{}")
    own_checks = LongTextField(default="[]")
    own_setups = LongTextField(default="[]")


class User(Base):
    """A person who signs in."""

    shop = ForeignKeyField(Shop, on_delete="CASCADE")
    email = CharField(max_length=190, unique=True)
    name = CharField(max_length=120)
    password_hash = CharField(max_length=255)
    theme = CharField(max_length=8, default="auto")
    measures = CharField(max_length=8, default="metric")
    mixture = CharField(max_length=8, default="lambda")


class Attempt(Base):
    """How often something was tried since a moment: a failed sign-in, an unknown link. `mark` is a hash of by whom."""

    mark = CharField(max_length=64, unique=True)
    since = DateTimeField(index=True)
    count = IntegerField()


class WebSession(Base):
    """A person who is signed in on one device; signing out removes it. Only a hash of its token is kept."""

    token_hash = CharField(max_length=64, unique=True)
    user = ForeignKeyField(User, on_delete="CASCADE")
    made_at = DateTimeField()
    seen_at = DateTimeField()

    class Meta:
        """Peewee's settings."""

        table_name = "web_session"


class Flash(Base):
    """A sentence for the next page of a browser, shown once."""

    session_hash = CharField(max_length=64, index=True)
    text = CharField(max_length=2000)
    bad = BooleanField()
    at = DateTimeField(index=True)


class Customer(Base):
    """A driver whose car is tuned."""

    shop = ForeignKeyField(Shop, on_delete="CASCADE")
    name = CharField(max_length=120)

    class Meta:
        """Peewee's settings."""

        indexes = ((("shop", "name"), True),)


class Car(Base):
    """A customer's car."""

    customer = ForeignKeyField(Customer, on_delete="CASCADE")
    title = CharField(max_length=120)
    details = CharField(max_length=200, default="")
    file = LongTextField(default="{}")


class Job(Base):
    """One car under work. `moved_at` is when the move last passed to the other side; `once` names the form it is from."""

    shop = ForeignKeyField(Shop, on_delete="CASCADE")
    car = ForeignKeyField(Car, on_delete="CASCADE")
    closed = BooleanField(default=False)
    moved_at = DateTimeField()
    setup = LongTextField(null=True)
    once = CharField(max_length=64, null=True)

    class Meta:
        """Peewee's settings."""

        indexes = ((("shop", "once"), True),)


class Round(Base):
    """One turn of the cycle; the last of a job is the one under work."""

    job = ForeignKeyField(Job, on_delete="CASCADE")
    number = IntegerField()
    policy = TextField(default="{}")
    spark = LongTextField(default="{}")
    brief = LongTextField(default="")
    opened_at = DateTimeField()
    returned_at = DateTimeField(null=True)
    error_percent = DoubleField(null=True)
    cells = IntegerField(null=True)
    cells_within = IntegerField(null=True)
    trim_percent = DoubleField(null=True)
    driven_s = DoubleField(null=True)
    regions = LongTextField(default="[]")
    untold_since = DateTimeField(null=True)

    class Meta:
        """Peewee's settings."""

        indexes = ((("job", "number"), True), (("untold_since",), False))


class LogFile(Base):
    """An uploaded log. The raw bytes are kept for ever; samples exist once its state is `ready`.

    A file with several recordings has one row for each; `source` is the one that has the raw bytes and, once they are
    whole, their `content_hash`. `owner` is the import that holds the lease, `attempts` how often one was begun.
    `reading` grows each time the samples are made anew. `upload_key` names an upload that has not arrived whole, so
    that it can go on.
    """

    job = ForeignKeyField(Job, on_delete="CASCADE")
    round = ForeignKeyField(Round, on_delete="CASCADE")
    source = ForeignKeyField("self", null=True, on_delete="CASCADE")
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

    class Meta:
        """Peewee's settings."""

        table_name = "log_file"
        indexes = (
            (("job", "content_hash"), True),
            (("round", "upload_key"), True),
            (("state",), False),
        )


class LogRawChunk(Base):
    """A piece of an upload as it came."""

    id = None
    log = ForeignKeyField(LogFile, on_delete="CASCADE")
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

    id = None
    channel = ForeignKeyField(LogChannel, on_delete="CASCADE")
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

    id = None
    channel = ForeignKeyField(LogChannel, on_delete="CASCADE")
    block = IntegerField()
    blocks = IntegerField()
    extremes = MediumBlobField()
    sums = MediumBlobField()

    class Meta:
        """Peewee's settings."""

        table_name = "channel_level"
        primary_key = CompositeKey("channel", "block")


class StoredCalibration(Base):
    """A calibration's content, kept once for each content."""

    shop = ForeignKeyField(Shop, on_delete="CASCADE")
    content_hash = CharField(max_length=64)
    document = LongTextField()

    class Meta:
        """Peewee's settings."""

        table_name = "calibration"
        indexes = ((("shop", "content_hash"), True),)


class Revision(Base):
    """A frozen, numbered calibration of a job; number 0 is what the car came with.

    `report` and `brief` are what went out with it. A withdrawn one stays, but no car is to run it.
    """

    job = ForeignKeyField(Job, on_delete="CASCADE")
    number = IntegerField()
    parent = ForeignKeyField("self", null=True, on_delete="CASCADE")
    round = ForeignKeyField(Round, null=True, on_delete="CASCADE")
    calibration = ForeignKeyField(StoredCalibration)
    author = ForeignKeyField(User)
    notes = TextField(default="")
    frozen_at = DateTimeField()
    final = BooleanField(default=False)
    report = LongTextField(default="")
    brief = LongTextField(default="")
    downloaded_at = DateTimeField(null=True)
    flashed_at = DateTimeField(null=True)
    withdrawn_at = DateTimeField(null=True)
    withdrawn_why = CharField(max_length=500, default="")

    class Meta:
        """Peewee's settings."""

        indexes = ((("job", "number"), True),)


class Draft(Base):
    """The calibration being worked on; `version` grows with every edit and guards against stale ones.

    `pins` are the pinned cells [i, j] by table id.
    """

    job = ForeignKeyField(Job, unique=True, on_delete="CASCADE")
    base = ForeignKeyField(Revision)
    calibration = ForeignKeyField(StoredCalibration)
    version = IntegerField(default=1)
    pins = LongTextField(default="{}")


class ControllerImage(Base):
    """The image a job's car came with, as the file that was given, packed, and the layout that describes it."""

    job = ForeignKeyField(Job, unique=True, on_delete="CASCADE")
    name = CharField(max_length=200)
    format = CharField(max_length=8)
    layout = LongTextField()
    data = LongBlobField()
    at = DateTimeField()

    class Meta:
        """Peewee's settings."""

        table_name = "controller_image"


class RevisionImage(Base):
    """The image that a frozen revision went out as, packed; `content_hash` is that of the file."""

    revision = ForeignKeyField(Revision, unique=True, on_delete="CASCADE")
    format = CharField(max_length=8)
    content_hash = CharField(max_length=64)
    layout = LongTextField()
    data = LongBlobField()

    class Meta:
        """Peewee's settings."""

        table_name = "revision_image"


class Answer(Base):
    """Why a concern about a draft was accepted; it holds as long as the concern stays the same."""

    job = ForeignKeyField(Job, on_delete="CASCADE")
    round = ForeignKeyField(Round, on_delete="CASCADE")
    concern = CharField(max_length=24)
    rule = CharField(max_length=32)
    sentence = CharField(max_length=500)
    reason = CharField(max_length=500)
    author = ForeignKeyField(User)
    at = DateTimeField()

    class Meta:
        """Peewee's settings."""

        indexes = ((("job", "concern"), True),)


class KnockDecision(Base):
    """What a person holds the knock in some cells of a table to be; `cells` as JSON, [[i, j], …]."""

    job = ForeignKeyField(Job, on_delete="CASCADE")
    round = ForeignKeyField(Round, on_delete="CASCADE")
    table_id = CharField(max_length=64)
    verdict = CharField(max_length=8)
    reason = CharField(max_length=300)
    cells = LongTextField()
    author = ForeignKeyField(User)
    at = DateTimeField()

    class Meta:
        """Peewee's settings."""

        table_name = "knock_decision"
        indexes = ((("job", "table_id"), False),)


class PullNote(Base):
    """What was changed for a pull, whether it is shown, and its place among the others."""

    log = ForeignKeyField(LogFile, on_delete="CASCADE")
    number = IntegerField()
    note = CharField(max_length=300, default="")
    hidden = BooleanField(default=False)
    place = DoubleField(null=True)

    class Meta:
        """Peewee's settings."""

        table_name = "pull_note"
        indexes = ((("log", "number"), True),)


class Event(Base):
    """Something done to a job, with its inputs: what makes every number answerable.

    `version` is the draft's afterwards, where the event changed it. A step that is `put_back` can be done again until
    another step is made in its place, by which it is `abandoned`.
    """

    job = ForeignKeyField(Job, on_delete="CASCADE")
    round = ForeignKeyField(Round, null=True, on_delete="CASCADE")
    kind = CharField(max_length=24)
    author = ForeignKeyField(User, null=True)
    at = DateTimeField()
    sentence = CharField(max_length=500)
    inputs = LongTextField(default="{}")
    before = ForeignKeyField(StoredCalibration, null=True, backref="+")
    after = ForeignKeyField(StoredCalibration, null=True, backref="+")
    put_back = BooleanField(default=False)
    abandoned = BooleanField(default=False)
    version = IntegerField(null=True)

    class Meta:
        """Peewee's settings."""

        indexes = ((("job", "at"), False),)


class FoundInLog(Base):
    """A finding of a log; `at` holds its stretches as JSON."""

    log = ForeignKeyField(LogFile, on_delete="CASCADE")
    rule = CharField(max_length=32)
    severity = CharField(max_length=12)
    customer = CharField(max_length=600)
    tuner = CharField(max_length=600)
    at = TextField(default="[]")

    class Meta:
        """Peewee's settings."""

        table_name = "finding"


class ChannelMemory(Base):
    """What a person said a channel is: for a car, and for every log of the shop with the same header.

    `car` is null for what holds by header; `scope` names the one or the other. `quantity` is null for “leave it alone”.
    """

    shop = ForeignKeyField(Shop, on_delete="CASCADE")
    car = ForeignKeyField(Car, null=True, on_delete="CASCADE")
    header = CharField(max_length=64, default="")
    scope = CharField(max_length=72)
    channel = CharField(max_length=255)
    quantity = CharField(max_length=64, null=True)
    unit = CharField(max_length=40, default="")

    class Meta:
        """Peewee's settings."""

        table_name = "channel_memory"
        indexes = ((("shop", "header"), False), (("shop", "scope", "channel"), True))


class BriefPattern(Base):
    """A brief kept under a name, to be fitted to other cars."""

    shop = ForeignKeyField(Shop, on_delete="CASCADE")
    name = CharField(max_length=80)
    document = LongTextField()

    class Meta:
        """Peewee's settings."""

        table_name = "brief_pattern"
        indexes = ((("shop", "name"), True),)


class CustomerLink(Base):
    """The secret link of a job's customer; only a hash of its token is kept."""

    job = ForeignKeyField(Job, on_delete="CASCADE")
    token_hash = CharField(max_length=64, unique=True)
    made_at = DateTimeField()
    revoked_at = DateTimeField(null=True)
    seen_at = DateTimeField(null=True)

    class Meta:
        """Peewee's settings."""

        table_name = "customer_link"


class Message(Base):
    """A few words between tuner and customer; without an author they are the customer's. `once` names the form."""

    job = ForeignKeyField(Job, on_delete="CASCADE")
    author = ForeignKeyField(User, null=True)
    text = CharField(max_length=2000)
    at = DateTimeField()
    once = CharField(max_length=64, null=True)

    class Meta:
        """Peewee's settings."""

        indexes = ((("job", "at"), False), (("job", "once"), True))


class ComputedChannel(Base):
    """A shop's computed channel; `name` is what formulas call it."""

    shop = ForeignKeyField(Shop, on_delete="CASCADE")
    name = CharField(max_length=40)
    title = CharField(max_length=80)
    formula = CharField(max_length=500)
    unit = CharField(max_length=32)
    author = ForeignKeyField(User)
    at = DateTimeField()

    class Meta:
        """Peewee's settings."""

        table_name = "computed_channel"
        indexes = ((("shop", "name"), True),)


class KeptArrangement(Base):
    """An arrangement of strips that a person keeps."""

    user = ForeignKeyField(User, on_delete="CASCADE")
    name = CharField(max_length=60)
    strips = TextField()

    class Meta:
        """Peewee's settings."""

        table_name = "arrangement"
        indexes = ((("user", "name"), True),)


class LogNote(Base):
    """A note on a moment or stretch of a log; `shown` to the customer or not."""

    log = ForeignKeyField(LogFile, on_delete="CASCADE")
    author = ForeignKeyField(User)
    start_s = DoubleField()
    end_s = DoubleField()
    text = CharField(max_length=1000)
    shown = BooleanField(default=False)
    at = DateTimeField()

    class Meta:
        """Peewee's settings."""

        table_name = "log_note"
        indexes = ((("log", "start_s"), False),)


class WorkerBeat(Base):
    """The last sign of life of the worker."""

    name = CharField(max_length=64, unique=True)
    at = DateTimeField()

    class Meta:
        """Peewee's settings."""

        table_name = "worker_beat"


class Estimate(Base):
    """Something estimated from logs, as JSON, under a hash of all that it follows from."""

    mark = CharField(max_length=64, unique=True)
    document = TextField()
    at = DateTimeField(index=True)


class DemoPart(Base):
    """A job of the demo data, `done` once all of it is there; what a kill has left half made is made anew."""

    name = CharField(max_length=64, unique=True)
    job = ForeignKeyField(Job, null=True, on_delete="SET NULL")
    done = BooleanField(default=False)

    class Meta:
        """Peewee's settings."""

        table_name = "demo_part"


ALL = (
    Shop, User, Attempt, WebSession, Flash, Customer, Car, Job, Round, LogFile, LogRawChunk, LogChannel, ChannelChunk, ChannelLevel,
    StoredCalibration, Revision, Draft, ControllerImage, RevisionImage, Answer, KnockDecision, PullNote, Event, FoundInLog,
    ChannelMemory, BriefPattern, CustomerLink, Message, ComputedChannel, KeptArrangement, LogNote, WorkerBeat,
    Estimate, DemoPart,
)  # fmt: skip
