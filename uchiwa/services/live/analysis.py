"""What a session shows so far: the checks, drives, ticks and fuel proposal of an ordinary log, run over what has come.

It is the same code over the same lines as when the log is finished, so that nothing changes by its ending.
"""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from uchiwa.core.briefs.acceptance import judge
from uchiwa.core.briefs.checklist import Tick, checklist
from uchiwa.core.checks import ExaminedLog, examine
from uchiwa.core.errors import BadInput
from uchiwa.core.live.limits import LiveLimits
from uchiwa.core.logs.drives import TITLES
from uchiwa.core.logs.log import Log
from uchiwa.core.logs.readers.live import SessionReader
from uchiwa.core.logs.recognition.recognise import recognise
from uchiwa.core.proposals.fuel.correction import State
from uchiwa.core.proposals.fuel.proposal import ROLES, FuelProposal, fuel_proposal
from uchiwa.core.words.sentence import plain_data
from uchiwa.services.fuel import pinned_policy
from uchiwa.services.importing import ImportContext
from uchiwa.store import collected, drafts, live_passing
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import LiveSession, LogFile

_MOST_FINDINGS = 12
_MOST_DRIVES = 60
_TICKS = {Tick.DONE: "done", Tick.REPEAT: "begun", Tick.OPEN: "open"}


def limits_of(session: LiveSession) -> LiveLimits:
    """A session's limits."""
    return _limits(session.limits)


def _limits(document: str) -> LiveLimits:
    return LiveLimits.read(json.loads(document), "the limits")


@dataclass(frozen=True)
class Analysis:
    """What the worker has found of a session, read once for all who watch it here.

    Attributes:
        number: of the analysis and of the limits it is shown under.
        limits: the session's.
        parts: findings, drives, the brief's boxes, and the correction without its cells, each as plain data.
        correction: the correction so far, by cell.
    """

    number: tuple[int, int] = (-1, -1)
    limits: LiveLimits = field(default_factory=LiveLimits)
    parts: dict[str, Any] = field(default_factory=dict)
    correction: dict[tuple[int, int], dict[str, Any]] = field(default_factory=dict)

    @classmethod
    def of(cls, session: LiveSession) -> Analysis:
        """As it stands in a session."""
        return cls.read((session.analysed, session.limits_version), session.analysis, session.limits)

    @classmethod
    def read(cls, number: tuple[int, int], analysis: str, limits: str) -> Analysis:
        """From what is kept in a session; see `Standing` for the numbers."""
        found = json.loads(analysis) if analysis else {}
        correction = found.get("correction")
        parts = {key: found[key] for key in ("findings", "drives", "items") if key in found}
        if parts:
            parts["correction"] = (
                {key: one for key, one in correction.items() if key != "cells"} if correction else None
            )
        cells = {(one["i"], one["j"]): one for one in correction.get("cells", [])} if correction else {}
        return cls(number, _limits(limits), parts, cells)


class Analyst:
    """Analyses one session as it grows; its lines are read once."""

    def __init__(self, session: LiveSession) -> None:
        self.session_id, self.log_id = session.id, session.log_id
        with unit_of_work():
            self.log = LogFile.get_by_id(session.log_id)
            self.context = ImportContext.of(self.log)
            self.before = collected.collected(self.context.job, self.context.round)
            draft = drafts.current(self.context.job)
            table = self.context.table
            self.policy = pinned_policy(self.context.round, draft, table.id if table is not None else "")
        self._reader: SessionReader | None = None
        self.position = -1

    def recording(self) -> Log | None:
        """What has come so far, read as a finished file is; None as long as it is too little."""
        while True:
            with unit_of_work():
                found = live_passing.chunks_after(self.log_id, self.position)
            self._read([line for _, line in found])
            self.position = found[-1][0] if found else self.position
            if len(found) < live_passing.CHUNKS:
                break
        if self._reader is None:
            return None
        try:
            log = self._reader.log(str(self.log.name))
            return recognise(log, self.context.knowledge(log))
        except BadInput:
            return None

    def _read(self, lines: list[bytes]) -> None:
        if lines and self._reader is None:
            self._reader = SessionReader(lines.pop(0))
        if self._reader is not None:
            self._reader.add(lines)

    def analyse(self, limits: LiveLimits) -> dict[str, Any]:
        """All of it, as plain data."""
        recording = self.recording()
        if recording is None:
            return {"through": max(self.position, 0)}
        context = self.context
        it = ExaminedLog(
            recording, context.file, context.brief, context.calibration, context.revision, context.table, context.limits,
            context.book,
        )  # fmt: skip
        found = examine(it, context.own_checks)
        verdicts = [judge(ask, it, found, self._dwell()) for ask in context.brief.to_drive] if context.brief else []
        own = [verdict for verdict in verdicts if verdict is not None]
        earlier = [collected.verdicts_of(log) for log in self.before.logs if log.state == "ready"]
        items = checklist(context.brief, [*earlier, own]) if context.brief is not None else ()
        return {
            "through": self.position,
            "seconds": round(recording.duration, 2),
            "findings": [
                {"rule": finding.rule, "severity": finding.severity.value, "words": finding.tuner, "customer": finding.customer}
                for finding in found[:_MOST_FINDINGS]
            ],
            "drives": [
                {"title": TITLES[drive.kind], "kind": drive.kind.value, "start": round(drive.start, 2), "end": round(drive.end, 2)}
                for drive in it.drives[-_MOST_DRIVES:]
            ],
            "items": [{"title": item.ask.title, "tick": _TICKS[item.tick], "said": item.said, "words": plain_data(item.said)} for item in items],
            "correction": self.correction(recording, limits),
        }  # fmt: skip

    def _dwell(self) -> np.ndarray | None:
        coverage = self.before.coverage
        return coverage.seconds if coverage is not None else None

    def correction(self, recording: Log, limits: LiveLimits) -> dict[str, Any] | None:
        """The fuel proposal of what has come so far, under the limits; None where they are off or there is no table."""
        context = self.context
        if not limits.on or context.calibration is None or context.table is None or context.table.role not in ROLES:
            return None
        try:
            proposal = fuel_proposal([recording], context.calibration, context.table.id, limits.policy(self.policy))
        except BadInput as error:
            return {"table": context.table.id, "problem": str(error), "cells": []}
        return correction_data(proposal)


def correction_data(proposal: FuelProposal) -> dict[str, Any]:
    """A proposal's cells that have samples, as plain data: column, row, before, after, samples, seconds, state."""
    correction, bins, found, table = proposal.correction, proposal.bins, proposal.estimate, proposal.table
    cells = [
        {
            "i": int(i),
            "j": int(j),
            "before": float(table.grid[j, i]),
            "after": float(correction.after[j, i]),
            "factor": round(float(correction.factor[j, i]), 6),
            "samples": round(float(bins.samples[j, i]), 1),
            "seconds": round(float(bins.dwell[j, i]), 2),
            "error": _number((found.factor[j, i] - 1) * 100),
            "standard_error": _number(found.standard_error[j, i] * 100),
            "state": str(correction.state[j, i]),
        }
        for j, i in np.argwhere(bins.samples > 0)
    ]
    left = {reason: count for reason, count in proposal.evidence.left_out().items() if count}
    return {
        "table": table.id,
        "problem": "",
        "used": int(proposal.evidence.sieve.used.sum()),
        "left_out": left,
        "cells": cells,
        "changed": sum(1 for cell in cells if cell["state"] in (State.CHANGED, State.LIMITED)),
    }


def _number(value: float) -> float | None:
    return round(float(value), 3) if np.isfinite(value) else None
