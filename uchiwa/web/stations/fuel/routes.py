"""The Fuel station: evidence, proposal, policy, and taking it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Annotated, Any
from urllib.parse import urlencode

import numpy as np
from fastapi import Depends, Form, Request
from fastapi.responses import RedirectResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.conditions import sentence_of, switchable, title_of
from uchiwa.core.logs.log import BoolArray
from uchiwa.core.proposals.chosen_cells import cells_mask
from uchiwa.core.proposals.fuel.explanation import CellAccount, explain
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.proposal import TARGET_PERCENT, FuelProposal
from uchiwa.core.quantities.display import shown_table
from uchiwa.core.rounds.progress import Station
from uchiwa.core.tables.editing.cellname import cell_name
from uchiwa.core.typed_number import plain_number
from uchiwa.services import fuel as work
from uchiwa.store import draft_pins
from uchiwa.store.three_way import merge, read_seen
from uchiwa.web.account.display_units import display_of
from uchiwa.web.doubts import doubt_values
from uchiwa.web.drawer.moments_picture import Moments, moments_answer, spans_of_cell, traces_for
from uchiwa.web.drawer.moments_picture import title_of as moments_title
from uchiwa.web.grid.cells import parse_cells
from uchiwa.web.grid.grid import View, fuel_grid, with_heads
from uchiwa.web.pages import render, say
from uchiwa.web.requests.fragment import is_fragment
from uchiwa.web.requests.session import FromOurForm
from uchiwa.web.round_context import RoundPage, in_open_round, in_round
from uchiwa.web.routing import router as new_router
from uchiwa.web.stations.fuel.line_picture import LinePicture, line_picture
from uchiwa.web.stations.fuel.relief_picture import relief_picture
from uchiwa.web.stations.fuel.shape import Shape
from uchiwa.web.stations.fuel.sieve import USED, left_out_spans, sieve_parts
from uchiwa.web.stations.fuel.spread_picture import spread_picture
from uchiwa.web.svg.relief import TURNS

router = new_router()
_HERE = "/jobs/{job_id}/rounds/{number}/fuel"
_CURVE_HEIGHT = 268.0


@dataclass(frozen=True)
class FuelQuery:
    """What the person looks at."""

    view: View = View.ERROR
    table: str | None = None
    shape: Shape = Shape.GRID
    turn: int = 0
    cell: tuple[int, int] | None = None


def _values(page: RoundPage, fuel: work.FuelWork, seen: FuelQuery, account: CellAccount) -> dict[str, Any]:
    """What sheet and margin need."""
    view = seen.view
    proposal = fuel.proposal
    waiting = fuel.to_take
    reached = proposal.reached
    shown = shown_table(proposal.table, display_of(page.user, page.job, fuel.base))
    is_curve = proposal.table.y is None
    misfit = np.zeros(1) if proposal.correction.misfit is None else proposal.correction.misfit
    within = np.abs(proposal.estimate.factor - 1) * 100 <= TARGET_PERCENT
    return {
        "page": page,
        "fuel": fuel,
        "view": view,
        "views": list(View),
        "grid": with_heads(fuel_grid(proposal, view, waiting), shown),
        "place": cell_name(shown, account.i, account.j, digits=5),
        "shape": seen.shape,
        "is_curve": is_curve,
        "shapes": [] if is_curve else list(Shape),
        "lines": _lines(proposal, account.j, seen.shape),
        "relief": relief_picture(proposal, view, seen.turn)
        if seen.shape is Shape.RELIEF and proposal.table.y is not None
        else None,
        "policy": proposal.policy,
        "seen": work.policy_of(page.round).model_dump_json(),
        "sources": _sources(fuel),
        "own_tables": [table for table in work.fuel_tables(fuel.base) if table.role == proposal.table.role],
        "has_clamp": bool(fuel.base.by_role("airflow_clamp")),
        "has_target_table": bool(fuel.base.by_role("lambda_target")),
        "sieve": sieve_parts(proposal.evidence, proposal.policy),
        "waiting": int(waiting.sum()),
        "unseen": int((waiting & (proposal.bins.samples == 0)).sum()),
        "misfit_rms": float(np.sqrt(np.mean(misfit**2))),
        "misfit_most": float(np.abs(misfit).max()),
        "changed": int((proposal.correction.after != proposal.table.grid).sum()),
        "driven": int(reached.sum()),
        "within": int((reached & within).sum()),
    }


def _lines(proposal: FuelProposal, row: int, shape: Shape) -> LinePicture | None:
    """A curve is always drawn, above its row of numbers; rows of a table where they are asked for."""
    if proposal.table.y is None:
        return line_picture(proposal, row, _CURVE_HEIGHT)
    return line_picture(proposal, row) if shape is Shape.LINES else None


def _sources(fuel: work.FuelWork) -> list[tuple[str, str]]:
    """What the table at hand can be held against."""
    other = "maf_curve" if fuel.proposal.table.role == "volumetric_efficiency" else "volumetric_efficiency"
    metered = bool(fuel.base.by_role(other))
    trusted = ("meter", "the airflow meter") if other == "maf_curve" else ("speed_density", "speed density")
    return [("fuel", "the fuel error"), *([trusted] if metered or fuel.proposal.policy.source != "fuel" else [])]


def _sheet(request: Request, page: RoundPage, seen: FuelQuery) -> Response:
    template = "_fuel_sheet.html" if is_fragment(request) else "fuel.html"
    try:
        fuel = work.fuel_work(page.job, page.round, seen.table)
    except BadInput as error:
        asked = doubt_values(page.round, error, "fuel")
        return render(
            request,
            "fuel_empty.html",
            page.user,
            page=page,
            problem=str(error),
            policy=work.policy_of(page.round),
            **asked,
        )
    rows, columns = fuel.proposal.table.shape
    j, i = _first_cell(fuel)
    if seen.cell is not None and seen.cell[0] < columns and seen.cell[1] < rows:
        i, j = seen.cell
    account, picture = _account(fuel, j, i)
    values = _values(page, fuel, seen, account)
    tables = work.fuel_tables(fuel.base)
    return render(
        request,
        template,
        page.user,
        account=account,
        picture=picture,
        chosen=1,
        sentence_of=sentence_of,
        tables=tables,
        **values,
    )


def _first_cell(fuel: work.FuelWork) -> tuple[int, int]:
    """The cell to show first, as (j, i): where the error weighs most."""
    found, bins = fuel.proposal.estimate, fuel.proposal.bins
    weight = np.where(fuel.proposal.reached, np.abs(found.factor - 1) * np.sqrt(bins.dwell), -1.0)
    j, i = np.unravel_index(int(np.argmax(weight)), weight.shape)
    return int(j), int(i)


def _account(fuel: work.FuelWork, j: int, i: int) -> tuple[CellAccount, Any]:
    account = explain(fuel.proposal, j, i)
    return account, spread_picture(account, 388, 64)


def _looking(view: str, table: str | None, shape: str, turn: int, cell: str) -> FuelQuery:
    chosen = parse_cells(cell) if cell.strip() else []
    return FuelQuery(
        View(view) if view in list(View) else View.ERROR,
        table,
        Shape(shape) if shape in list(Shape) else Shape.GRID,
        turn % TURNS,
        chosen[0] if chosen else None,
    )


def _asked(view: str = "", table: str | None = None, shape: str = "", turn: int = 0, cell: str = "") -> FuelQuery:
    return _looking(view, table, shape, turn, cell)


Asked = Annotated[FuelQuery, Depends(_asked)]


@router.get(_HERE)
@in_round(Station.FUEL)
def fuel(page: RoundPage, seen: Asked) -> Response:
    """The sheet and its margin."""
    return _sheet(page.request, page, seen)


@router.get(_HERE + "/cell")
@in_round(Station.FUEL)
def cell(page: RoundPage, i: int, j: int, seen: Asked, chosen: int = 1) -> Response:
    """The margin for a cell."""
    found = work.fuel_work(page.job, page.round, seen.table)
    account, picture = _account(found, j, i)
    values = _values(page, found, FuelQuery(table=seen.table), account)
    return render(
        page.request,
        "_fuel_margin.html",
        page.user,
        account=account,
        picture=picture,
        chosen=chosen,
        sentence_of=sentence_of,
        **values,
    )


@router.get(_HERE + "/left-out")
@in_round(Station.FUEL)
def left_out(page: RoundPage, reason: str, table: str | None = None) -> Response:
    """The moments that a rule leaves out, of the log that lost most to it."""
    found = work.fuel_work(page.job, page.round, table)
    index, spans = left_out_spans(found.proposal.evidence, reason)
    log = found.logs[index]
    words = "with samples that are used" if reason == USED else f"left out: {title_of(reason)}"
    told = Moments(log, spans, traces_for(found.proposal.table), moments_title(log, spans, words))
    return moments_answer(page.request, page, told)


@router.get(_HERE + "/moments")
@in_round(Station.FUEL)
def moments(page: RoundPage, i: int, j: int, table: str | None = None) -> Response:
    """The moments that fed a cell, of the log that gave most of them."""
    found = work.fuel_work(page.job, page.round, table)
    account = explain(found.proposal, j, i)
    share = max(account.logs, key=lambda log_share: log_share.samples, default=None)
    index = found.proposal.evidence.names.index(share.name) if share is not None else 0
    log, spans = found.logs[index], spans_of_cell(account, index)
    told = Moments(log, spans, traces_for(found.proposal.table), moments_title(log, spans, "fed this cell"))
    return moments_answer(page.request, page, told)


_NOT_IN_FORM = {"pinned", "only", "without", "also", "where", "in_use", "delay"}


def _form_policy(old: Policy, form: dict[str, str]) -> Policy:
    """The policy with what a form says about it."""
    data = old.model_dump(mode="json")
    for key, value in form.items():
        if key in Policy.model_fields and key not in _NOT_IN_FORM:
            data[key] = plain_number(value)
    if form.get("delay") == "auto":
        data["delay"] = "auto"
    elif form.get("delay") == "own":
        data["delay"] = [plain_number(form.get(key, "0")) or "0" for key in ("delay_d0", "delay_k")]
    in_use = {key.removeprefix("in_use_"): value.strip() for key, value in form.items() if key.startswith("in_use_")}
    if in_use:
        data["in_use"] = {key: value for key, value in in_use.items() if value}
    return Policy.read(data, "policy")


def _seen(
    view: Annotated[str, Form()] = "",
    table: Annotated[str | None, Form()] = None,
    shape: Annotated[str, Form()] = "",
    turn: Annotated[int, Form()] = 0,
    cell: Annotated[str, Form()] = "",
) -> FuelQuery:
    return _looking(view, table, shape, turn, cell)


SheetState = Annotated[FuelQuery, Depends(_seen)]


def _back(request: Request, page: RoundPage, seen: FuelQuery) -> Response:
    """The sheet as it is now: a piece for a script, a new page for a plain form."""
    if is_fragment(request):
        return _sheet(request, page.reloaded(), seen)
    asked = urlencode({"view": seen.view, "shape": seen.shape} | ({"table": seen.table} if seen.table else {}))
    return RedirectResponse(f"{page.path}/fuel?{asked}", 303)


async def _fields(request: Request) -> dict[str, str]:
    return {key: value for key, value in (await request.form()).items() if isinstance(value, str)}


@router.post(_HERE + "/policy", dependencies=[FromOurForm])
@in_open_round(Station.FUEL)
def policy(
    page: RoundPage,
    form: Annotated[dict[str, str], Depends(_fields)],
    seen: SheetState,
) -> Response:
    """Change the policy."""
    old = work.policy_of(page.round)
    seen_then = read_seen(form.get("seen", ""))
    base = old if seen_then is None else Policy.read(seen_then)
    mine = _form_policy(base, form).model_dump(mode="json")
    policy = Policy.read(merge(seen_then, mine, old.model_dump(mode="json"), "The policy"))
    _can_be_computed(page, policy, policy.in_use.values())
    work.keep_policy(page.round, policy)
    return _back(page.request, page, seen)


@router.post(_HERE + "/rule", dependencies=[FromOurForm])
@in_open_round(Station.FUEL)
def rule(
    page: RoundPage,
    rule: Annotated[str, Form()],
    on: Annotated[bool, Form()],
    seen: SheetState,
) -> Response:
    """Switch a rule of the sieve on or off."""
    if not switchable(rule):
        raise BadInput(f"“{title_of(rule)}” cannot be switched off")
    work.keep_policy(page.round, work.policy_of(page.round).with_rule(rule, on=on))
    return _back(page.request, page, seen)


def _can_be_computed(page: RoundPage, policy: Policy, formulas: Iterable[str]) -> None:
    """Raises BadInput if one of the formulas is no condition over channels that there are."""
    if not any(True for _ in formulas):
        return
    work.check_conditions(page.job, page.round, [*policy.where, *policy.in_use.values()])


@router.post(_HERE + "/condition", dependencies=[FromOurForm])
@in_open_round(Station.FUEL)
def condition(
    page: RoundPage,
    seen: SheetState,
    formula: Annotated[str, Form(max_length=400)] = "",
    drop: Annotated[bool, Form()] = False,
) -> Response:
    """Add a condition of one's own that samples must meet, or drop it."""
    text = " ".join(formula.split())
    old = work.policy_of(page.round)
    where = [one for one in old.where if one != text]
    if not drop:
        if not text:
            raise BadInput("there is no condition", advice="write one, such as throttle_position < 40")
        where.append(text)
        work.check_conditions(page.job, page.round, [text])
    work.keep_policy(page.round, Policy.read(old.model_dump(mode="json") | {"where": where}))
    return _back(page.request, page, seen)


