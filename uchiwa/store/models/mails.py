"""Mails: what is to be told, and whether it was sent."""

from __future__ import annotations

from peewee import CharField, DateTimeField, ForeignKeyField, IntegerField

from uchiwa.store.models.base import Base
from uchiwa.store.models.fields import LongTextField
from uchiwa.store.models.jobs import Job
from uchiwa.store.models.people import OneTimeLink, Shop, User


class Mail(Base):
    """A mail, written from its kind and values when it is sent, so that none carries a secret in the database.

    `key` names it in its Message-ID, whatever happens; `once` keeps the same thing from being told twice. `state` is
    waiting, sending, sent, failed or dropped. `owner` holds its lease until `lease_until`.
    """

    key = CharField(max_length=64, unique=True)
    once = CharField(max_length=120, unique=True)
    shop = ForeignKeyField(Shop, null=True, on_delete="CASCADE")
    shop_id: int | None
    job = ForeignKeyField(Job, null=True, on_delete="CASCADE")
    job_id: int | None
    user = ForeignKeyField(User, null=True, on_delete="CASCADE")
    user_id: int | None
    link = ForeignKeyField(OneTimeLink, null=True, on_delete="CASCADE")
    link_id: int | None
    recipient = CharField(max_length=190)
    kind = CharField(max_length=24)
    details = LongTextField(default="{}")
    state = CharField(max_length=8, default="waiting")
    made_at = DateTimeField()
    due_at = DateTimeField()
    sent_at = DateTimeField(null=True)
    attempts = IntegerField(default=0)
    problem = CharField(max_length=300, default="")
    owner = CharField(max_length=36, default="")
    lease_until = DateTimeField(null=True)

    class Meta:
        """Peewee's settings."""

        indexes = ((("state", "due_at"), False), (("job", "made_at"), False), (("user", "state"), False))
