"""The people of a shop: who they are, what they may do, and whether they are let in. One owner at least can always sign in."""

from __future__ import annotations

from peewee import IntegrityError

from uchiwa.core.errors import BadInput
from uchiwa.store import api_tokens, passkeys, passwords, roles, second_factor, sessions
from uchiwa.store.addresses import address_typed
from uchiwa.store.clock import now
from uchiwa.store.models import Job, Shop, User
from uchiwa.store.names import name_typed
from uchiwa.store.rows import first

EACH, DIGEST, NEVER = "each", "digest", "never"
BY_MAIL = {EACH: "each at once", DIGEST: "once a day", NEVER: "not by mail"}
"""How a person wishes to be told of their jobs."""


def of_shop(shop_id: int) -> list[User]:
    """Everybody, those who are locked out last."""
    return list(User.select().where(User.shop == shop_id).order_by(User.disabled_at.is_null(False), User.id))


def find(shop_id: int, user_id: int) -> User:
    """A person of a shop.

    Raises:
        BadInput: there is none.
    """
    found = first(User.select(User, Shop).join(Shop).where(User.shop == shop_id, User.id == user_id))
    if found is None:
        raise BadInput("there is no such person in this shop", advice="reload the page")
    return found


def with_address(email: str) -> User | None:
    """Who signs in with an address, and may, with their shop."""
    query = User.select(User, Shop).join(Shop)
    return first(query.where(User.email == email.strip().lower(), User.disabled_at.is_null()))


def anybody_with_address(email: str) -> User | None:
    """Who has an address, let in or not, with their shop."""
    return first(User.select(User, Shop).join(Shop).where(User.email == email.strip().lower()))


def everybody() -> list[User]:
    """All people of all shops, with their shops."""
    return list(User.select(User, Shop).join(Shop).order_by(Shop.id, User.id))


def workers(shop_id: int) -> list[User]:
    """Those who work on jobs and are let in."""
    query = User.select().where(User.shop == shop_id, User.role != roles.READER, User.disabled_at.is_null())
    return list(query.order_by(User.id))


def concerned(job: Job) -> list[User]:
    """Whoever has a job in hand; all who work in the shop if nobody has."""
    everybody = workers(job.shop_id)
    return [user for user in everybody if user.id == job.tuner_id] or everybody


def _owners(shop_id: int) -> set[int]:
    """The owners who are let in; nobody becomes or ceases to be one until the transaction ends."""
    Shop.select(Shop.id).where(Shop.id == shop_id).for_update().execute()
    query = User.select(User.id).where(User.shop == shop_id, User.role == roles.OWNER, User.disabled_at.is_null())
    return {user.id for user in query}


def _must_leave_an_owner(user: User) -> None:
    if _owners(user.shop_id) == {user.id}:
        raise BadInput(f"{user.name} is the only owner who can sign in", advice="make somebody else an owner first")


def set_role(user: User, role: str) -> None:
    """Let a person do more or less.

    Raises:
        BadInput: there is no such role, or the shop would be without an owner.
    """
    roles.must_be_a_role(role)
    if role != roles.OWNER:
        _must_leave_an_owner(user)
    User.update(role=role).where(User.id == user.id).execute()
    api_tokens.end_of_person(user, role)


def set_operator(user: User, *, on: bool) -> None:
    """Have a person look after the installation, or no more."""
    User.update(operator=on).where(User.id == user.id).execute()


def disable(user: User) -> None:
    """Lock a person out at once, on every device; what they did stays.

    Raises:
        BadInput: the shop would be without an owner.
    """
    _must_leave_an_owner(user)
    User.update(disabled_at=now()).where(User.id == user.id, User.disabled_at.is_null()).execute()
    Job.update(tuner=None).where(Job.tuner == user).execute()
    sessions.end_of_person(user)
    api_tokens.end_of_person(user)


def enable(user: User) -> None:
    """Let a person in again, with the password they had."""
    User.update(disabled_at=None).where(User.id == user.id).execute()


def erase(user: User) -> None:
    """Forget who a person was who is locked out; what they did stays, without a name.

    Raises:
        BadInput: they are not locked out.
    """
    if user.disabled_at is None:
        raise BadInput(f"{user.name} can still sign in", advice="lock them out first")
    second_factor.turn_off(user)
    passkeys.remove_all(user)
    api_tokens.end_of_person(user)
    User.update(name="A former colleague", email=f"gone-{user.id}@uchiwa.invalid", password_hash="-").where(  # noqa: S106
        User.id == user.id
    ).execute()


def rename(user: User, name: str) -> None:
    """Call a person something else.

    Raises:
        BadInput: that is no name.
    """
    User.update(name=name_typed(name, "the person")).where(User.id == user.id).execute()


def set_address(user: User, email: str) -> str:
    """Have a person sign in with another address; it, as it is kept.

    Raises:
        BadInput: it is no address, or somebody else's.
    """
    address = address_typed(email)
    try:
        User.update(email=address).where(User.id == user.id).execute()
    except IntegrityError:
        raise BadInput("somebody signs in with this address already", where=address, advice="use another") from None
    return address


def set_password(user: User, password: str, *, keep: str | None = None) -> None:
    """Give a person another password, sign them out on every device, and end their tokens for programs.

    Args:
        keep: the token of the session that stays.

    Raises:
        BadInput: the password is too easily guessed.
    """
    passwords.must_be_good(password, (user.email, user.name, user.shop.name))
    User.update(password_hash=passwords.hashed(password)).where(User.id == user.id).execute()
    sessions.end_of_person(user, but=keep)
    api_tokens.end_of_person(user)


def set_told_by_mail(user: User, how: str) -> None:
    """Tell a person of their jobs in this way.

    Raises:
        BadInput: there is no such way.
    """
    if how not in BY_MAIL:
        raise BadInput(f"“{how[:20]}” is no way to be told", advice=f"choose one of {', '.join(BY_MAIL)}")
    User.update(told_by_mail=how).where(User.id == user.id).execute()
