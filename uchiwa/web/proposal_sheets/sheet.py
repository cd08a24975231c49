"""A sheet of a station over one table: how it is worked, drawn and explained; everything that differs between sheets."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any, Protocol

from fastapi import Request
from fastapi.responses import Response
from pydantic import BaseModel

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import BoolArray
from uchiwa.core.quantities.display import shown_table
from uchiwa.core.rounds.progress import Station
from uchiwa.core.tables.editing.cellname import cell_name
from uchiwa.services.table_proposals import PendingTake, SheetNeeds, StepOrigin, TableContext, kept, values_taken
from uchiwa.store.models import Job, Round
from uchiwa.web.account.display_units import display_of
from uchiwa.web.doubts import doubt_values
from uchiwa.web.drawer.moments_picture import Moments
from uchiwa.web.grid.grid import Grid, with_heads
from uchiwa.web.pages import render
from uchiwa.web.proposal_sheets.state import SheetState
from uchiwa.web.requests.fragment import is_fragment
from uchiwa.web.round_context import PATHS, RoundPage


@dataclass(frozen=True)
class Tab:
    """A sheet among those of its station: its key in addresses, its title, and the words on an empty one.

    Attributes:
        key: empty for the station's own page.
        title: on the tab.
        comes: what will be here, for an empty sheet's margin.
        drawer: the title of its drawer.
    """

    key: str
    title: str
    comes: str = ""
    drawer: str = "Moments that fed this cell"


@dataclass(frozen=True)
class SheetStation:
    """A station that has sheets.

    Attributes:
        station: the rib of the fan.
        tabs: all of its sheets, those without a table too.
        style: of its pages.
    """

    station: Station
    tabs: tuple[Tab, ...]
    style: str = "spark.css"

    @property
    def path(self) -> str:
        """Of the station within a round."""
        return PATHS[self.station]

    def tab(self, key: str) -> Tab:
        """The tab of a key."""
        return next(tab for tab in self.tabs if tab.key == key)

    def values(self, key: str) -> dict[str, Any]:
        """What the templates of its sheets need."""
        return {"station": self, "sheets": self.tabs, "sheet": key, "tab": self.tab(key)}

    def empty(self, request: Request, page: RoundPage, key: str, problem: BadInput) -> Response:
        """A sheet when there is nothing to show, with what is wanting."""
        if is_fragment(request):
            raise problem
        asked = doubt_values(page.round, problem, self.path)
        values = self.values(key)
        return render(request, "sheet_empty.html", page.user, page=page, problem=str(problem), **values, **asked)


class SheetWork(Protocol):
    """A sheet's work: its context and its proposal."""

    @property
    def context(self) -> TableContext: ...
    @property
    def proposal(self) -> Any: ...


@dataclass(frozen=True)
class TableSheet:
    """A sheet.

    Attributes:
        key: in addresses, and under which its policy is kept with the round.
        asked: its tables and the channels that it reads.
        taken_as: what a step taken from it is called.
        policy, keys: the kind of its policy, and which of its keys the sentence holds.
        views: what the cells can show, the usual one first.
        work: reads and computes everything.
        grid: draws the table in a view; the mask tells the cells that wait to be taken.
        first: the cell [i, j] to show first.
        more: whatever else its templates need, by (work, view, i, j).
        report: of the proposal, for the history.
        moments: log, stretches and quantities for the drawer, by (work, i, j).
        left_out: the same for a reason of the sieve, where the sheet has one.
        switches: keys of the policy that are ticked or not.
        waiting: cells whose proposed value is not in the draft yet.
        taken: what taking the chosen cells comes to, where that is more than their values.
        after_taking: the view that is shown then.
    """

    key: str
    asked: SheetNeeds
    taken_as: StepOrigin
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
    left_out: Callable[[Any, str], Moments] | None = None
    switches: tuple[str, ...] = ()
    waiting: Callable[[Any], BoolArray] = field(default=lambda found: found.context.waiting(found.proposal.after))
    taken: Callable[[Any, BoolArray | None], PendingTake] | None = None
    after_taking: str = "change"

    def taking(self, found: SheetWork, chosen: BoolArray | None) -> PendingTake:
        """What taking the chosen cells, or all, comes to."""
        if self.taken is not None:
            return self.taken(found, chosen)
        return values_taken(found.context, found.proposal.after, chosen, self.taken_as)

    def values(self, page: RoundPage, found: SheetWork, seen: SheetState, chosen: int = 1) -> dict[str, Any]:
        """What the sheet's templates need."""
        at, proposal = found.context, found.proposal
        waiting = self.waiting(found)
        shown = shown_table(proposal.table, display_of(page.user, page.job, at.base))
        i, j = seen.cell_of(proposal.table.shape, self.first(found))
        view = self.views(seen.view) if seen.view in list(self.views) else self.usual
        return {
            "page": page,
            "seen": kept(page.round, self.key, self.policy).model_dump_json(),
            "found": found,
            "at": at,
            "proposal": proposal,
            "view": view,
            "views": list(self.views),
            "tables": list(at.base.by_role(self.asked.role)),
            "grid": with_heads(self.grid(found, view, waiting), shown),
            "place": cell_name(shown, i, j, digits=5),
            "i": i,
            "j": j,
            "chosen": chosen,
            "waiting": int(waiting.sum()),
            "waits_here": bool(waiting[j, i]),
            **self.more(found, i, j),
        }
