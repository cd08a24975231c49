"""Findings of logs."""

from __future__ import annotations

import json
from collections.abc import Sequence

from uchiwa.core.checks.finding import Finding, Severity
from uchiwa.core.words.sentence import Sentence, sentence_of
from uchiwa.store.models import FoundInLog, LogFile


def keep(log: LogFile, found: Sequence[Finding]) -> None:
    """Keep a log's findings in place of earlier ones. Call within a transaction."""
    FoundInLog.delete().where(FoundInLog.log == log).execute()
    for finding in found:
        FoundInLog.create(
            log=log,
            rule=finding.rule,
            severity=finding.severity.value,
            customer=finding.customer[:600],
            tuner=finding.tuner[:600],
            at=json.dumps([[round(first, 3), round(last, 3)] for first, last in finding.spans]),
            words=json.dumps(finding.customer.data, ensure_ascii=False)
            if isinstance(finding.customer, Sentence)
            else None,
        )


def of_logs(logs: Sequence[LogFile]) -> dict[int, list[Finding]]:
    """Findings by log id, gravest first, in one query."""
    found: dict[int, list[Finding]] = {log.id: [] for log in logs}
    if logs:
        for row in FoundInLog.select().where(FoundInLog.log.in_(list(found))).order_by(FoundInLog.id):
            spans = tuple((float(first), float(last)) for first, last in json.loads(row.at))
            customer = sentence_of(json.loads(row.words)) if row.words else row.customer
            found[row.log_id].append(Finding(row.rule, Severity(row.severity), customer, row.tuner, spans))
    return found
