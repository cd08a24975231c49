"""Passkeys (WebAuthn): what is kept of them, and challenges that are answered once each."""

from __future__ import annotations

import hashlib
import json
import secrets
from datetime import timedelta

from peewee import IntegrityError

from uchiwa.core.errors import BadInput
from uchiwa.store import attempts, keys
from uchiwa.store.clock import aware, now
from uchiwa.store.models import Passkey, Shop, User
from uchiwa.store.rows import first

MOST = 10
AGE = timedelta(minutes=5)
"""So long a challenge can be answered."""


class StaleChallengeError(RuntimeError):
    """The challenge is too old, was answered before, or was made for something else."""


def new_challenge(purpose: str) -> tuple[bytes, str]:
    """A challenge, and the same sealed: the browser brings it back, and nothing has to be kept until then."""
    challenge = secrets.token_bytes(32)
    told = {"challenge": challenge.hex(), "for": purpose, "at": aware(now()).timestamp()}
    return challenge, keys.sealed(json.dumps(told))


def spend_challenge(state: str, purpose: str) -> bytes:
    """The challenge of a state; from now on it is answered, however many ask at the same moment.

    Raises:
        StaleChallengeError: it cannot be answered any more.
    """
    try:
        told = json.loads(keys.opened(state))
    except (keys.NoKeyError, ValueError):
        raise StaleChallengeError from None
    age = aware(now()).timestamp() - float(told["at"])
    if told["for"] != purpose or not -60.0 <= age <= AGE.total_seconds():
        raise StaleChallengeError
    if attempts.count(attempts.mark("challenge", told["challenge"]), AGE * 2) > 1:
        raise StaleChallengeError
    return bytes.fromhex(told["challenge"])


def handle_of(user: User) -> bytes:
    """What a person is to their authenticators; it tells nothing of them."""
    return hashlib.sha256(f"passkeys of person {user.id}".encode()).digest()


def of_person(user: User) -> list[Passkey]:
    """A person's passkeys, oldest first."""
    return list(Passkey.select().where(Passkey.user == user).order_by(Passkey.id))


def add(user: User, credential: bytes, public_key: bytes, sign_count: int, name: str) -> Passkey:
    """Keep a passkey.

    Raises:
        BadInput: it is kept already, or the person has too many.
    """
    if Passkey.select().where(Passkey.user == user).count() >= MOST:
        raise BadInput(f"a person has at most {MOST} passkeys", advice="remove one first")
    words = " ".join(name.split())[:80] or "A passkey"
    try:
        return Passkey.create(
            user=user,
            credential_hash=_hash(credential),
            credential=credential,
            public_key=public_key,
            sign_count=sign_count,
            name=words,
            made_at=now(),
        )
    except IntegrityError:
        raise BadInput("this passkey is known already", advice="use another device, or remove it first") from None


def find(credential: bytes) -> Passkey | None:
    """A passkey with its person and their shop; None for one that nobody has, or whose person is locked out."""
    query = Passkey.select(Passkey, User, Shop).join(User).join(Shop)
    return first(query.where(Passkey.credential_hash == _hash(credential), User.disabled_at.is_null()))


def used(passkey: Passkey, sign_count: int) -> bool:
    """Note that it has signed; False if it has signed as much before, so that this is a copy of it."""
    rises = (Passkey.sign_count < sign_count) if sign_count else (Passkey.sign_count == 0)
    return bool(Passkey.update(sign_count=sign_count, used_at=now()).where(Passkey.id == passkey.id, rises).execute())


def remove(user: User, passkey_id: int) -> None:
    """Take a person's passkey away."""
    Passkey.delete().where(Passkey.user == user, Passkey.id == passkey_id).execute()


def remove_all(user: User) -> None:
    """Take all of a person's passkeys away."""
    Passkey.delete().where(Passkey.user == user).execute()


def _hash(credential: bytes) -> str:
    return hashlib.sha256(credential).hexdigest()
