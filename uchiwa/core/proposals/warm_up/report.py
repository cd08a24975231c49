"""A proposal of the warm-up factor as data."""

from __future__ import annotations

from typing import Any

from uchiwa.core.proposals.cell_entry import cell_entry
from uchiwa.core.proposals.idle_air.report import number
from uchiwa.core.proposals.warm_up.proposal import WarmUpProposal


def report(proposal: WarmUpProposal) -> dict[str, Any]:
    """Accounts of the samples, after-start, notes, and one entry per value."""
    table, evidence, fit = proposal.table, proposal.evidence, proposal.fit
    return {
        "table": table.id,
        "policy": proposal.policy.model_dump(mode="json"),
        "logs": list(evidence.names),
        "samples": int(evidence.time.size),
        "samples_used": int(evidence.sieve.used.sum()),
        "samples_left_out": evidence.left_out(),
        "warm_error": [number(one, 5) for one in evidence.warm_error],
        "after_start": [
            {
                "log": start.log,
                "start": number(start.start, 2),
                "seconds": number(start.seconds, 2),
                "richest_percent": number(start.richest * 100.0, 2),
                "coolant": number(start.coolant, 1),
            }
            for start in evidence.after_starts
        ],
        "notes": list(proposal.notes),
        "cells": [
            {
                **cell_entry(table, proposal.after, i, 0),
                "needed": number(fit.value.item(i)) if fit.weight.item(i) > 0 else None,
                "half_width": number(fit.half_width.item(i)),
                "samples": number(fit.weight.item(i), 2),
                "dwell_s": number(fit.dwell.item(i), 2),
                "stretches": int(fit.stretches[i]),
                "state": str(proposal.state[0, i]),
            }
            for i in range(table.shape[1])
        ],
    }
