"""What a sheet over a table has to say of itself, so that one set of routes serves them all."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum
from typing import Any, Protocol

from pydantic import BaseModel

from uchiwa.core.logs.log import BoolArray
from uchiwa.core.quantities.display import shown_table
from uchiwa.core.tables.editing.cellname import cell_name
from uchiwa.services.spark import SparkContext, kept
from uchiwa.store.models import Job, Round
from uchiwa.web.account.display_units import display_of
from uchiwa.web.drawer.moments_picture import Moments
from uchiwa.web.grid.grid import Grid, with_heads
from uchiwa.web.round_context import RoundPage
from uchiwa.web.stations.spark.page import SHEETS, SheetState


class Found(Protocol):
    """A sheet's work: its context and its proposal."""

    @property
    def context(self) -> SparkContext: ...
    @property
    def proposal(self) -> Any: ...


@dataclass(frozen=True)
class TableSheet:
    """A sheet.

    Attributes:
        key: in addresses, and under which its policy is kept with the round.
        role: of its tables.
        taken_as: what a step taken from it is called.
        policy, keys: the kind of its policy, and which of its keys the sentence holds.
        views: what the cells can show, the usual one first.
        work: reads and computes everything.
        grid: draws the table in a view; the mask tells the cells that wait to be taken.
        first: the cell [i, j] to show first.
        more: whatever else its templates need, by (work, view, i, j).
        report: of the proposal, for the history.
        moments: log, stretches and quantities for the drawer, by (work, i, j).
    """

    key: str
    role: str
    taken_as: str
    policy: type[BaseModel]
    keys: tuple[str, ...]
    views: type[StrEnum]
    usual: StrEnum
    work: Callable[[Job, Round, str | None], Any]
    grid: Callable[[Any, Any, BoolArray], Grid]
    first: Callable[[Any], tuple[int, int]]
    more: Callable[[Any, int, int], dict[str, Any]]
    report: Callable[[Any], dict[str, Any]]
    moments: Callable[[Any, int, int], Moments]

    def values(self, page: RoundPage, found: Found, seen: SheetState, chosen: int = 1) -> dict[str, Any]:
        """What the sheet's templates need."""
        at, proposal = found.context, found.proposal
        waiting = at.waiting(proposal.after)
        shown = shown_table(proposal.table, display_of(page.user, page.job, at.base))
        i, j = seen.cell_of(proposal.table.shape, self.first(found))
        view = self.views(seen.view) if seen.view in list(self.views) else self.usual
        return {
            "page": page,
            "seen": kept(page.round, self.key, self.policy).model_dump_json(),
            "found": found,
            "at": at,
            "proposal": proposal,
            "sheets": SHEETS,
            "sheet": self.key,
            "view": view,
            "views": list(self.views),
            "tables": list(at.base.by_role(self.role)),
            "grid": with_heads(self.grid(found, view, waiting), shown),
            "place": cell_name(shown, i, j, digits=5),
            "i": i,
            "j": j,
            "chosen": chosen,
            "waiting": int(waiting.sum()),
            "waits_here": bool(waiting[j, i]),
            **self.more(found, i, j),
        }
