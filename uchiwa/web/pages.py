"""Rendering: the templates, their filters, and what every page is given."""

from __future__ import annotations

import json
from datetime import datetime
from pathlib import Path
from typing import Any

from fastapi import Request
from fastapi.responses import HTMLResponse
from jinja2 import Environment, FileSystemLoader, StrictUndefined, select_autoescape

from uchiwa import __version__
from uchiwa.core.evidence.conditions import title_of
from uchiwa.core.logs.recognition.channel_reading import read_words
from uchiwa.core.quantities.unit_words import unit_words
from uchiwa.core.rounds.progress import Station
from uchiwa.core.tables.difference import signed
from uchiwa.core.tables.editing.cellname import cell_name, point_words, row_name
from uchiwa.store import sessions
from uchiwa.store.clock import now
from uchiwa.store.models import User
from uchiwa.web import static_files
from uchiwa.web.compiled_templates import compiled_beside
from uchiwa.web.markdown import as_html
from uchiwa.web.requests.browser import browser_of
from uchiwa.web.requests.fragment import is_fragment
from uchiwa.web.svg.error_path import error_path
from uchiwa.web.svg.fan import large_fan, small_fan, wide_fan

HERE = Path(__file__).parent
_STEPS = ((60, "s"), (60, "min"), (24, "h"), (7, "d"), (9, "w"))


def ago(moment: datetime | None) -> str:
    """How long ago, in one figure and one unit."""
    if moment is None:
        return ""
    amount: float = max(0.0, (now() - moment).total_seconds())
    for size, unit in _STEPS:
        if amount < size:
            return f"{int(amount)} {unit}"
        amount /= size
    return f"{moment:%d %b %Y}"


def duration(seconds: float | None) -> str:
    """Seconds as m:ss."""
    return "" if seconds is None else f"{int(seconds) // 60}:{int(seconds) % 60:02d}"


def size(number: int) -> str:
    """Bytes in the unit that fits."""
    for unit, bytes_ in (("TB", 1e12), ("GB", 1e9), ("MB", 1e6)):
        if number >= 0.1 * bytes_:
            return f"{number / bytes_:.1f} {unit}"
    return f"{number / 1e3:.1f} kB" if number else "0 kB"


def thousands(number: float) -> str:
    """A whole number with thin spaces."""
    return f"{number:,.0f}".replace(",", "\u202f")


def figure(value: float | None) -> str:
    """A number in at most four significant figures."""
    return "" if value is None else f"{value:.4g}".replace("-", "−")


def policy_words(inputs: dict[str, Any]) -> str:
    """The policy of a taken proposal in a few words."""
    policy = inputs.get("policy", {})
    used, total = inputs.get("samples_used", 0), inputs.get("samples", 0)
    return (
        f"{policy.get('estimator')}, {policy.get('strength', 0):g} % strength, ±{policy.get('limit_percent', 0):g} % at most, "
        f"{thousands(used)} of {thousands(total)} samples of {', '.join(inputs.get('logs', []))}"
    )


def cut(value: float, places: int = 1) -> str:
    """A number with so many digits behind the point and a true minus; zero has no sign."""
    text = f"{value:.{places}f}"
    return text.replace("-", "−") if float(text) else text.removeprefix("-")


def sheet_words(inputs: dict[str, Any]) -> str:
    """What a taken proposal of spark, idle or a clamp rests on, in a few words."""
    policy = inputs.get("policy", {})
    match inputs.get("kind"):
        case "knock":
            real = sum(bool(one["counts"]) for one in inputs.get("clusters", []))
            return (
                f"{inputs.get('events', 0)} events, {real} places held to be real, margin {policy.get('margin', 0):g}°"
            )
        case "torque":
            return f"{len(inputs.get('pulls', []))} pulls, at most {policy.get('most', 0):g}° a round, {policy.get('knock_margin', 0):g}° below knock"
        case "fuel grade":
            return f"{inputs.get('points', 0):g} octane points less, {inputs.get('degrees_per_point', 0):g}° a point"
        case "idle air" | "warm-up":
            used, total = inputs.get("samples_used", 0), inputs.get("samples", 0)
            return (
                f"{policy.get('strength', 0):g} % strength, {thousands(used)} of {thousands(total)} samples of "
                f"{', '.join(inputs.get('logs', []))}"
            )
        case "signal clamp":
            return f"{policy.get('margin_percent', 0):g} % above what {', '.join(inputs.get('logs', []))} reached before boost"
        case _:
            return f"quantile {policy.get('quantile', 0):g} %, times {policy.get('margin', 0):g}"


environment = Environment(
    loader=FileSystemLoader(sorted({one.parent for one in HERE.rglob("*.html")})),
    autoescape=select_autoescape(("html",), default=True),
    undefined=StrictUndefined,
    trim_blocks=True,
    lstrip_blocks=True,
    bytecode_cache=compiled_beside(HERE),
)
environment.filters.update(
    read_words=read_words,
    ago=ago,
    figure=figure,
    unit_words=unit_words,
    cell_name=cell_name,
    row_name=row_name,
    point_words=point_words,
    from_json=json.loads,
    reason_title=title_of,
    markdown=as_html,
    policy_words=policy_words,
    sheet_words=sheet_words,
    duration=duration,
    size=size,
    thousands=thousands,
    signed=signed,
    capital=lambda text: text[:1].upper() + text[1:] if text[:1].isascii() else text,
    cut=cut,
)
environment.globals.update(
    wide_fan=wide_fan,
    small_fan=small_fan,
    large_fan=large_fan,
    error_path=error_path,
    stations=tuple(Station),
    version=__version__,
    static=static_files.address(),
)


def piece(request: Request, template: str, user: User | None = None, **values: Any) -> str:
    """A piece of a page as text, for an answer that carries several."""
    browser = browser_of(request.scope)
    return environment.get_template(template).render(
        request=request,
        user=user,
        theme=user.theme if user is not None else "auto",
        csrf=browser.form_token,
        once=browser.new_once(),
        **values,
    )


def render(
    request: Request, template: str, user: User | None = None, *, status: int = 200, **values: Any
) -> HTMLResponse:
    """A page, or a piece of one; a page shows the sentence that waits for this browser."""
    browser = browser_of(request.scope)
    told = None if is_fragment(request) or browser.fresh else sessions.said(browser.token)
    said = {"text": told[0], "bad": told[1]} if told is not None else None
    return HTMLResponse(piece(request, template, user, said=said, **values), status_code=status)


def say(request: Request, text: str, *, bad: bool = False) -> None:
    """Show a sentence on the next page, in whatever script it is written."""
    sessions.say(browser_of(request.scope).token, text, bad=bad)
