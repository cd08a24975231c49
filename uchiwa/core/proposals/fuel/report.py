"""The report of a proposal as plain data: what the command writes and the page keeps with the event."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from uchiwa.core.proposals.cell_entry import cell_entry
from uchiwa.core.proposals.fuel.proposal import FuelProposal


def _number(value: float, digits: int = 6) -> float | None:
    return round(float(value), digits) if math.isfinite(value) else None


def report(proposal: FuelProposal) -> dict[str, Any]:
    """Table, sample accounts, delay and one entry per cell, row by row."""
    table, bins, found, correction = proposal.table, proposal.bins, proposal.estimate, proposal.correction
    cells: list[dict[str, Any]] = []
    for j, i in np.ndindex(*table.shape):
        cells.append(
            {
                **cell_entry(table, correction.after, i, j),
                "factor": _number(correction.factor.item(j, i), 9),
                "error": _number(found.factor.item(j, i), 9),
                "mean": _number(bins.mean.item(j, i), 9),
                "samples": _number(bins.samples.item(j, i), 3),
                "dwell_s": _number(bins.dwell.item(j, i), 3),
                "visits": int(bins.visits[j, i]),
                "spread": _number(bins.spread.item(j, i)),
                "standard_error": _number(found.standard_error.item(j, i)),
                "state": str(correction.state[j, i]),
            }
        )
    evidence = proposal.evidence
    return {
        "table": table.id,
        "policy": proposal.policy.model_dump(mode="json"),
        "logs": list(evidence.names),
        "samples": int(evidence.time.size),
        "samples_used": int(evidence.sieve.used.sum()),
        "samples_left_out": evidence.left_out(),
        "delay": [evidence.delay.d0, evidence.delay.k],
        "delay_gain": round(evidence.delay_gain.share, 4),
        "delay_gain_error": round(evidence.delay_gain.error, 4),
        "notes": list(evidence.notes),
        "transients": [
            {
                "what": transient.words,
                "slope": round(transient.slope, 6),
                "largest_percent": round(transient.largest_percent, 3),
            }
            for transient in evidence.transients
        ],
        "surface": None
        if found.surface is None
        else {
            "bend_percent": round(found.surface.bend * 100, 4),
            "freedom": round(found.surface.freedom, 2),
            "samples_worth_one": round(found.surface.together, 2),
            "spread_percent": round(found.surface.spread * 100, 4),
        },
        "cells": cells,
    }
