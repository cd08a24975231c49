"""Shops, people, and signing in."""

from __future__ import annotations

import hashlib
from datetime import timedelta

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError

from uchiwa.core.display import AFR, IMPERIAL, LAMBDA, METRIC
from uchiwa.store.clock import now
from uchiwa.store.models import Shop, SignInAttempt, User

ATTEMPTS = 8
WINDOW = timedelta(minutes=10)
THEMES = ("auto", "day", "night")

_hasher = PasswordHasher()
# Compared against when there is no such person, so that the answer takes as long.
_nobody = _hasher.hash("nobody has this password")


class TooManyAttemptsError(RuntimeError):
    """Too many failed sign-ins from one address or for one person."""


def create_shop(name: str) -> Shop:
    """A new shop."""
    return Shop.create(name=name)


def create_user(shop: Shop, email: str, name: str, password: str) -> User:
    """A new person of a shop; the password is kept as an argon2 hash only."""
    return User.create(shop=shop, email=email.strip().lower(), name=name, password_hash=_hasher.hash(password))


def _marks(email: str, address: str) -> tuple[str, str]:
    """What attempts are counted by; hashed, so that mistyped addresses are not kept."""
    person = hashlib.sha256(f"person {email}".encode()).hexdigest()
    place = hashlib.sha256(f"place {address}".encode()).hexdigest()
    return person, place


def sign_in(email: str, password: str, address: str) -> User | None:
    """The person with this address and password, or None; every failure counts against the limit.

    Raises:
        TooManyAttemptsError: there were too many failures for this person or from this network address of late.
    """
    email = email.strip().lower()
    marks = _marks(email, address)
    since = now() - WINDOW
    recent = SignInAttempt.select(SignInAttempt.who).where(SignInAttempt.who.in_(marks), SignInAttempt.at >= since)
    counts = [row.who for row in recent]
    if any(counts.count(mark) >= ATTEMPTS for mark in marks):
        raise TooManyAttemptsError
    user = User.get_or_none(User.email == email)
    try:
        _hasher.verify(user.password_hash if user else _nobody, password)
    except (VerificationError, InvalidHashError):
        user = None
    if user is None:
        SignInAttempt.insert_many([{"who": mark, "at": now()} for mark in marks]).execute()
        return None
    SignInAttempt.delete().where((SignInAttempt.who == marks[0]) | (SignInAttempt.at < since)).execute()
    return user


def person(user_id: int) -> User | None:
    """A person with their shop."""
    return User.select(User, Shop).join(Shop).where(User.id == user_id).first()


def set_theme(user: User, theme: str) -> None:
    """Keep a person's choice of theme."""
    if theme in THEMES:
        User.update(theme=theme).where(User.id == user.id).execute()


def set_units(user: User, measures: str, mixture: str) -> None:
    """Keep the units a person likes to see."""
    if measures in (METRIC, IMPERIAL) and mixture in (LAMBDA, AFR):
        User.update(measures=measures, mixture=mixture).where(User.id == user.id).execute()
