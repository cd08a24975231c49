"""The characteristics of a description as they are listed to choose from."""

from __future__ import annotations

from dataclasses import dataclass

from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.tables.a2l.assignment import TABLE_ROLES
from uchiwa.core.tables.a2l.description import Characteristic, Description
from uchiwa.core.tables.a2l.suggestion import quantity_of, suggestions

PAGE = 60
CONSTANT_ROLES = ("displacement", "cylinders", "stoichiometric_ratio", "injector_flow", "injector_dead_time", "other")


@dataclass(frozen=True)
class ListedCharacteristic:
    """One characteristic.

    Attributes:
        one: it.
        role: that is likely; empty if none is.
        inputs: what is looked up along its axes: measurement, quantity that it is likely to be.
        roles: that it may have.
    """

    one: Characteristic
    role: str
    inputs: tuple[tuple[str, str | None], ...]
    roles: tuple[str, ...]


@dataclass(frozen=True)
class CharacteristicList:
    """A page of them.

    Attributes:
        rows: those that are shown; likely ones first.
        found, total: how many match, and how many there are.
        more, skip: where the next page begins, if there is one, and where this does.
        groups: with how many each has.
        q, group: what was asked for.
        quantities: ids and titles of what may be looked up.
    """

    rows: tuple[ListedCharacteristic, ...]
    found: int
    total: int
    more: int | None
    skip: int
    groups: tuple[tuple[str, int], ...]
    q: str
    group: str
    quantities: tuple[tuple[str, str], ...]


def characteristic_list(description: Description, q: str, group: str, skip: int) -> CharacteristicList:
    """Those whose name or words hold what is searched for, the likely ones first."""
    likely = {suggestion.name: suggestion.role for suggestion in suggestions(description)}
    words = q.lower().split()
    members = set(description.groups[group]) if group in description.groups else None
    found = [
        characteristic
        for characteristic in description.characteristics
        if (members is None or characteristic.name in members)
        and all(word in characteristic.name.lower() or word in characteristic.words.lower() for word in words)
    ]
    found.sort(key=lambda characteristic: (characteristic.refused != "", characteristic.name not in likely))
    rows = tuple(
        _listed(description, characteristic, likely.get(characteristic.name, ""))
        for characteristic in found[skip : skip + PAGE]
    )
    groups = sorted(((name, len(names)) for name, names in description.groups.items()), key=lambda one: one[0].lower())
    return CharacteristicList(
        rows, len(found), len(description.characteristics), skip + PAGE if len(found) > skip + PAGE else None, skip,
        tuple(groups[:400]), q, group, tuple((quantity.id, quantity.title) for quantity in QUANTITIES.values()),
    )  # fmt: skip


def _listed(description: Description, characteristic: Characteristic, role: str) -> ListedCharacteristic:
    inputs = []
    for axis in characteristic.axes:
        points = description.axes.get(axis.points)
        measured = points.input if points is not None else axis.input
        inputs.append((measured, quantity_of(description, measured)))
    roles = CONSTANT_ROLES if characteristic.kind == "VALUE" else TABLE_ROLES
    return ListedCharacteristic(characteristic, role, tuple(inputs), roles)
