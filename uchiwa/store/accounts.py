"""Shops, people, and signing in."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta

from peewee import IntegrityError

from uchiwa.core.errors import BadInput
from uchiwa.core.quantities.display import AFR, IMPERIAL, LAMBDA, METRIC
from uchiwa.store import attempts, passwords, roles
from uchiwa.store.addresses import address_typed
from uchiwa.store.database import run_again, unit_of_work
from uchiwa.store.models import Shop, User
from uchiwa.store.names import name_typed
from uchiwa.store.rows import first

ATTEMPTS = 8
WINDOW = timedelta(minutes=10)
THEMES = ("auto", "day", "night")
_SLOWER_S, _SLOWEST_S = 0.5, 4.0


class TooManyAttemptsError(RuntimeError):
    """Too many failed sign-ins from one network address, or from one device of a person."""


def create_shop(name: str) -> Shop:
    """A new shop.

    Raises:
        BadInput: it has no name.
    """
    return Shop.create(name=name_typed(name, "the shop"))


def create_user(
    shop: Shop, email: str, name: str, password: str, role: str = roles.OWNER, *, operator: bool = False
) -> User:
    """A new person of a shop; the password is kept as an argon2 hash only.

    Raises:
        BadInput: the address is no address or somebody's already, there is no name, or the password is too easily
            guessed.
    """
    address, called = address_typed(email), name_typed(name, "the person")
    passwords.must_be_good(password, (address, called, shop.name))
    try:
        return User.create(
            shop=shop,
            email=address,
            name=called,
            password_hash=passwords.hashed(password),
            role=roles.must_be_a_role(role),
            operator=operator,
        )
    except IntegrityError:
        raise BadInput("somebody signs in with this address already", where=address, advice="use another") from None


def is_taken(email: str) -> bool:
    """Whether somebody has this address, let in or not."""
    return User.select().where(User.email == email).exists()


def nobody_yet() -> bool:
    """Whether nobody can sign in, since no person was ever made."""
    return not User.select().exists()


@dataclass(frozen=True)
class Admission:
    """A sign-in that may be tried: it counts as a failure until it has succeeded.

    Attributes:
        email: of the person.
        mark: what its attempts are counted by.
        wait_s: how long it has to wait first, s, since strangers have been guessing this person's password.
    """

    email: str
    mark: str
    wait_s: float


def admit(email: str, address: str, *, device: str = "") -> Admission:
    """Whether a sign-in may be tried now.

    Failures count against the network address they come from, whoever they are meant for; a device on which the person
    has signed in before has a count of its own. No number of failures elsewhere keeps a person out: they only make a
    sign-in from an unknown device slower.

    Args:
        device: names a device on which this person signed in before; empty for others.

    Raises:
        TooManyAttemptsError: there were too many failures of late.
    """
    email = email.strip().lower()
    mark = attempts.mark("device", device) if device else attempts.mark("place", address)
    if attempts.count(mark, WINDOW) > ATTEMPTS:
        raise TooManyAttemptsError
    if device:
        return Admission(email, mark, 0.0)
    more = attempts.count(attempts.mark("person", email), WINDOW) - ATTEMPTS
    return Admission(email, mark, min(_SLOWEST_S, max(0, more) * _SLOWER_S))


@run_again
def _known(email: str) -> User | None:
    with unit_of_work():
        return User.get_or_none(User.email == email, User.disabled_at.is_null())


def verify(admission: Admission, password: str) -> User | None:
    """The person with this password, or None. No connection is held while the password is hashed."""
    user = _known(admission.email)
    if not passwords.fits(user.password_hash if user else None, password) or user is None:
        return None
    attempts.uncount(admission.mark)
    attempts.uncount(attempts.mark("person", admission.email))
    return user


def sign_in(email: str, password: str, address: str) -> User | None:
    """The person with this address and password, or None; every failure counts against the limit.

    Raises:
        TooManyAttemptsError: as `admit`.
    """
    return verify(admit(email, address), password)


def person(user_id: int) -> User | None:
    """A person with their shop."""
    return first(User.select(User, Shop).join(Shop).where(User.id == user_id))


def first_of(shop_id: int) -> User | None:
    """The person whom a shop's customers are told of."""
    found: User | None = User.select().where(User.shop == shop_id).order_by(User.id).first()
    return found


def set_theme(user: User, theme: str) -> None:
    """Keep a person's choice of theme."""
    if theme in THEMES:
        User.update(theme=theme).where(User.id == user.id).execute()


def set_units(user: User, measures: str, mixture: str) -> None:
    """Keep the units a person likes to see."""
    if measures in (METRIC, IMPERIAL) and mixture in (LAMBDA, AFR):
        User.update(measures=measures, mixture=mixture).where(User.id == user.id).execute()
