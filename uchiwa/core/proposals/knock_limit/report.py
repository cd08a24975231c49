"""A proposal of knock limits as data."""

from __future__ import annotations

from typing import Any

import numpy as np

from uchiwa.core.proposals.cell_entry import cell_entry
from uchiwa.core.proposals.knock_limit.proposal import ThresholdProposal


def report(proposal: ThresholdProposal) -> dict[str, Any]:
    """Counts, and one entry per cell."""
    table = proposal.table
    return {
        "table": table.id,
        "policy": proposal.policy.model_dump(mode="json"),
        "safe": {
            "flagged_now": proposal.safe.now,
            "flagged_then": proposal.safe.then,
            "seconds": round(proposal.safe.seconds, 1),
        },
        "real": {
            "events": proposal.caught.events,
            "caught_now": proposal.caught.now,
            "caught_then": proposal.caught.then,
        },
        "cells": [
            {
                **cell_entry(table, proposal.after, i, j),
                "base": float(proposal.base[j, i]) if np.isfinite(proposal.base[j, i]) else None,
                "samples": int(proposal.samples[j, i]),
                "state": str(proposal.state[j, i]),
            }
            for j in range(table.shape[0])
            for i in range(table.shape[1])
        ],
    }
