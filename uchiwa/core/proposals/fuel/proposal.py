"""The fuel proposal: an airflow table corrected by its measured fuel error."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.bins import Bins
from uchiwa.core.evidence.regions import Region
from uchiwa.core.formulas.evaluation import Scope
from uchiwa.core.logs.log import BoolArray, FloatArray, IntArray, Log
from uchiwa.core.proposals.fuel.correction import INTERVAL, Correction, correct
from uchiwa.core.proposals.fuel.estimate import Estimate, bin_evidence, enough_evidence, estimate
from uchiwa.core.proposals.fuel.evidence import gather
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.samples import Evidence
from uchiwa.core.rounds.convergence import RegionError
from uchiwa.core.tables.table import Calibration, Table

ROLES = ("volumetric_efficiency", "maf_curve")


@dataclass(frozen=True, eq=False)
class FuelProposal:
    """A correction that has been computed but not yet taken, with all that led to it."""

    table: Table
    policy: Policy
    evidence: Evidence
    bins: Bins
    estimate: Estimate
    correction: Correction

    @property
    def corrected(self) -> Table:
        """The table as proposed."""
        return self.correction.applied_to(self.table)

    @property
    def reached(self) -> BoolArray:
        """Which cells have the evidence that the policy asks for; shape (rows, columns)."""
        return enough_evidence(self.bins, self.policy)


def find_table(calibration: Calibration, table_id: str) -> Table:
    """The table of this id.

    Raises:
        BadInput: there is none; the message lists what there is.
    """
    try:
        return calibration.table(table_id)
    except KeyError:
        known = ", ".join(table.id for table in calibration.tables) or "none"
        raise BadInput(f"the calibration has no table “{table_id}”", advice=f"its tables are: {known}") from None


def fuel_proposal(
    logs: Sequence[Log], calibration: Calibration, table_id: str, policy: Policy, where: Sequence[str] = ()
) -> FuelProposal:
    """Correct an airflow table by the fuel error seen in logs.

    Args:
        logs: recognised logs, recorded with this calibration.
        calibration: the one under work.
        table_id: of a volumetric-efficiency table or an airflow-meter curve.
        policy: how cautious to be.
        where: conditions of one's own that samples must meet.

    Raises:
        BadInput: no such table, a table of another kind, or logs that cannot serve.
    """
    table = airflow_table(calibration, table_id)
    sifted = policy.model_copy(update={"where": (*policy.where, *where)})
    return proposal_from(gather(logs, table, sifted, Scope(calibration)), table, policy)


def airflow_table(calibration: Calibration, table_id: str) -> Table:
    """The airflow table of this id.

    Raises:
        BadInput: there is none, or the table is of another kind.
    """
    table = find_table(calibration, table_id)
    if table.role not in ROLES:
        raise BadInput(
            f"{table.title} is not an airflow table (its role is {table.role})",
            advice="choose a volumetric-efficiency table or an airflow-meter curve",
        )
    return table


def proposal_from(evidence: Evidence, table: Table, policy: Policy) -> FuelProposal:
    """The proposal that some evidence leads to; the policy must be one of the same evidence."""
    bins = bin_evidence(evidence, table, policy)
    found = estimate(evidence, bins, table, policy)
    return FuelProposal(table, policy, evidence, bins, found, correct(table, bins, found, policy))


@dataclass(frozen=True)
class ErrorSummary:
    """How wrong a table still is where the car was driven.

    Attributes:
        rms_percent: root mean square of the cells' errors, weighted by dwell, %.
        cells: cells with enough evidence.
        within: those of them whose error is within ±2 %.
        trim_percent: mean of short- and long-term trim over the used samples, %; NaN without trims.
        driven_s: time that the used samples stand for.
        regions: the same by region, of those that were driven.
    """

    rms_percent: float
    cells: int
    within: int
    trim_percent: float
    driven_s: float
    regions: tuple[RegionError, ...]


TARGET_PERCENT = 2.0


def summarise(proposal: FuelProposal) -> ErrorSummary | None:
    """The error that is left, or None where no cell has enough evidence."""
    reached, bins = proposal.reached, proposal.bins
    if not reached.any():
        return None
    error = (proposal.estimate.factor - 1.0) * 100.0
    region = cell_regions(proposal)
    evidence = proposal.evidence
    used, parts = evidence.sieve.used, evidence.parts
    trims = ((1 + parts.short_trim[used]) * (1 + parts.long_trim[used]) - 1) * 100
    time = evidence.duration[used]
    mean = float(np.average(trims, weights=time)) if trims.any() and time.sum() > 0 else float("nan")
    told = tuple(
        _of_region(one, error, reached & (region == one), bins.dwell, proposal.estimate.standard_error)
        for one in Region
        if (reached & (region == one)).any()
    )
    return ErrorSummary(
        _rms(error[reached], bins.dwell[reached]),
        int(reached.sum()),
        int((np.abs(error[reached]) <= TARGET_PERCENT).sum()),
        mean,
        float(time.sum()),
        told,
    )


def _rms(error: FloatArray, dwell: FloatArray) -> float:
    weights = dwell if dwell.sum() > 0 else np.ones(dwell.shape)
    return float(np.sqrt(np.average(error**2, weights=weights)))


def _of_region(
    region: Region, error: FloatArray, cells: BoolArray, dwell: FloatArray, standard_error: FloatArray
) -> RegionError:
    """What the cells of a region show; every cell of full load counts alike, however short it was driven."""
    here = error[cells]
    weights = np.ones(here.shape) if region is Region.LOAD else dwell[cells]
    sure = here - INTERVAL * np.nan_to_num(standard_error[cells], nan=np.inf) * 100.0 > 0
    lean = float(here[sure].max()) if sure.any() else 0.0
    return RegionError(region, _rms(here, weights), int(cells.sum()), int((np.abs(here) <= TARGET_PERCENT).sum()), lean)


def cell_regions(proposal: FuelProposal) -> IntArray:
    """The region in which most of a cell's time was spent; shape (rows, columns)."""
    evidence, table = proposal.evidence, proposal.table
    used = evidence.sieve.used
    i = table.x.nearest(evidence.x[used])
    j = table.y.nearest(evidence.y[used]) if table.y is not None and evidence.y is not None else np.zeros_like(i)
    seconds = np.zeros((len(Region), *table.shape))
    np.add.at(seconds, (evidence.region[used], j, i), evidence.duration[used])
    # Of a cell that is run at full load for a good part of its time, full load is what matters.
    seconds[Region.LOAD] *= 2.0
    region: IntArray = np.argmax(seconds, axis=0).astype(np.int64)
    return region
