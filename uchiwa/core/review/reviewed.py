"""What the rules look at: a draft, the revision before it, and what the round's logs say."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.tables.table import Calibration, Table


@dataclass(frozen=True, eq=False)
class VisitedCells:
    """What the round's logs say of a table's cells; arrays of shape (rows, columns).

    Attributes:
        dwell: seconds in each cell.
        retard: the most knock retard in each, degrees; 0 where none was.
        logged: whether the logs have the quantities of its axes at all.
    """

    dwell: FloatArray
    retard: FloatArray
    logged: bool


@dataclass(frozen=True, eq=False)
class Duty:
    """What the injectors will have to do with the draft.

    Attributes:
        logged, expected: highest duty in the logs, and expected with the draft, %.
        speed: engine speed there, rpm.
    """

    logged: float
    expected: float
    speed: float


@dataclass(frozen=True, eq=False)
class ImageFit:
    """How the draft goes into the controller's image.

    Attributes:
        refusal: why it cannot be written, or empty.
        roundings: by table, cells [i, j] that the image holds only nearly, with the largest difference.
    """

    refusal: str = ""
    roundings: Mapping[str, tuple[tuple[tuple[int, int], ...], float]] = field(default_factory=dict)


@dataclass(frozen=True, eq=False)
class ReviewedDraft:
    """A draft under review.

    Attributes:
        base: the revision it started from.
        draft: as it stands.
        visited: by table id, for tables that differ.
        duty: of the injectors, if the logs tell.
        setup: name of a temporary setup in force, or empty.
        image: how it goes into the image, if the job has one.
        logs: whether the round has logs at all.
        by_hand: by table id, the cells whose present value an edit gave and no proposal.
        automatic: whether the gearbox is automatic.
        reached: by id of a clamp, the signals that the car reached before boost, as (speeds, signals) in the axes' units.
    """

    base: Calibration
    draft: Calibration
    visited: Mapping[str, VisitedCells] = field(default_factory=dict)
    duty: Duty | None = None
    setup: str = ""
    image: ImageFit | None = None
    logs: bool = True
    by_hand: Mapping[str, BoolArray] = field(default_factory=dict)
    automatic: bool = False
    reached: Mapping[str, tuple[tuple[float, ...], tuple[float, ...]]] = field(default_factory=dict)

    @cached_property
    def changes(self) -> tuple[tuple[Table, Table], ...]:
        """Tables of the same shape that differ, as (before, after)."""
        old = {table.id: table for table in self.base.tables}
        pairs = ((old[table.id], table) for table in self.draft.tables if table.id in old)
        return tuple((a, b) for a, b in pairs if a.shape == b.shape and not np.array_equal(a.grid, b.grid))

    def changed(self, role: str | None = None) -> Iterator[tuple[Table, Table, BoolArray]]:
        """Tables that differ, of a role or all, with the cells that do."""
        for before, after in self.changes:
            if role is None or after.role == role:
                yield before, after, before.grid != after.grid
