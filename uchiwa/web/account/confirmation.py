"""A person's password, asked for once more before something about access is changed."""

from __future__ import annotations

from datetime import timedelta

from uchiwa.core.errors import BadInput
from uchiwa.store import attempts, passwords, sessions
from uchiwa.store.models import User

TRIES, WINDOW = 8, timedelta(minutes=10)


def must_be_their_password(user: User, password: str) -> None:
    """Refuses anything but the password of the person signed in.

    Raises:
        BadInput: it is another, or too many others were tried of late.
    """
    mark = attempts.mark("confirmation", str(user.id))
    if attempts.count(mark, WINDOW) > TRIES:
        raise BadInput("too many tries", advice="wait ten minutes, then try again")
    if not passwords.fits(user.password_hash, password):
        raise BadInput("this is not your password", advice="type the one you sign in with")
    attempts.uncount(mark)


def confirm(user: User, token: str, password: str) -> None:
    """Take the person of a session at their password: for five minutes they are not asked again.

    Raises:
        BadInput: as `must_be_their_password`.
    """
    must_be_their_password(user, password)
    sessions.confirm(token)