@router.post(_HERE + "/pin", dependencies=[FromOurForm])
@in_open_round(Station.FUEL)
def pin(
    page: RoundPage,
    cells: Annotated[str, Form()],
    seen: SheetState,
) -> Response:
    """Pin the chosen cells, or free them if all of them are pinned."""
    found = work.fuel_work(page.job, page.round, seen.table)
    draft_pins.keep_pins(
        found.draft, found.proposal.table.id, set(found.proposal.policy.pinned), set(parse_cells(cells))
    )
    work.keep_policy(page.round, work.policy_of(page.round).model_copy(update={"pinned": ()}))
    return _back(page.request, page, seen)


@router.post(_HERE + "/take", dependencies=[FromOurForm])
@in_open_round(Station.FUEL)
def take(
    page: RoundPage,
    version: Annotated[int, Form()],
    cells: Annotated[str, Form()] = "",
    table: Annotated[str | None, Form()] = None,
) -> Response:
    """Take the proposal, or its chosen cells, into the draft."""
    found = work.fuel_work(page.job, page.round, table)
    chosen: BoolArray | None = None
    if cells.strip():
        chosen = cells_mask(tuple(parse_cells(cells)), found.proposal.table.shape, default=False)
    event = work.take(page.acting(version), found, chosen)
    say(page.request, f"Taken into the draft. {event.sentence}.")
    return RedirectResponse(page.path + "/fuel?view=proposed", 303)
