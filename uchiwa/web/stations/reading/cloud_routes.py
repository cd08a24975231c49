"""A log's channels against each other, and how one is distributed."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Any

import numpy as np
from fastapi import Depends, Query
from fastapi.responses import JSONResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import BoolArray
from uchiwa.core.viewing.scatter import DIVERGING, QUANTILES, around_zero, brushed, distribution, scatter
from uchiwa.core.viewing.ticks import decimals_of, nice_step, nice_ticks
from uchiwa.services import fuel
from uchiwa.services.reading import Reader
from uchiwa.store.database import unit_of_work
from uchiwa.web.drawer import trace_bytes
from uchiwa.web.routing import router as new_router
from uchiwa.web.strips.view import HERE, MOST_SPANS, AlignedLog, OfLogs, StripsQuery, aligned_log

router = new_router()


@dataclass(frozen=True)
class Part:
    """The part of a log that a picture is of: where a condition holds, and between two moments of the common time."""

    where: Annotated[str, Query(max_length=600)] = ""
    start: Annotated[float | None, Query(allow_inf_nan=False)] = None
    end: Annotated[float | None, Query(allow_inf_nan=False)] = None
    sieve: bool = False


OfThePart = Annotated[Part, Depends()]


def _axis(ends: tuple[float, float]) -> dict[str, Any]:
    """An axis as the page draws it."""
    low, high = ends
    return {"low": low, "high": high, "ticks": nice_ticks(low, high, 5)}


def _part_of_first(asked: StripsQuery, part: Part) -> tuple[AlignedLog, BoolArray, int]:
    """The first log, which of its samples belong to a part of it, and how many the sieve of Fuel leaves out."""
    one = aligned_log(Reader(asked.page.job, asked.user.shop_id).open(asked.first), asked)
    time = one.log.time
    use = np.ones(time.shape, dtype=np.bool_)
    if part.where.strip():
        use &= one.log.workings(part.where).condition(part.where)
    if part.start is not None and part.end is not None:
        use &= (time >= part.start + one.offset) & (time <= part.end + one.offset)
    before = int(use.sum())
    if part.sieve:
        counted = fuel.used_moments(asked.page.job, asked.page.round, asked.first, time)
        use = use if counted is None else use & counted
    return one, use, before - int(use.sum())


@router.get(HERE + "/scatter")
def cloud(
    asked: OfLogs,
    part: OfThePart,
    x: str,
    y: str,
    colour: str = "",
) -> Response:
    """Two channels of the first log against each other, coloured by a third."""
    with unit_of_work():
        one, use, left_out = _part_of_first(asked, part)
        found = scatter(one.log.whole(x), one.log.whole(y), one.log.whole(colour) if colour else None, use)
    diverging = colour in DIVERGING
    low, high = around_zero(found.colour_range) if diverging else found.colour_range
    shades = [trace_bytes.number(round(float(value), 5)) for value in found.colour] if colour else []
    return JSONResponse(
        {
            "x": _axis(found.x_range),
            "y": _axis(found.y_range),
            "colour": {"low": low, "high": high, "decimals": decimals_of(nice_step((high - low or 1.0) / 20))},
            "diverging": diverging,
            "samples": found.samples,
            "left_out": left_out,
            "points": {
                "x": np.round(found.x, 5).tolist(),
                "y": np.round(found.y, 5).tolist(),
                "colour": shades,
                "count": found.count.tolist(),
            },
        }
    )


@router.get(HERE + "/brush")
def brush(
    asked: OfLogs,
    part: OfThePart,
    x: str,
    y: str,
    box: Annotated[list[float], Query(min_length=4, max_length=4)],
) -> Response:
    """When the samples within a rectangle of the cloud were recorded; `box` is x, x, y, y."""
    with unit_of_work():
        one, use, _ = _part_of_first(asked, part)
        found, count, seconds = brushed(
            one.log.time, one.log.whole(x), one.log.whole(y), use, ((box[0], box[1]), (box[2], box[3]))
        )
    return JSONResponse(
        {
            "spans": [[first - one.offset, last - one.offset] for first, last in found[:MOST_SPANS]],
            "samples": count,
            "seconds": seconds,
            "count": len(found),
        }
    )


@router.get(HERE + "/distribution")
def spread(
    asked: OfLogs,
    part: OfThePart,
    x: str,
) -> Response:
    """How long a channel of the first log stayed where."""
    with unit_of_work():
        one, use, _ = _part_of_first(asked, part)
        found = distribution(one.log.time, one.log.whole(x), use)
    if found is None:
        raise BadInput("there is no reading of it here", advice="widen the view, or change the condition")
    return JSONResponse(
        {
            "x": _axis((float(found.edges[0]), float(found.edges[-1]))),
            "y": _axis((0.0, float(found.seconds.max()) * 1.08)),
            "edges": np.round(found.edges, 9).tolist(),
            "seconds": np.round(found.seconds, 4).tolist(),
            "total": found.total,
            "samples": found.samples,
            "mean": found.mean,
            "quantiles": dict(zip((f"{q:.0%}" for q in QUANTILES), found.quantiles, strict=True)),
        }
    )
