"""Bins of anything: a formula over logs on any axes, what each cell rests on, and gatherings kept under a name."""

from __future__ import annotations

from typing import Annotated, Any

import numpy as np
from fastapi import Form, Query
from fastapi.responses import RedirectResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.gathering import GatheredCells, Gathering, Statistic
from uchiwa.core.proposals.policy_file import policy_from
from uchiwa.core.proposals.sample_account import moments, shares
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.tables.editing.cellname import cell_name
from uchiwa.core.typed_number import plain_number
from uchiwa.services import bins as work
from uchiwa.services import table_proposals
from uchiwa.store import channels, kept_bins
from uchiwa.store.models import LogFile
from uchiwa.web.drawer.moments_picture import Moments, moments_answer, title_of
from uchiwa.web.pages import render, say
from uchiwa.web.proposal_sheets.state import Asked, Fields, Seen, SheetState
from uchiwa.web.requests.fragment import is_fragment
from uchiwa.web.requests.session import FromOurForm
from uchiwa.web.round_context import RoundPage, in_locked_round, in_round
from uchiwa.web.routing import router as new_router
from uchiwa.web.stations.bins.bins_curve import bins_curve
from uchiwa.web.stations.bins.bins_grid import BinsView, bins_grid, shown_figures

router = new_router()
_HERE = "/jobs/{job_id}/rounds/{number}/bins"
_TRACES_MOST = 5
Seconds = Annotated[float, Query(allow_inf_nan=False)]
_OWN = "own axes"


def _values(page: RoundPage, found: work.BinsWork, seen: SheetState, chosen: int = 1) -> dict[str, Any]:
    view = BinsView(seen.view) if seen.view in list(BinsView) and found.second is not None else BinsView.FIRST
    figures, of = shown_figures(found, view)
    usual = np.unravel_index(int(np.argmax(of.bins.samples)), of.axes.shape)
    i, j = seen.cell_of(of.axes.shape, (int(usual[1]), int(usual[0])))
    grid, look = bins_grid(found, view)
    inside = of.cell == j * of.axes.shape[1] + i
    spans = moments(of.samples.log, of.samples.time, inside)
    return {
        "page": page,
        "found": found,
        "asked": found.asked,
        "pointed": "",
        "seen": table_proposals.kept(page.round, work.KEY, Gathering).model_dump_json(),
        "view": view,
        "views": list(BinsView) if found.second is not None else [],
        "axes": of.axes,
        "grid": grid,
        "look": look,
        "curve": bins_curve(found),
        "place": cell_name(of.axes, i, j, digits=5),
        "i": i,
        "j": j,
        "chosen": chosen,
        "figure": float(figures[j, i]),
        "of": of,
        "logs": shares(of.samples.names, of.samples.log, spans, inside),
        **_choices(page, found),
    }


def _choices(page: RoundPage, found: work.BinsWork) -> dict[str, Any]:
    """What the sentence's words can be set to."""
    return {
        "tables": found.base.tables,
        "statistics": list(Statistic),
        "quantities": sorted(QUANTITIES, key=lambda quantity: QUANTITIES[quantity].title),
        "titles": {key: quantity.title for key, quantity in QUANTITIES.items()},
        "earlier": page.round.number > 1,
        "own": kept_bins.of_shop(page.user.shop_id, page.facts.purpose),
        "known_channels": [computed.id for computed in channels.book_of(page.job.shop_id)],
    }


def _page(page: RoundPage, seen: SheetState, moment: tuple[int, float] | None = None) -> Response:
    try:
        found = work.bins_work(page.job, page.round, seen.table)
    except BadInput as error:
        return _without(page, seen, error)
    pointed = ""
    if moment is not None:
        cell, pointed = _pointed(found, *moment)
        seen = SheetState(seen.view, seen.table, cell or seen.cell)
    template = "_bins_sheet.html" if is_fragment(page.request) else "bins.html"
    return render(page.request, template, page.user, **{**_values(page, found, seen), "pointed": pointed})


def _pointed(found: work.BinsWork, log: int, at: float) -> tuple[tuple[int, int] | None, str]:
    """The cell that a moment of a log counted in, and how to say so."""
    number = next((place for place, row in enumerate(found.rows) if row.id == log), None)
    if number is None:
        return None, "The log that was read is not among those gathered here."
    name = found.first.samples.names[number]
    flat = found.first.cell_at(number, at)
    if flat is None:
        return None, f"{at:.1f} s of {name} is left out here: a condition fails, or it lies off the axes."
    j, i = divmod(flat, found.first.axes.shape[1])
    return (i, j), f"Where {name} was at {at:.1f} s."


def _without(page: RoundPage, seen: SheetState, error: BadInput) -> Response:
    """The sentence with what is wrong with it, so that it can be put right."""
    if is_fragment(page.request):
        raise error
    base, _ = work.calibration_of(page.job, page.round)
    asked = work.asked_of(page.job, page.round, seen.table)
    return render(
        page.request, "bins_empty.html", page.user, page=page, problem=str(error), asked=asked, tables=base.tables,
        statistics=list(Statistic), seen=asked.model_dump_json(),
    )  # fmt: skip


