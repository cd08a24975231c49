"""Shops, people and their sessions."""

from __future__ import annotations

from peewee import (
    BooleanField,
    CharField,
    DateTimeField,
    ForeignKeyField,
    IntegerField,
)

from uchiwa.store.models.base import Base
from uchiwa.store.models.fields import LongTextField


class Shop(Base):
    """A tuner's shop: everything below belongs to exactly one."""

    name = CharField(max_length=120)
    thresholds = LongTextField(default="{}")
    own_checks = LongTextField(default="[]")
    own_setups = LongTextField(default="[]")
    own_bins = LongTextField(default="[]")


class User(Base):
    """A person who signs in."""

    shop = ForeignKeyField(Shop, on_delete="CASCADE")
    shop_id: int
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
    user_id: int
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
