"""What a sheet of a proposal is asked: view, table and cell, and the forms that change it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Any
from urllib.parse import urlencode

from fastapi import Depends, Form, Request
from fastapi.responses import RedirectResponse, Response

from uchiwa.core.logs.log import BoolArray
from uchiwa.core.proposals.chosen_cells import cells_mask
from uchiwa.core.typed_number import plain_number
from uchiwa.web.grid.cells import parse_cells
from uchiwa.web.round_context import RoundPage


@dataclass(frozen=True)
class SheetState:
    """What the person looks at: view, table, and cell as (i, j)."""

    view: str = ""
    table: str | None = None
    cell: tuple[int, int] | None = None

    def cell_of(self, shape: tuple[int, int], usual: tuple[int, int]) -> tuple[int, int]:
        """The cell (i, j), if the table of this shape has it."""
        if self.cell is not None and self.cell[0] < shape[1] and self.cell[1] < shape[0]:
            return self.cell
        return usual


def _looking(view: str, table: str | None, cell: str) -> SheetState:
    chosen = parse_cells(cell) if cell.strip() else []
    return SheetState(view, table or None, chosen[0] if chosen else None)


def _asked(view: str = "", table: str | None = None, cell: str = "") -> SheetState:
    return _looking(view, table, cell)


def _seen(
    view: Annotated[str, Form()] = "", table: Annotated[str | None, Form()] = None, cell: Annotated[str, Form()] = ""
) -> SheetState:
    return _looking(view, table, cell)


Asked = Annotated[SheetState, Depends(_asked)]
Seen = Annotated[SheetState, Depends(_seen)]


def back(page: RoundPage, path: str, seen: SheetState) -> Response:
    """To a sheet, by its path within the round, as it was looked at."""
    asked = {"view": seen.view, "table": seen.table or ""}
    if seen.cell is not None:
        asked["cell"] = f"{seen.cell[0]}.{seen.cell[1]}"
    query = urlencode({key: value for key, value in asked.items() if value})
    return RedirectResponse(f"{page.path}/{path}{'?' + query if query else ''}", 303)


def chosen_mask(text: str, shape: tuple[int, int]) -> BoolArray | None:
    """Cells of a form as a mask; None for all."""
    return cells_mask(tuple(parse_cells(text)), shape, default=False) if text.strip() else None


async def fields(request: Request) -> dict[str, str]:
    """The text fields of a form."""
    return {key: value for key, value in (await request.form()).items() if isinstance(value, str)}


Fields = Annotated[dict[str, str], Depends(fields)]


def with_form(
    policy: dict[str, Any], form: dict[str, str], keys: tuple[str, ...], switches: tuple[str, ...] = ()
) -> dict[str, Any]:
    """A policy's data with what a form says about it; a switch that is not in the form is off."""
    told = {key: plain_number(form[key]) for key in keys if form.get(key, "").strip()}
    return policy | told | {key: form.get(key) in ("true", "on", "yes") for key in switches if f"has_{key}" in form}