@router.get(_HERE)
@in_round(None)
def bins(page: RoundPage, seen: Asked, log: int | None = None, at: Seconds | None = None) -> Response:
    """The sheet and its margin; at the cell in which a moment of a log counted, if one is given."""
    return _page(page, seen, None if log is None or at is None else (log, at))


@router.get(_HERE + "/cell")
@in_round(None)
def cell(page: RoundPage, i: int, j: int, seen: Asked, chosen: int = 1) -> Response:
    """The margin for a cell."""
    found = work.bins_work(page.job, page.round, seen.table)
    values = _values(page, found, SheetState(seen.view, seen.table, (i, j)), chosen)
    return render(page.request, "_bins_margin.html", page.user, **values)


@router.get(_HERE + "/moments")
@in_round(None)
def cell_moments(page: RoundPage, i: int, j: int, seen: Asked) -> Response:
    """The moments that a cell is made of, of the log that gave most of them."""
    found = work.bins_work(page.job, page.round, seen.table)
    of, rows = found.first, found.rows
    if seen.view == BinsView.SECOND and found.second is not None:
        of, rows = found.second, found.second_rows
    return moments_answer(page.request, page, _moments(of, rows, i, j))


def _moments(of: GatheredCells, rows: tuple[LogFile, ...], i: int, j: int) -> Moments:
    axes = [axis.quantity for axis in (of.axes.x, of.axes.y) if axis is not None]
    traces = tuple(dict.fromkeys([*axes, "lambda_measured", "short_term_trim", "throttle_position"]))[:_TRACES_MOST]
    inside = of.cell == j * of.axes.shape[1] + i
    if not inside.any():
        return Moments(rows[0], [], traces, "No sample lies in this cell")
    number = int(np.argmax(np.bincount(of.samples.log[inside], minlength=len(rows))))
    found = moments(of.samples.log, of.samples.time, inside & (of.samples.log == number))
    spans = [(moment.start, moment.end) for moment in found]
    return Moments(rows[number], spans, traces, title_of(rows[number], spans, "lie in this cell"))


def _asked_in(form: dict[str, str], now: Gathering) -> Gathering:
    """The gathering with what a form says about it."""
    data = now.model_dump(mode="json")
    for key, value in form.items():
        if key in Gathering.model_fields:
            text = " ".join(value.split())
            numeric = key in ("quantile", "least_samples", "low", "high")
            data[key] = plain_number(text) if numeric and text else text
    if data["table"] == _OWN:
        data["table"] = ""
    for axis in ("x", "y"):
        if data[f"{axis}_quantity"] != getattr(now, f"{axis}_quantity") and form.get(f"{axis}_points") == getattr(
            now, f"{axis}_points"
        ):
            data[f"{axis}_points"] = ""  # another quantity's breakpoints
    return policy_from(Gathering, data, "gathering")


@router.post(_HERE + "/policy", dependencies=[FromOurForm])
@in_locked_round(None)
def policy(page: RoundPage, form: Fields, seen: Seen) -> Response:
    """Gather something else, or elsewhere."""
    asked = _asked_in(form, table_proposals.kept(page.round, work.KEY, Gathering))
    table_proposals.keep(page.round, work.KEY, work.with_points(page.job, page.round, asked))
    if not is_fragment(page.request):
        return RedirectResponse(f"{page.path}/bins", 303)
    return _page(page.reloaded(), SheetState(seen.view, asked.table, seen.cell))


@router.post(_HERE + "/keep", dependencies=[FromOurForm])
@in_locked_round(None)
def keep(page: RoundPage, name: Annotated[str, Form(max_length=80)] = "") -> Response:
    """Keep the gathering under a name, for any car of the shop."""
    asked = table_proposals.kept(page.round, work.KEY, Gathering).model_copy(update={"over": "round"})
    kept_bins.keep(page.user.shop_id, kept_bins.KeptBins(name, page.facts.purpose, asked))
    say(page.request, f"Saved as “{' '.join(name.split())}”.")
    return RedirectResponse(f"{page.path}/bins", 303)


@router.post(_HERE + "/use", dependencies=[FromOurForm])
@in_locked_round(None)
def use(page: RoundPage, name: Annotated[str, Form(max_length=80)], drop: Annotated[bool, Form()] = False) -> Response:
    """Take a gathering that was kept; its table is this car's of the same id, else the one at hand. Or forget it."""
    if drop:
        kept_bins.drop(page.user.shop_id, name)
        say(page.request, f"“{name}” is forgotten.")
        return RedirectResponse(f"{page.path}/bins", 303)
    found = next((bin_ for bin_ in kept_bins.of_shop(page.user.shop_id) if bin_.name == name), None)
    if found is None:
        raise BadInput(f"there is no gathering “{name}”", advice="choose one from the list")
    base, _ = work.calibration_of(page.job, page.round)
    asked = found.asked
    if asked.table and asked.table not in [table.id for table in base.tables]:
        asked = asked.model_copy(update={"table": work.asked_of(page.job, page.round).table})
    table_proposals.keep(page.round, work.KEY, asked)
    return RedirectResponse(f"{page.path}/bins", 303)
