"""The report of a revision: as part of a page, as one HTML file, and as PDF."""

from __future__ import annotations

import base64
import re
from dataclasses import dataclass
from functools import lru_cache

from markupsafe import Markup

from uchiwa.core.quantities.display import DisplayUnits, shown_table
from uchiwa.core.tables.table import Table
from uchiwa.services.freezing import Account, ChangedTable
from uchiwa.store.briefs import of_round
from uchiwa.store.clock import now
from uchiwa.store.models import Job, Revision, Round
from uchiwa.web.grid.grid import Grid
from uchiwa.web.grid.table_grid import Showing, as_grid, drawn, in_percent
from uchiwa.web.pages import HERE, environment
from uchiwa.web.svg.table_lines import TableLines, table_lines

_STATIC = HERE / "static"
_STYLE = _STATIC / "report.css"


@dataclass(frozen=True, eq=False)
class Picture:
    """A changed table as the report draws it; `change` and `values` as grids, `lines` with the row that changed most."""

    told: ChangedTable
    table: Table
    change: Grid
    values: Grid
    lines: TableLines
    row: int
    percent: bool


def _picture(told: ChangedTable, display: DisplayUnits) -> Picture:
    after = shown_table(told.change.table, display)
    before = shown_table(told.change.table.with_grid(told.change.before), display)
    row = int(told.change.changed.sum(axis=1).argmax())
    return Picture(
        told,
        after,
        as_grid(after, drawn(after, before, told.visited, (), Showing.CHANGE)),
        as_grid(after, drawn(after, before, None, (), Showing.VALUE)),
        table_lines(after, before, row),
        row,
        in_percent(before),
    )


def body(
    job: Job, round_: Round, revision: Revision, told: Account, display: DisplayUnits, image_hash: str, author: str
) -> str:
    """What the report says, as HTML to be kept with the revision."""
    return environment.get_template("report.html").render(
        job=job,
        round=round_,
        revision=revision,
        author=author,
        account=told,
        pictures=[_picture(one, display) for one in told.tables],
        image_hash=image_hash,
        brief=of_round(round_),
        at=now(),
    )


@lru_cache(maxsize=1)
def _inlined_style() -> str:
    """The report's style with its fonts inside, so that one file is enough."""

    def inline(match: re.Match[str]) -> str:
        data = base64.b64encode((_STATIC / match[1]).read_bytes()).decode()
        return f"url(data:font/woff2;base64,{data})"

    return re.sub(r'url\("?/static/([^")]+)"?\)', inline, _STYLE.read_text(encoding="utf-8"))


def standalone(title: str, content: str) -> str:
    """One HTML file that needs nothing else."""
    return (
        '<!doctype html>\n<html lang="en"><head><meta charset="utf-8">'
        f'<meta name="viewport" content="width=device-width, initial-scale=1"><title>{Markup.escape(title)}</title>'
        f'<style>{_inlined_style()}</style></head><body class="report-page">{content}</body></html>\n'
    )


@lru_cache(maxsize=16)
def as_pdf(title: str, content: str) -> bytes:
    """The report as PDF; the last ones are remembered, since drawing one takes a second."""
    # A second to import, and wanted only here.
    from weasyprint import HTML
    from weasyprint.urls import URLFetcher

    nothing_from_outside = URLFetcher(allowed_protocols=("data",), allow_redirects=False)
    pages: bytes = HTML(string=standalone(title, content), url_fetcher=nothing_from_outside).write_pdf()
    return pages


def title_of(job: Job, revision: Revision) -> str:
    """What the report is called."""
    return f"{job.car.title}, revision {revision.number}"


def safe_name(text: str) -> str:
    """A text as part of a file name."""
    return re.sub(r"[^a-z0-9]+", "-", text.lower()).strip("-")[:60] or "job"
