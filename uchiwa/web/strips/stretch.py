"""The traces of an arrangement for a stretch of time, as they go to the browser."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from uchiwa.core.viewing.alignment import Alignment, against_speed
from uchiwa.core.viewing.arrangement import Arrangement, parse
from uchiwa.core.viewing.axes import MOST_AXES, scales
from uchiwa.core.viewing.pyramid import Source
from uchiwa.core.viewing.window import Line, drawn, figures, index_at
from uchiwa.services.reading import OpenLog, Reader
from uchiwa.web.drawer import trace_bytes
from uchiwa.web.strips.view import AlignedLog, StripsQuery, aligned_log

_DIVISIONS = 4
_NOTHING = Line(np.empty(0), np.empty(0), whole=True)


@dataclass(frozen=True)
class Stretch:
    """A stretch of logs to be drawn.

    Attributes:
        start, end: of the view in the common time, s (rpm if the logs are aligned by engine speed).
        pad: how much more is sent on either side, as a share of the view.
        points: at most so many for each trace.
    """

    start: float
    end: float
    pad: float
    points: int

    @property
    def beyond(self) -> float:
        """How much more is sent on either side, s."""
        return (self.end - self.start) * self.pad


def strips_for(asked: StripsQuery, reader: Reader, stretch: Stretch, *, fit: bool) -> bytes:
    """Traces, their figures in view and in whole, and the axes of each strip.

    Args:
        fit: whether axes span what is in view, not the whole of the logs.
    """
    arrangement = parse(asked.show)
    keys = list(arrangement.traces)
    extra = ["marker"] if asked.by is Alignment.MARKER else []
    if asked.by is Alignment.SPEED:
        extra.append("engine_speed")
    logs = [aligned_log(reader.open(log, [*keys, *extra]), asked) for log in asked.logs]
    lines: list[tuple[Line, float]] = []
    described: list[dict[str, Any]] = []
    ranges: dict[str, list[tuple[float, float]]] = {key: [] for key in keys}
    units: dict[str, str] = {}
    start, end, span = stretch.start, stretch.end, stretch.beyond
    for log in logs:
        here = [key for key in keys if not log.log.problem(key)]
        if asked.by is not Alignment.SPEED:
            stored = [key for key in here if key in log.log.stored.signals]
            log.log.stored.fetch(stored, start - span + log.offset, end + span + log.offset, stretch.points)
        for key in here:
            units.setdefault(key, log.log.trace(key).unit)
            line, about = _trace(log, key, asked.by, stretch)
            lines.append((line, log.offset + start if asked.by is not Alignment.SPEED else 0.0))
            described.append(
                {"log": log.log.log.id, "key": key, "points": int(line.time.size), "all": line.whole} | about
            )
            shown = about["view"] if fit else about["whole"]
            if shown["low"] is not None:
                ranges[key].append((shown["low"], shown["high"]))
    return trace_bytes.packed(
        {
            "start": start,
            "end": end,
            "by": asked.by.value,
            "traces": described,
            "axes": _axes(arrangement, units, ranges),
        },
        lines,
    )


def _trace(log: AlignedLog, key: str, by: Alignment, stretch: Stretch) -> tuple[Line, dict[str, Any]]:
    time, values = log.log.source(key)
    if by is Alignment.SPEED:
        return _over_speed(log, key, (stretch.start, stretch.end), stretch.points)
    start, end = stretch.start + log.offset, stretch.end + log.offset
    line = drawn(time, values, start - stretch.beyond, end + stretch.beyond, stretch.points)
    first, last = index_at(time, start), index_at(time, end, "right")
    return line, {
        "view": _whole(log.log, key, values) if last - first >= values.size else _figures(values, first, last),
        "whole": _whole(log.log, key, values),
    }


def _figures(values: Source, first: int, last: int) -> dict[str, float | None]:
    found = figures(values, first, last)
    return {"low": found.low, "high": found.high, "mean": found.mean}


def _whole(log: OpenLog, key: str, values: Source) -> dict[str, float | None]:
    known = log.stored.signals.get(key)
    if known is not None:
        low, high = known.extent
        return {"low": trace_bytes.number(low), "high": trace_bytes.number(high), "mean": known.mean}
    return _figures(values, 0, values.size)


def _over_speed(log: AlignedLog, key: str, view: tuple[float, float], points: int) -> tuple[Line, dict[str, Any]]:
    empty: dict[str, float | None] = {"low": None, "high": None, "mean": None}
    place = log.place
    if place is None or log.log.problem("engine_speed"):
        return _NOTHING, {"view": empty, "whole": empty}
    time = log.log.stored.main_time
    first, last = index_at(time, place.start), index_at(time, place.end, "right")
    speed = log.log.source("engine_speed")[1].samples(first, last)
    values = log.log.whole(key)[first:last]
    seen = values[(speed >= view[0]) & (speed <= view[1])]
    return against_speed(speed, values, points), {"view": _of(seen), "whole": _of(values)}


def _of(values: np.ndarray) -> dict[str, float | None]:
    known = values[np.isfinite(values)]
    if not known.size:
        return {"low": None, "high": None, "mean": None}
    return {"low": float(known.min()), "high": float(known.max()), "mean": float(known.mean())}


def _axes(
    arrangement: Arrangement, units: dict[str, str], ranges: dict[str, list[tuple[float, float]]]
) -> list[list[dict[str, Any]]]:
    found: list[list[dict[str, Any]]] = []
    for strip in arrangement.strips:
        by_unit: dict[str, list[tuple[float, float]]] = {}
        for key in strip:
            if key in units:
                by_unit.setdefault(units[key], []).extend(ranges[key])
        kept = dict(list(by_unit.items())[:MOST_AXES])
        found.append(
            [
                {
                    "unit": scale.unit,
                    "low": scale.low,
                    "high": scale.high,
                    "ticks": scale.ticks,
                    "decimals": scale.decimals,
                }
                for scale in scales({unit: some or [(0.0, 1.0)] for unit, some in kept.items()}, _DIVISIONS)
            ]
        )
    return found
