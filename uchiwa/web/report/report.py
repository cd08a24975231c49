"""The report of a revision: as part of a page, as one HTML file, and as PDF."""

from __future__ import annotations

import base64
import re
from dataclasses import dataclass
from functools import lru_cache

from markupsafe import Markup

from uchiwa.core.briefs.brief import LAW
from uchiwa.core.checks.finding import Severity
from uchiwa.core.evidence.regions import Region
from uchiwa.core.quantities.display import DisplayUnits, shown_table
from uchiwa.core.tables.table import Table
from uchiwa.core.words.sentence import N_
from uchiwa.services.freezing import Account, ChangedTable
from uchiwa.services.glance import glance
from uchiwa.services.languages import words_of
from uchiwa.store.briefs import of_round
from uchiwa.store.clock import now
from uchiwa.store.models import Job, Revision, Round
from uchiwa.web.grid.grid import Grid
from uchiwa.web.grid.table_grid import Showing, as_grid, drawn, in_percent
from uchiwa.web.pages import HERE, environment
from uchiwa.web.report.glance_picture import map_picture, path_picture, pull_picture
from uchiwa.web.svg.table_lines import TableLines, table_lines

_OWN_FILE = re.compile(r'url\("?/static/([^")]{1,200})"?\)')
_NO_NAME = re.compile(r"[^a-z0-9]+")

_STATIC = HERE / "static"
_STYLE = _STATIC / "report.css"
_OF_THE_CAR = frozenset({
    "airflow_ceiling", "battery_jitter", "exhaust_hot", "fuel_pressure", "injector_duty", "knock_repeated", "low_octane",
    "lean_at_load", "lean_tip_in", "trim_beyond", "banks_differ", "stalled",
})  # fmt: skip
"""Checks whose findings are about the car rather than about how it was recorded."""
_MOST_TABLES, _MOST_WARNINGS = 3, 4
_DONE = {
    "volumetric_efficiency": N_("Fuel: corrected to what was measured in {count} places of the map, {span}."),
    "maf_curve": N_("Fuel: the air meter’s curve corrected to what was measured at {count} points, {span}."),
    "lambda_target": N_("Mixture: the target changed in {count} places of the map, {span}."),
    "spark_advance": N_("Ignition: timing changed in {count} places of the map, {span}."),
    "idle_airflow": N_("Idle: its air set at {count} coolant temperatures, {span}."),
    "warmup_factor": N_("Warm-up: fuel while cold set at {count} coolant temperatures, {span}."),
    "cold_lambda_offset": N_("Warm-up: the mixture while cold set at {count} coolant temperatures, {span}."),
    "airflow_clamp": N_("Air meter: the limits of its reading set at {count} engine speeds, {span}."),
}
_DONE_OTHERWISE = N_("{table}: {count} cells changed, {span}")
_NOT_YET = {
    Region.IDLE.value: N_("At idle the mixture is not right yet, or was not measured enough."),
    Region.CRUISE.value: N_("In steady driving the mixture is not right yet, or was not measured enough."),
    Region.LOAD.value: N_("At full load the mixture is not right yet, or was not measured: go easy on the throttle."),
}


@dataclass(frozen=True, eq=False)
class Picture:
    """A changed table as the report draws it; `change` as a grid, `lines` with the row that changed most."""

    told: ChangedTable
    table: Table
    change: Grid
    lines: TableLines
    row: int
    percent: bool
    span: str

    @property
    def title(self) -> str:
        """Of the table."""
        return self.table.title

    @property
    def count(self) -> int:
        """Cells that changed."""
        return int(self.told.change.changed.sum())

    @property
    def done(self) -> str:
        """What was done in plain words, to be told with table, count and span."""
        return _DONE.get(self.table.role, _DONE_OTHERWISE)


def _picture(told: ChangedTable, display: DisplayUnits) -> Picture:
    after = shown_table(told.change.table, display)
    before = shown_table(told.change.table.with_grid(told.change.before), display)
    row = int(told.change.changed.sum(axis=1).argmax())
    return Picture(
        told,
        after,
        as_grid(after, drawn(after, before, told.visited, (), Showing.CHANGE)),
        table_lines(after, before, row),
        row,
        in_percent(before),
        told.change.span,
    )


def body(round_: Round, revision: Revision, told: Account, display: DisplayUnits, image_hash: str) -> str:
    """What the report says, as HTML to be kept with the revision; in the customer's language but for its last part."""
    job = round_.job
    found, words = glance(job, round_), words_of(job.car.customer.language)
    pictures = sorted((_picture(table, display) for table in told.tables), key=lambda picture: -picture.count)
    return environment.get_template("report.html").render(
        job=job,
        round=round_,
        revision=revision,
        author=revision.author.name,
        account=told,
        pictures=pictures,
        most=_MOST_TABLES,
        glance=found,
        maps=[map_picture(map_) for map_ in found.maps],
        pull=pull_picture(found.pulls),
        path=path_picture(found),
        warnings=_warnings(told),
        not_yet=_NOT_YET,
        law=LAW,
        _=words.say,
        number=words.number,
        figures=words.figures,
        date=words.date,
        language=words.language,
        image_hash=image_hash,
        brief=of_round(round_),
        at=now(),
    )


def _warnings(told: Account) -> list[str]:
    """What the checks found in the round's logs that matters beyond recording again, each once."""
    found = [
        finding.customer
        for _, some in told.logs
        for finding in some
        if finding.severity is not Severity.NOTE and finding.rule in _OF_THE_CAR
    ]
    return list(dict.fromkeys(found))[:_MOST_WARNINGS]


@lru_cache(maxsize=1)
def _inlined_style() -> str:
    """The report's style with its fonts inside, so that one file is enough."""

    def inline(match: re.Match[str]) -> str:
        data = base64.b64encode((_STATIC / match[1]).read_bytes()).decode()
        return f"url(data:font/woff2;base64,{data})"

    return _OWN_FILE.sub(inline, _STYLE.read_text(encoding="utf-8"))


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
    pages: bytes = HTML(string=standalone(title, content), url_fetcher=nothing_from_outside).write_pdf(
        pdf_variant="pdf/a-3u"
    )
    return pages


def title_of(job: Job, revision: Revision) -> str:
    """What the report is called."""
    return f"{job.car.title}, revision {revision.number}"


def safe_name(text: str) -> str:
    """A text as part of a file name."""
    return _NO_NAME.sub("-", text.lower()).strip("-")[:60] or "job"
