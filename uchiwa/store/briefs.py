"""Briefs of rounds, and patterns of a shop."""

from __future__ import annotations

from uchiwa.core.briefs.brief import Brief, Purpose
from uchiwa.core.briefs.standard_brief import propose_brief
from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.tables.table import Table
from uchiwa.store import calibrations, revisions
from uchiwa.store.models import BriefPattern, Job, Round


def table_under_work(job: Job, round_: Round) -> Table | None:
    """The table whose cells a round's drives should visit, from the revision its logs are recorded with."""
    revision = revisions.running(job, round_)
    if revision is None:
        return None
    content = calibrations.content(revision.calibration)
    tables = content.by_role("volumetric_efficiency") or content.by_role("maf_curve")
    return tables[0] if tables else None


def of_round(round_: Round) -> Brief | None:
    """The brief that has been sent in a round, or None."""
    return Brief.loads(round_.brief) if round_.brief else None


def standard(job: Job, round_: Round, purpose: Purpose = "fuel") -> Brief:
    """The standard brief of a job's car."""
    return propose_brief(CarFile.loads(job.car.file), purpose, table_under_work(job, round_))


def keep(round_: Round, brief: Brief) -> None:
    """Keep a round's brief; the customer's page shows it from now on."""
    Round.update(brief=brief.model_dump_json()).where(Round.id == round_.id).execute()


def patterns(shop_id: int) -> list[BriefPattern]:
    """A shop's patterns by name."""
    return list(BriefPattern.select().where(BriefPattern.shop == shop_id).order_by(BriefPattern.name))


def keep_pattern(shop_id: int, name: str, brief: Brief) -> None:
    """Keep a brief under a name, in place of one of the same name."""
    name = " ".join(name.split())[:80]
    BriefPattern.insert(shop=shop_id, name=name, document=brief.model_dump_json()).on_conflict(
        preserve=(BriefPattern.name, BriefPattern.document)
    ).execute()


def pattern(shop_id: int, pattern_id: int) -> BriefPattern | None:
    """One pattern of a shop."""
    return BriefPattern.get_or_none(BriefPattern.id == pattern_id, BriefPattern.shop == shop_id)
