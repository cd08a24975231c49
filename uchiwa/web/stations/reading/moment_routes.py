"""Moments of a log to go to: extremes, where a condition holds, when the engine was in a cell."""

from __future__ import annotations

from typing import Annotated

from fastapi import HTTPException, Query
from fastapi.responses import JSONResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.core.viewing.moments import Direction, Extreme, extreme, neighbour
from uchiwa.core.viewing.operating import moments_in
from uchiwa.services.reading import Reader
from uchiwa.store.database import unit_of_work
from uchiwa.web.grid.cells import parse_cells
from uchiwa.web.routing import router as new_router
from uchiwa.web.strips.view import HERE, MOST_SPANS, OfLogs, opened, tables_of

router = new_router()


@router.get(HERE + "/extreme")
def jump_to_extreme(asked: OfLogs, key: str, which: Extreme) -> Response:
    """The moment of the highest or lowest reading of a trace over all logs that are shown."""
    with unit_of_work():
        reader = Reader(asked.page.job, asked.user.shop_id)
        found: list[tuple[float, float, int]] = []
        for one in opened(asked, reader, [key]):
            if one.log.problem(key):
                continue
            hit = extreme(*one.log.source(key), which)
            if hit is not None:
                found.append((hit[1], hit[0] - one.offset, one.log.log.id))
    if not found:
        raise BadInput("none of these logs has a reading of it", advice="choose another trace")
    value, at, log = max(found) if which == "highest" else min(found)
    return JSONResponse({"at": at, "value": value, "log": log})


@router.get(HERE + "/moment")
def jump_to_moment(
    asked: OfLogs,
    condition: Annotated[str, Query(max_length=600)],
    at: Annotated[float, Query(allow_inf_nan=False)],
    direction: Direction = "next",
) -> Response:
    """The next moment, of the first log, at which a condition begins to hold; and every stretch in which it holds."""
    with unit_of_work():
        reader = Reader(asked.page.job, asked.user.shop_id)
        one = opened(asked, reader, None)[0]
        found = one.log.condition_spans(condition)
    hit = neighbour(found, at + one.offset, direction)
    return JSONResponse(
        {
            "count": len(found),
            "seconds": sum(end - start for start, end in found),
            "number": None if hit is None else hit[0] + 1,
            "at": None if hit is None else hit[1][0] - one.offset,
            "until": None if hit is None else hit[1][1] - one.offset,
            "spans": [[start - one.offset, end - one.offset] for start, end in found[:MOST_SPANS]],
        }
    )


@router.get(HERE + "/cells")
def cell_moments(asked: OfLogs, table: str, cells: Annotated[str, Query(max_length=4000)]) -> Response:
    """When the engine of the first log was in some cells of a table."""
    with unit_of_work():
        reader = Reader(asked.page.job, asked.user.shop_id)
        chosen = next((one for one in tables_of(reader, asked) if one.id == table), None)
        if chosen is None:
            raise HTTPException(404)
        axes = [axis.quantity for axis in (chosen.x, chosen.y) if axis is not None]
        one = opened(asked, reader, axes)[0]
        x, y = one.log.along(chosen, 0, one.log.time.size)
        found = moments_in(chosen, one.log.time, x, y, parse_cells(cells))
    return JSONResponse(
        {
            "spans": [[start - one.offset, end - one.offset] for start, end in found[:MOST_SPANS]],
            "count": len(found),
            "seconds": sum(end - start for start, end in found),
        }
    )
