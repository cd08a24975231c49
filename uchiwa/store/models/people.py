"""Shops, people and their sessions."""

from __future__ import annotations

from peewee import (
    BigIntegerField,
    BooleanField,
    CharField,
    DateTimeField,
    ForeignKeyField,
    IntegerField,
)

from uchiwa.store.models.base import Base
from uchiwa.store.models.fields import LongBlobField, LongTextField


class Shop(Base):
    """A tuner's shop: everything below belongs to exactly one.

    `remind_days` is after how many days without a log a customer is reminded, 0 for never; `link_days` how long a
    customer's link lasts after it was used last; `quota_bytes` what its raw logs may take, NULL for what the settings
    say; `mail_words` its own words for mails, as JSON by kind.
    """

    name = CharField(max_length=120)
    thresholds = LongTextField(default="{}")
    own_checks = LongTextField(default="[]")
    own_setups = LongTextField(default="[]")
    own_bins = LongTextField(default="[]")
    remind_days = IntegerField(default=7)
    link_days = IntegerField(default=180)
    quota_bytes = BigIntegerField(null=True)
    mail_words = LongTextField(default="{}")


class User(Base):
    """A person who signs in.

    `role` is what they may do in their shop, `operator` whether they look after the installation. `second_factor` is
    the encrypted secret of their code generator, empty for none, and `second_step` the last interval whose code was
    used. `told_by_mail` is how mails tell them of their jobs.
    """

    shop = ForeignKeyField(Shop, on_delete="CASCADE")
    shop_id: int
    email = CharField(max_length=190, unique=True)
    name = CharField(max_length=120)
    password_hash = CharField(max_length=255)
    theme = CharField(max_length=8, default="auto")
    measures = CharField(max_length=8, default="metric")
    mixture = CharField(max_length=8, default="lambda")
    role = CharField(max_length=8, default="owner")
    operator = BooleanField(default=False)
    disabled_at = DateTimeField(null=True)
    second_factor = CharField(max_length=255, default="")
    second_step = BigIntegerField(null=True)
    told_by_mail = CharField(max_length=8, default="each")


class Attempt(Base):
    """How often something was tried since a moment: a failed sign-in, an unknown link. `mark` is a hash of by whom."""

    mark = CharField(max_length=64, unique=True)
    since = DateTimeField(index=True)
    count = IntegerField()


class WebSession(Base):
    """A person who is signed in on one device; signing out removes it. Only a hash of its token is kept.

    One that is `half` has given the password and still owes the second factor. `device` names the browser in words.
    `confirmed_at` is when its person last proved who they are: at sign-in, or by their password since.
    """

    token_hash = CharField(max_length=64, unique=True)
    user = ForeignKeyField(User, on_delete="CASCADE")
    user_id: int
    made_at = DateTimeField()
    seen_at = DateTimeField()
    half = BooleanField(default=False)
    device = CharField(max_length=80, default="")
    confirmed_at = DateTimeField(null=True)

    class Meta:
        """Peewee's settings."""

        table_name = "web_session"


class RecoveryCode(Base):
    """A code that stands in for the second factor once; only its hash is kept."""

    user = ForeignKeyField(User, on_delete="CASCADE")
    user_id: int
    code_hash = CharField(max_length=64)
    used_at = DateTimeField(null=True)

    class Meta:
        """Peewee's settings."""

        table_name = "recovery_code"
        indexes = ((("user", "code_hash"), True),)


class Passkey(Base):
    """A credential of Web Authentication that signs a person in: its public key, and how often it has signed.

    `credential_hash` is that of its name, which can be longer than an index holds.
    """

    user = ForeignKeyField(User, on_delete="CASCADE")
    user_id: int
    credential_hash = CharField(max_length=64, unique=True)
    credential = LongBlobField()
    public_key = LongBlobField()
    sign_count = BigIntegerField()
    name = CharField(max_length=80)
    made_at = DateTimeField()
    used_at = DateTimeField(null=True)


class OneTimeLink(Base):
    """A secret address that works once: to make the first shop, to join one, to set a password anew.

    `nonce` is what its token follows from, with the installation's secret; `token_hash` is that of the token.
    """

    kind = CharField(max_length=12)
    nonce = CharField(max_length=64)
    token_hash = CharField(max_length=64, unique=True)
    shop = ForeignKeyField(Shop, null=True, on_delete="CASCADE")
    shop_id: int | None
    user = ForeignKeyField(User, null=True, on_delete="CASCADE")
    user_id: int | None
    email = CharField(max_length=190, default="")
    role = CharField(max_length=8, default="")
    made_at = DateTimeField()
    expires_at = DateTimeField()
    used_at = DateTimeField(null=True)

    class Meta:
        """Peewee's settings."""

        table_name = "one_time_link"
        indexes = ((("shop", "kind"), False),)


class AuditEntry(Base):
    """Something done about people, access or the shop's settings. `who` and `subject` are names as they were then."""

    shop = ForeignKeyField(Shop, null=True, on_delete="CASCADE")
    shop_id: int | None
    user = ForeignKeyField(User, null=True, on_delete="SET NULL")
    user_id: int | None
    kind = CharField(max_length=24)
    who = CharField(max_length=120)
    subject = CharField(max_length=190, default="")
    at = DateTimeField()

    class Meta:
        """Peewee's settings."""

        table_name = "audit_entry"
        indexes = ((("shop", "at"), False), (("at",), False))


class Flash(Base):
    """A sentence for the next page of a browser, shown once."""

    session_hash = CharField(max_length=64, index=True)
    text = CharField(max_length=2000)
    bad = BooleanField()
    at = DateTimeField(index=True)
