"""What a page asks about channels in doubt."""

from __future__ import annotations

from typing import Any

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.recognition.doubt import DoubtError
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.store import jobs
from uchiwa.store.log_names import told_apart
from uchiwa.store.models import LogFile, Round


def doubt_values(round_: Round, problem: BadInput, back: str) -> dict[str, Any]:
    """For `_doubts.html`: the channels to be asked about, if that is the problem; each once for a header.

    Args:
        round_: whose logs they are.
        problem: why there is nothing to show.
        back: the station to come back to.
    """
    if not isinstance(problem, DoubtError):
        return {"doubts": ()}
    rows: dict[str, LogFile] = {}
    every = jobs.spark_logs(round_)
    for logs in ([log for log in every if not log.dyno], every):
        rows |= dict(zip(told_apart(logs), logs, strict=True))
    asked = {(doubt.name, doubt.source_unit): doubt for doubt in reversed(problem.doubts) if doubt.log in rows}
    return {"doubts": list(reversed(asked.values())), "rows_by_name": rows, "back": back, "quantities": QUANTITIES}
