"""A clamp as data."""

from __future__ import annotations

from typing import Any

import numpy as np

from uchiwa.core.proposals.cell_entry import cell_entry
from uchiwa.core.proposals.clamp.evidence import axes_of
from uchiwa.core.proposals.clamp.proposal import ClampProposal


def report(proposal: ClampProposal) -> dict[str, Any]:
    """The signal by speed, notes, and one entry per cell of the table with its proposed breakpoints."""
    table, evidence = proposal.table, proposal.evidence
    speeds, signals = axes_of(table)
    return {
        "table": table.id,
        "policy": proposal.policy.model_dump(mode="json"),
        "logs": list(evidence.names),
        "samples_used": int(evidence.time.size),
        "signal": {
            "unit": signals.unit,
            "lowest": round(evidence.lowest, 4),
            "highest": round(evidence.highest, 4),
            "breakpoints": [float(breakpoint_) for breakpoint_ in signals.breakpoints],
            "respread": proposal.respread,
        },
        "speeds": [
            {
                "speed": float(speed),
                "reached": round(float(reached), 4),
                "samples": int(samples),
                "limit": round(float(limit), 4),
            }
            for speed, reached, samples, limit in zip(
                speeds.breakpoints, evidence.reached, evidence.samples, proposal.limit, strict=True
            )
        ],
        "notes": list(proposal.notes),
        "cells": [
            {**cell_entry(table, proposal.after, i, j), "state": str(proposal.state[j, i])}
            for j, i in np.ndindex(*table.shape)
        ],
    }
