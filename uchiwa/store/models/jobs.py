"""Customers, cars, jobs and rounds."""

from __future__ import annotations

from peewee import (
    BooleanField,
    CharField,
    DateTimeField,
    DoubleField,
    ForeignKeyField,
    IntegerField,
    TextField,
)

from uchiwa.store.models.base import Base
from uchiwa.store.models.fields import LongTextField
from uchiwa.store.models.people import Shop, User


class Customer(Base):
    """A driver whose car is tuned. `reminders_off` says that they want no reminders; `language` of their pages, or empty."""

    shop = ForeignKeyField(Shop, on_delete="CASCADE")
    shop_id: int
    name = CharField(max_length=120)
    email = CharField(max_length=190, default="")
    reminders_off = BooleanField(default=False)
    language = CharField(max_length=8, default="")

    class Meta:
        """Peewee's settings."""

        indexes = ((("shop", "name"), True),)


class Car(Base):
    """A customer's car."""

    customer = ForeignKeyField(Customer, on_delete="CASCADE")
    customer_id: int
    title = CharField(max_length=120)
    details = CharField(max_length=200, default="")
    file = LongTextField(default="{}")


class Job(Base):
    """One car under work. `moved_at` is when the move last passed to the other side; `once` names the form it is from.

    `tuner` is who of the shop has it in hand.
    """

    shop = ForeignKeyField(Shop, on_delete="CASCADE")
    shop_id: int
    car = ForeignKeyField(Car, on_delete="CASCADE")
    car_id: int
    closed = BooleanField(default=False)
    moved_at = DateTimeField()
    setup = LongTextField(null=True)
    once = CharField(max_length=64, null=True)
    tuner = ForeignKeyField(User, null=True, on_delete="SET NULL")
    tuner_id: int | None

    class Meta:
        """Peewee's settings."""

        indexes = ((("shop", "once"), True), (("shop", "closed", "moved_at"), False))


class Round(Base):
    """One turn of the cycle; the last of a job is the one under work."""

    job = ForeignKeyField(Job, on_delete="CASCADE")
    job_id: int
    number = IntegerField()
    policy = TextField(default="{}")
    policies = LongTextField(default="{}", column_name="spark")
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


class CustomerLink(Base):
    """The secret link of a job's customer; only a hash of its token is kept. Each mail has a link of its own."""

    job = ForeignKeyField(Job, on_delete="CASCADE")
    job_id: int
    token_hash = CharField(max_length=64, unique=True)
    made_at = DateTimeField()
    revoked_at = DateTimeField(null=True)
    seen_at = DateTimeField(null=True)
    expires_at = DateTimeField(null=True)
    mail_key = CharField(max_length=64, default="")

    class Meta:
        """Peewee's settings."""

        table_name = "customer_link"


class Message(Base):
    """A few words between tuner and customer; without an author they are the customer's. `once` names the form."""

    job = ForeignKeyField(Job, on_delete="CASCADE")
    job_id: int
    author = ForeignKeyField(User, null=True)
    author_id: int | None
    text = CharField(max_length=2000)
    at = DateTimeField()
    once = CharField(max_length=64, null=True)

    class Meta:
        """Peewee's settings."""

        indexes = ((("job", "at"), False), (("job", "once"), True))


class JobNote(Base):
    """A note among the shop's people about a job, which its customer never sees. `once` names the form."""

    job = ForeignKeyField(Job, on_delete="CASCADE")
    job_id: int
    author = ForeignKeyField(User)
    author_id: int
    text = CharField(max_length=2000)
    at = DateTimeField()
    once = CharField(max_length=64, null=True)

    class Meta:
        """Peewee's settings."""

        table_name = "job_note"
        indexes = ((("job", "at"), False), (("job", "once"), True))


class BriefPattern(Base):
    """A brief kept under a name, to be fitted to other cars."""

    shop = ForeignKeyField(Shop, on_delete="CASCADE")
    shop_id: int
    name = CharField(max_length=80)
    document = LongTextField()

    class Meta:
        """Peewee's settings."""

        table_name = "brief_pattern"
        indexes = ((("shop", "name"), True),)


class DemoPart(Base):
    """A job of the demo data, `done` once all of it is there; what a kill has left half made is made anew."""

    name = CharField(max_length=64, unique=True)
    job = ForeignKeyField(Job, null=True, on_delete="SET NULL")
    job_id: int | None
    done = BooleanField(default=False)

    class Meta:
        """Peewee's settings."""

        table_name = "demo_part"
