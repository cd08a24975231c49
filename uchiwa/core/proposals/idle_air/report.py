"""A proposal of idle airflow as data."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from uchiwa.core.proposals.cell_entry import cell_entry
from uchiwa.core.proposals.idle_air.proposal import IdleAirProposal


def number(value: float, digits: int = 4) -> float | None:
    """Rounded, or None where it is not known."""
    return round(float(value), digits) if math.isfinite(value) else None


def report(proposal: IdleAirProposal) -> dict[str, Any]:
    """Accounts of the samples, notes, and one entry per cell."""
    table, evidence = proposal.table, proposal.evidence
    cells: list[dict[str, Any]] = []
    for j, i in np.ndindex(*table.shape):
        curve = proposal.curve(j)
        cells.append(
            {
                **cell_entry(table, proposal.after, i, j),
                "gear": curve.gear.value,
                "needed": number(curve.fit.value.item(i)) if curve.fit.weight.item(i) > 0 else None,
                "half_width": number(curve.fit.half_width.item(i)),
                "samples": number(curve.fit.weight.item(i), 2),
                "dwell_s": number(curve.fit.dwell.item(i), 2),
                "stretches": int(curve.fit.stretches[i]),
                "offset": number(curve.offset.item(i)),
                "state": str(proposal.state[j, i]),
            }
        )
    return {
        "table": table.id,
        "policy": proposal.policy.model_dump(mode="json"),
        "logs": list(evidence.names),
        "source": evidence.source,
        "samples": int(evidence.time.size),
        "samples_used": int(evidence.sieve.used.sum()),
        "samples_left_out": evidence.left_out(),
        "mixture_percent": number(evidence.mixture * 100.0, 2),
        "notes": list(proposal.notes),
        "cells": cells,
    }
