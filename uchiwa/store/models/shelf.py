"""The shop's shelf, and tokens of programs that ask for a person."""

from __future__ import annotations

from peewee import CharField, DateTimeField, ForeignKeyField, IntegerField

from uchiwa.store.models.base import Base
from uchiwa.store.models.fields import LongBlobField, LongTextField
from uchiwa.store.models.jobs import Job
from uchiwa.store.models.people import Shop, User


class ShelfEntry(Base):
    """Something known to be good, to start from: `content` is the file, packed; `outcome` how well the car it is of ended."""

    shop = ForeignKeyField(Shop, on_delete="CASCADE")
    shop_id: int
    kind = CharField(max_length=12)
    name = CharField(max_length=120)
    words = CharField(max_length=1000, default="")
    tags = CharField(max_length=200, default="")
    file_name = CharField(max_length=200, default="")
    content = LongBlobField()
    content_hash = CharField(max_length=64)
    origin = CharField(max_length=300, default="")
    job = ForeignKeyField(Job, null=True, on_delete="SET NULL")
    job_id: int | None
    revision = IntegerField(null=True)
    outcome = LongTextField(default="{}")
    author = ForeignKeyField(User)
    author_id: int
    at = DateTimeField()

    class Meta:
        """Peewee's settings."""

        table_name = "shelf_entry"
        indexes = ((("shop", "kind", "name"), True),)


class ApiToken(Base):
    """A token with which a program acts for a person, within scopes; only a hash of it is kept."""

    user = ForeignKeyField(User, on_delete="CASCADE")
    user_id: int
    name = CharField(max_length=80)
    token_hash = CharField(max_length=64, unique=True)
    scopes = CharField(max_length=120)
    made_at = DateTimeField()
    seen_at = DateTimeField(null=True)
    expires_at = DateTimeField(null=True)
    revoked_at = DateTimeField(null=True)

    class Meta:
        """Peewee's settings."""

        table_name = "api_token"
        indexes = ((("user", "name"), False),)
