"""The moments that fed what is chosen: windows of a few seconds side by side, the whole log a thin line above."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from fastapi import Request
from fastapi.responses import Response

from uchiwa.core.counted import counted
from uchiwa.core.proposals.fuel.explanation import CellAccount
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.quantities.unit_words import unit_words
from uchiwa.core.tables.table import Table
from uchiwa.core.viewing.digits import digits
from uchiwa.core.viewing.moment_windows import MomentWindow, moment_windows
from uchiwa.core.viewing.window import Line, drawn
from uchiwa.store.models import LogFile
from uchiwa.store.stored_log import StoredLog
from uchiwa.web.pages import duration, render
from uchiwa.web.round_context import RoundPage
from uchiwa.web.svg.scale import Scale, broken_path, polyline

WIDTH = 1240.0
LEFT = 156.0
_GAP, _RIGHT = 10.0, 4.0
_OVERVIEW = (3.0, 21.0)
_TOP, _STRIP = 30.0, 34.0
_MOST_TRACES, _MOST_WINDOWS = 3, 6
_POINTS_OF_LOG, _POINTS = 1200, 500

Spans = Sequence[tuple[float, float]]


@dataclass(frozen=True)
class Moments:
    """Some stretches (s) of a log, the channels worth seeing there, most telling first, and what they are."""

    log: LogFile
    spans: Spans
    quantities: Sequence[str]
    title: str


@dataclass(frozen=True)
class TraceStrip:
    """A trace: its name, its range, and where it stands."""

    title: str
    unit: str
    decimals: int
    low: float
    high: float
    top: float
    bottom: float


@dataclass(frozen=True)
class DrawnWindow:
    """A window: its place, its bands, and a line for each trace."""

    start: float
    end: float
    left: float
    right: float
    bands: tuple[tuple[float, float], ...]
    lines: tuple[str, ...]
    clock: str


@dataclass(frozen=True)
class MomentsPicture:
    """All of the drawer."""

    height: float
    overview: str
    marks: tuple[tuple[float, float], ...]
    strips: tuple[TraceStrip, ...]
    windows: tuple[DrawnWindow, ...]
    more: int
    seconds: float


def traces_for(table: Table) -> tuple[str, ...]:
    """What is worth seeing beside a cell of a table, most telling first: its axes, then the mixture or the trims."""
    axes = [axis.quantity for axis in (table.x, table.y) if axis is not None]
    return tuple(
        dict.fromkeys(("engine_speed", *axes, "lambda_measured", "short_term_trim", "airflow", "manifold_pressure"))
    )


def spans_of_cell(account: CellAccount, number: int) -> list[tuple[float, float]]:
    """The stretches of one log, by its number among those of the account, that fed a cell."""
    return [(moment.start, moment.end) for moment in account.moments if moment.log == number]


def moments_answer(request: Request, page: RoundPage, moments: Moments) -> Response:
    """The drawer's content; the log can be read from the first moment."""
    read = f"{page.path}/read?log={moments.log.id}"
    if moments.spans:
        first, last = moments.spans[0]
        read += f"&from={max(0.0, first - 10):.3f}&to={last + 10:.3f}&at={first:.3f}"
    picture = moments_picture(moments)
    title = f"{moments.title}; {picture.more} of them not drawn" if picture.more else moments.title
    return render(request, "_moments.html", page.user, picture=picture, title=title, read=read)


def title_of(log: LogFile, spans: Spans, words: str) -> str:
    """What the moments are: "3 moments of log.csv fed this cell, 4.2 s"."""
    seconds = sum(last - first for first, last in spans)
    return f"{counted(len(spans), 'moment')} of {log.name} {words}, {seconds:.1f} s"


def moments_picture(moments: Moments) -> MomentsPicture:
    """Traces of a log in some windows of it; only what is drawn is read."""
    stored = StoredLog(moments.log, moments.quantities)
    shown = [quantity for quantity in moments.quantities if quantity in stored.signals][:_MOST_TRACES]
    whole = MomentWindow(stored.start, stored.end, ())
    windows = moment_windows(moments.spans, stored.start, stored.end, _MOST_WINDOWS) or (whole,)
    lines = [_lines(stored, shown, window) for window in windows]
    strips = tuple(_strip(key, [row[at] for row in lines], at) for at, key in enumerate(shown))
    inside = sum(len(window.spans) for window in windows)
    along = Scale(stored.start, stored.end, LEFT, WIDTH - _RIGHT)
    return MomentsPicture(
        height=_TOP + len(shown) * _STRIP + 18.0,
        overview=_overview(stored, shown[:1], along),
        marks=tuple(
            (along.at(window.start), max(along.at(window.end) - along.at(window.start), 2.0)) for window in windows
        ),
        strips=strips,
        windows=tuple(_window(window, at, len(windows), lines[at], strips) for at, window in enumerate(windows)),
        more=max(len(moments.spans) - inside, 0),
        seconds=windows[0].end - windows[0].start,
    )


def _lines(stored: StoredLog, keys: Sequence[str], window: MomentWindow) -> list[Line]:
    stored.fetch(keys, window.start, window.end, _POINTS)
    found = [drawn(stored.time_of(key), stored.signals[key], window.start, window.end, _POINTS) for key in keys]
    return [_within(line, window) for line in found]


def _within(line: Line, window: MomentWindow) -> Line:
    """The points of a line that lie in a window."""
    inside = (line.time >= window.start) & (line.time <= window.end)
    return replace(line, time=line.time[inside], values=line.values[inside])


def _overview(stored: StoredLog, keys: Sequence[str], along: Scale) -> str:
    """The first trace over the whole log."""
    if not keys:
        return ""
    stored.fetch(keys, stored.start, stored.end, _POINTS_OF_LOG)
    line = drawn(stored.time_of(keys[0]), stored.signals[keys[0]], stored.start, stored.end, _POINTS_OF_LOG)
    top, bottom = _OVERVIEW
    return broken_path(along.places(line.time), Scale.around(line.values, bottom, top).places(line.values))


def _strip(key: str, lines: Sequence[Line], number: int) -> TraceStrip:
    quantity = QUANTITIES[key]
    every = np.concatenate([line.values for line in lines])
    top = _TOP + number * _STRIP
    scale = Scale.around(every, top + _STRIP - 5.0, top + 5.0)
    decimals = digits(key, quantity.unit, scale.low, scale.high)
    return TraceStrip(
        quantity.title, unit_words(quantity.unit), decimals, scale.low, scale.high, top + 5.0, top + _STRIP - 5.0
    )


def _window(
    window: MomentWindow, number: int, count: int, lines: Sequence[Line], strips: Sequence[TraceStrip]
) -> DrawnWindow:
    wide = (WIDTH - LEFT - _RIGHT - (count - 1) * _GAP) / count
    left = LEFT + number * (wide + _GAP)
    along = Scale(window.start, window.end, left, left + wide)
    drawn_lines = tuple(
        polyline(along.places(line.time), Scale(strip.low, strip.high, strip.bottom, strip.top).places(line.values))
        for line, strip in zip(lines, strips, strict=True)
    )
    bands = tuple((along.held(a), max(along.held(b) - along.held(a), 2.0)) for a, b in window.spans)
    clock = f"{duration(window.start)} … {duration(window.end)}"
    return DrawnWindow(window.start, window.end, left, left + wide, bands, drawn_lines, clock)
