"""A quantity: what a channel measures."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Quantity:
    """What a channel measures, whatever a logger calls it.

    Attributes:
        id: the identifier used in formulas, conditions and files.
        unit: the canonical unit (see `units`); all stored samples are in it.
        title: the words shown to people.
        low, high: the physical range in the canonical unit; readings outside it are implausible.
        names: other names by which loggers call it, in plain lower case.
    """

    id: str
    unit: str
    title: str
    low: float
    high: float
    names: tuple[str, ...] = ()
