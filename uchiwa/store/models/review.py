"""What people answered and decided."""

from __future__ import annotations

from peewee import (
    CharField,
    DateTimeField,
    ForeignKeyField,
)

from uchiwa.store.models.base import Base
from uchiwa.store.models.fields import LongTextField
from uchiwa.store.models.jobs import Job, Round
from uchiwa.store.models.people import User


class Answer(Base):
    """Why a concern about a draft was accepted; it holds as long as the concern stays the same."""

    job = ForeignKeyField(Job, on_delete="CASCADE")
    job_id: int
    round = ForeignKeyField(Round, on_delete="CASCADE")
    round_id: int
    concern = CharField(max_length=24)
    rule = CharField(max_length=32)
    sentence = CharField(max_length=500)
    reason = CharField(max_length=500)
    author = ForeignKeyField(User)
    author_id: int
    at = DateTimeField()

    class Meta:
        """Peewee's settings."""

        indexes = ((("job", "concern"), True),)


class KnockDecision(Base):
    """What a person holds the knock in some cells of a table to be; `cells` as JSON, [[i, j], …]."""

    job = ForeignKeyField(Job, on_delete="CASCADE")
    job_id: int
    round = ForeignKeyField(Round, on_delete="CASCADE")
    round_id: int
    table_id = CharField(max_length=64)
    verdict = CharField(max_length=8)
    reason = CharField(max_length=300)
    cells = LongTextField()
    author = ForeignKeyField(User)
    author_id: int
    at = DateTimeField()

    class Meta:
        """Peewee's settings."""

        table_name = "knock_decision"
        indexes = ((("job", "table_id"), False),)
