"""Arrangements of strips that a person keeps."""

from __future__ import annotations

from uchiwa.core.errors import BadInput
from uchiwa.core.viewing.arrangement import PURPOSES, Arrangement, parse
from uchiwa.store.models import KeptArrangement, User

_MOST = 60


def of_person(user: User) -> dict[str, Arrangement]:
    """A person's arrangements by name."""
    query = KeptArrangement.select().where(KeptArrangement.user == user).order_by(KeptArrangement.name)
    return {arrangement.name: parse(arrangement.strips) for arrangement in query}


def keep(user: User, name: str, arrangement: Arrangement) -> str:
    """Keep an arrangement under a name, in place of one of the same name; the name as it was kept.

    Raises:
        BadInput: the name is empty, or there are too many.
    """
    name = " ".join(name.split())[:60]
    if not name:
        raise BadInput("the arrangement needs a name", advice="type one")
    if name in {purpose.id for purpose in PURPOSES}:
        raise BadInput(f"“{name}” is the name of a purpose", advice="choose another")
    others = KeptArrangement.select().where(KeptArrangement.user == user, KeptArrangement.name != name)
    if others.count() >= _MOST:
        raise BadInput(f"{_MOST} arrangements are kept already", advice="drop one first")
    KeptArrangement.insert(user=user, name=name, strips=str(arrangement)).on_conflict(
        preserve=(KeptArrangement.name, KeptArrangement.strips)
    ).execute()
    return name


def drop(user: User, name: str) -> None:
    """Drop an arrangement."""
    KeptArrangement.delete().where(KeptArrangement.user == user, KeptArrangement.name == name).execute()
