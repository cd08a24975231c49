"""A concern: something in a draft that a person must look at before it is sent."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum

from uchiwa.core.logs.log import BoolArray

Cells = tuple[tuple[int, int], ...]


class Weight(StrEnum):
    """How much a concern weighs."""

    STOP = "stop"
    ANSWER = "answer"
    NOTE = "note"


@dataclass(frozen=True)
class Concern:
    """One thing that a rule found.

    Attributes:
        rule: its id.
        weight: `stop` forbids freezing, `answer` asks for a reason, `note` only says so.
        sentence: what it is.
        table: id of the table, or empty.
        cells: [i, j] of it.
        state: what the finding rests on, so that an answer holds only as long as that stays.
    """

    rule: str
    weight: Weight
    sentence: str
    table: str = ""
    cells: Cells = ()
    state: str = ""

    @property
    def key(self) -> str:
        """The same for the same finding, another one as soon as it concerns other cells or values."""
        text = repr((self.rule, self.table, self.cells, self.state or self.sentence))
        return hashlib.sha256(text.encode()).hexdigest()[:24]


def cells_of(mask: BoolArray) -> Cells:
    """The cells [i, j] of a mask."""
    return tuple((int(i), int(j)) for j, i in zip(*mask.nonzero(), strict=True))


def many(count: int, noun: str = "cell") -> str:
    """A number of things in words."""
    return f"{count} {noun}{'' if count == 1 else 's'}"


def unit_words(unit: str) -> str:
    """A unit after a number, as people write it; nothing for a number without one."""
    return {"1": "", "": "", "deg": "°", "degC": " °C"}.get(unit, f" {unit}")


def outstanding(concerns: Iterable[Concern], answered: Iterable[str]) -> tuple[Concern, ...]:
    """Those that still keep a draft from being frozen."""
    done = set(answered)
    return tuple(
        concern
        for concern in concerns
        if concern.weight is Weight.STOP or (concern.weight is Weight.ANSWER and concern.key not in done)
    )
