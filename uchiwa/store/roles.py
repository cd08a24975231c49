"""What a person may do in their shop."""

from __future__ import annotations

from uchiwa.core.errors import BadInput

OWNER, TUNER, READER = "owner", "tuner", "reader"
ROLES = {
    OWNER: "works on every job, and looks after people and settings",
    TUNER: "works on every job",
    READER: "sees everything, changes nothing",
}
"""Roles with what each may do, in words."""


def must_be_a_role(role: str) -> str:
    """The role, if it is one.

    Raises:
        BadInput: there is no such role.
    """
    if role not in ROLES:
        raise BadInput(f"“{role[:40]}” is not a role", advice=f"choose one of {', '.join(ROLES)}")
    return role
