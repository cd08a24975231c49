"""The fuel proposal: an airflow table corrected by its measured fuel error."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from uchiwa.core.bins import Bins
from uchiwa.core.errors import BadInput
from uchiwa.core.log import BoolArray, Log
from uchiwa.core.proposals.correction import Correction, correct
from uchiwa.core.proposals.estimate import Estimate, bin_evidence, enough_evidence, estimate
from uchiwa.core.proposals.evidence import Evidence, gather
from uchiwa.core.proposals.policy import Policy
from uchiwa.core.table import Calibration, Table

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
    return proposal_from(gather(logs, calibration, table, policy, where), table, policy)


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
    """

    rms_percent: float
    cells: int
    within: int
    trim_percent: float
    driven_s: float


TARGET_PERCENT = 2.0


def summarise(proposal: FuelProposal) -> ErrorSummary | None:
    """The error that is left, or None where no cell has enough evidence."""
    reached, bins = proposal.reached, proposal.bins
    if not reached.any():
        return None
    error = (proposal.estimate.factor[reached] - 1.0) * 100.0
    rms = float(np.sqrt(np.average(error**2, weights=bins.dwell[reached])))
    evidence = proposal.evidence
    used, parts = evidence.sieve.used, evidence.parts
    trims = ((1 + parts.short_trim[used]) * (1 + parts.long_trim[used]) - 1) * 100
    time = evidence.duration[used]
    mean = float(np.average(trims, weights=time)) if trims.any() and time.sum() > 0 else float("nan")
    within = int((np.abs(error) <= TARGET_PERCENT).sum())
    return ErrorSummary(rms, int(reached.sum()), within, mean, float(time.sum()))
