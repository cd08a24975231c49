"""A knock proposal as data."""

from __future__ import annotations

from typing import Any

from uchiwa.core.proposals.cell_entry import cell_entry
from uchiwa.core.proposals.knock.proposal import KnockProposal, counts_as_real


def report(proposal: KnockProposal) -> dict[str, Any]:
    """Events, clusters with their reasons, and one entry per cell."""
    table, knock = proposal.table, proposal.knock
    return {
        "table": table.id,
        "policy": proposal.policy.model_dump(mode="json"),
        "logs": list(knock.names),
        "events": len(knock.events),
        "unplaced": [{"log": knock.names[log], "at": at} for log, at in knock.unplaced],
        "unmet": [
            {
                "log": knock.names[event.event.log],
                "at": event.event.event.at,
                "wanted": event.wanted,
                "falls": event.falls,
            }
            for event in proposal.unmet
        ],
        "low_octane_s": round(knock.low_octane_s, 3),
        "clusters": [
            {
                "number": cluster.number,
                "events": len(cluster.events),
                "worst": cluster.worst,
                "verdict": cluster.verdict.value,
                "counts": counts_as_real(cluster, proposal.policy),
                "cells": [list(cell) for cell in cluster.cells],
                "reasons": [
                    {"code": reason.code.value, "words": reason.words, "weight": reason.weight}
                    for reason in cluster.reasons
                ],
            }
            for cluster in proposal.clusters
        ],
        "cells": [
            {
                **cell_entry(table, proposal.after, i, j),
                "worst": float(knock.worst[j, i]),
                "mean": round(float(knock.mean[j, i]), 4),
                "events": int(knock.count[j, i]),
                "learned": round(float(knock.learned[j, i]), 3) if knock.learned is not None else 0.0,
                "dwell_s": round(float(knock.dwell[j, i]), 3),
                "state": str(proposal.state[j, i]),
            }
            for j in range(table.shape[0])
            for i in range(table.shape[1])
        ],
    }
