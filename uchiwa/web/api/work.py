"""Proposals and bins: what is computed from a round's logs."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict, dataclass
from enum import StrEnum
from typing import Annotated, Any

import numpy as np
from fastapi import APIRouter, Depends, HTTPException, Query

from uchiwa.core.evidence.bins import Estimator
from uchiwa.core.evidence.gathering import Gathering, Statistic
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.proposals.clamp.report import report as clamp_report
from uchiwa.core.proposals.fuel.report import report as fuel_report
from uchiwa.core.proposals.idle_air.report import report as idle_report
from uchiwa.core.proposals.knock.report import report as knock_report
from uchiwa.core.proposals.torque.report import report as torque_report
from uchiwa.core.proposals.warm_up.report import report as warm_up_report
from uchiwa.core.tables.table import Axis
from uchiwa.services import bins, fuel, idle, spark
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Job, Round
from uchiwa.web.api.caller import Reader
from uchiwa.web.api.jobs import Id, Number, job_of, round_of
from uchiwa.web.api.models import AxisOut, BinsOut, ProposalOut

router = APIRouter()


class ProposalKind(StrEnum):
    """Kinds of proposals."""

    FUEL = "fuel"
    KNOCK = "knock"
    TORQUE = "torque"
    IDLE = "idle"
    WARM_UP = "warmup"
    CLAMP = "clamp"


_Work = Callable[[Job, Round, str | None], Any]
_KINDS: dict[ProposalKind, tuple[_Work, Callable[[Any], dict[str, Any]]]] = {
    ProposalKind.FUEL: (fuel.fuel_work, fuel_report),
    ProposalKind.KNOCK: (spark.knock_work, knock_report),
    ProposalKind.TORQUE: (spark.torque_work, torque_report),
    ProposalKind.IDLE: (idle.idle_air_work, idle_report),
    ProposalKind.WARM_UP: (idle.warm_up_work, warm_up_report),
    ProposalKind.CLAMP: (idle.clamp_work, clamp_report),
}


@router.get("/jobs/{job_id}/rounds/{number}/proposals/{kind}", tags=["proposals"])
def get_proposal(
    user: Reader,
    job_id: Id,
    number: Number,
    kind: ProposalKind,
    table: Annotated[
        str | None, Query(max_length=64, description="Id of the table; by default the first that fits.")
    ] = None,
) -> ProposalOut:
    """The proposal of a round as its station shows it: its logs, its policy. Nothing is taken by asking."""
    work, report = _KINDS[kind]
    with unit_of_work():
        job = job_of(user, job_id)
        found = work(job, round_of(job, number), table)
        if found is None or getattr(found, "proposal", None) is None:
            raise HTTPException(404, "This round has no logs for such a proposal yet.")
        return ProposalOut(kind=kind.value, round=number, report=report(found.proposal))


@dataclass(frozen=True)
class AskedBins:
    """What is gathered, and how."""

    table: Annotated[str, Query(min_length=1, max_length=80, description="Id of the table that gives the axes.")]
    value: Annotated[str, Query(min_length=1, max_length=400, description="Formula of what is gathered.")]
    where: Annotated[list[str] | None, Query(max_length=8, description="Conditions that samples must meet.")] = None
    statistic: Statistic = Statistic.MEAN
    estimator: Estimator = "weighted"
    over: Annotated[str, Query(pattern=r"^(round|before|all|\d{1,12})$", description="Whose logs.")] = "round"
    least_samples: Annotated[float, Query(ge=0, le=1e6)] = 5


@router.get("/jobs/{job_id}/rounds/{number}/bins", tags=["bins"])
def get_bins(user: Reader, job_id: Id, number: Number, what: Annotated[AskedBins, Depends()]) -> BinsOut:
    """A channel or formula gathered on a table's axes, as the page Bins and `uchiwa bin` do."""
    asked = Gathering.read(
        asdict(what) | {"where": "; ".join(what.where or ())},
        "bins",
    )
    with unit_of_work():
        job = job_of(user, job_id)
        found, logs, unit = bins.gathered_for(job, round_of(job, number), asked)
    axes = found.axes
    return BinsOut(
        unit=unit, logs=logs, x=_axis(axes.x), y=_axis(axes.y) if axes.y is not None else None, figure=_rows(found.figure),
        samples=np.round(found.bins.samples, 3).tolist(), used=int(found.samples.x.size), total=found.total,
        left_out=found.left_out,
    )  # fmt: skip


def _axis(axis: Axis) -> AxisOut:
    return AxisOut(quantity=axis.quantity, unit=axis.unit, breakpoints=axis.breakpoints.tolist())


def _rows(values: FloatArray) -> list[list[float | None]]:
    return [[round(one, 9) if np.isfinite(one) else None for one in row] for row in values.tolist()]
