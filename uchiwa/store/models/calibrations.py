"""Calibrations: content, revisions, drafts, images, and the events that made them."""

from __future__ import annotations

from peewee import (
    BooleanField,
    CharField,
    DateTimeField,
    ForeignKeyField,
    IntegerField,
    TextField,
)

from uchiwa.store.models.base import Base
from uchiwa.store.models.fields import LongBlobField, LongTextField
from uchiwa.store.models.jobs import Job, Round
from uchiwa.store.models.people import Shop, User


class StoredCalibration(Base):
    """A calibration's content, kept once for each content."""

    shop = ForeignKeyField(Shop, on_delete="CASCADE")
    shop_id: int
    content_hash = CharField(max_length=64)
    document = LongTextField()

    class Meta:
        """Peewee's settings."""

        table_name = "calibration"
        indexes = ((("shop", "content_hash"), True),)


class Revision(Base):
    """A frozen, numbered calibration of a job; number 0 is what the car came with.

    `report` and `brief` are what went out with it. A withdrawn one stays, but no car is to run it. A `start_map` is a number
    0 that the car does not run until it is flashed.
    """

    job = ForeignKeyField(Job, on_delete="CASCADE")
    job_id: int
    number = IntegerField()
    parent = ForeignKeyField("self", null=True, on_delete="CASCADE")
    parent_id: int | None
    round = ForeignKeyField(Round, null=True, on_delete="CASCADE")
    round_id: int | None
    calibration = ForeignKeyField(StoredCalibration)
    calibration_id: int
    author = ForeignKeyField(User)
    author_id: int
    notes = TextField(default="")
    frozen_at = DateTimeField()
    final = BooleanField(default=False)
    report = LongTextField(default="")
    brief = LongTextField(default="")
    downloaded_at = DateTimeField(null=True)
    flashed_at = DateTimeField(null=True)
    withdrawn_at = DateTimeField(null=True)
    withdrawn_why = CharField(max_length=500, default="")
    start_map = BooleanField(default=False)

    class Meta:
        """Peewee's settings."""

        indexes = ((("job", "number"), True),)


class Draft(Base):
    """The calibration being worked on; `version` grows with every edit and guards against stale ones.

    `pins` are the pinned cells [i, j] by table id.
    """

    job = ForeignKeyField(Job, unique=True, on_delete="CASCADE")
    job_id: int
    base = ForeignKeyField(Revision)
    base_id: int
    calibration = ForeignKeyField(StoredCalibration)
    calibration_id: int
    version = IntegerField(default=1)
    pins = LongTextField(default="{}")


class ControllerImage(Base):
    """The image a job's car came with, as the file that was given, packed, and the layout that describes it."""

    job = ForeignKeyField(Job, unique=True, on_delete="CASCADE")
    job_id: int
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
    revision_id: int
    format = CharField(max_length=8)
    content_hash = CharField(max_length=64)
    layout = LongTextField()
    data = LongBlobField()

    class Meta:
        """Peewee's settings."""

        table_name = "revision_image"


class Event(Base):
    """Something done to a job, with its inputs: what makes every number answerable.

    `version` is the draft's afterwards, where the event changed it. A step that is `put_back` can be done again until
    another step is made in its place, by which it is `abandoned`.
    """

    job = ForeignKeyField(Job, on_delete="CASCADE")
    job_id: int
    round = ForeignKeyField(Round, null=True, on_delete="CASCADE")
    round_id: int | None
    kind = CharField(max_length=24)
    author = ForeignKeyField(User, null=True)
    author_id: int | None
    at = DateTimeField()
    sentence = CharField(max_length=500)
    inputs = LongTextField(default="{}")
    before = ForeignKeyField(StoredCalibration, null=True, backref="+")
    before_id: int | None
    after = ForeignKeyField(StoredCalibration, null=True, backref="+")
    after_id: int | None
    put_back = BooleanField(default=False)
    abandoned = BooleanField(default=False)
    version = IntegerField(null=True)

    class Meta:
        """Peewee's settings."""

        indexes = ((("job", "at"), False),)
