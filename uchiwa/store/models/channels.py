"""A shop's own channels and a person's arrangements of strips."""

from __future__ import annotations

from peewee import (
    CharField,
    DateTimeField,
    ForeignKeyField,
    TextField,
)

from uchiwa.store.models.base import Base
from uchiwa.store.models.people import Shop, User


class ComputedChannel(Base):
    """A shop's computed channel; `name` is what formulas call it."""

    shop = ForeignKeyField(Shop, on_delete="CASCADE")
    shop_id: int
    name = CharField(max_length=40)
    title = CharField(max_length=80)
    formula = CharField(max_length=500)
    unit = CharField(max_length=32)
    author = ForeignKeyField(User)
    author_id: int
    at = DateTimeField()

    class Meta:
        """Peewee's settings."""

        table_name = "computed_channel"
        indexes = ((("shop", "name"), True),)


class KeptArrangement(Base):
    """An arrangement of strips that a person keeps."""

    user = ForeignKeyField(User, on_delete="CASCADE")
    user_id: int
    name = CharField(max_length=60)
    strips = TextField()

    class Meta:
        """Peewee's settings."""

        table_name = "arrangement"
        indexes = ((("user", "name"), True),)
