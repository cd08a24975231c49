"""What people hold knock to be: kept by the cells it lies in, so that it holds for the next logs too."""

from __future__ import annotations

import json
from dataclasses import dataclass

from uchiwa.core.knock.judgement import Cluster, Verdict
from uchiwa.store import events
from uchiwa.store.clock import now
from uchiwa.store.models import Job, KnockDecision, Round, User

_SAME = 0.5


@dataclass(frozen=True)
class ClusterDecision:
    """A decision as a cluster meets it; `here` tells whether it was made in the round at hand."""

    verdict: Verdict
    reason: str
    author: str
    round: int
    here: bool


def of(job: Job, round_: Round, table_id: str, clusters: tuple[Cluster, ...]) -> dict[int, ClusterDecision]:
    """Decisions by the number of the cluster they hold for: the newest whose cells are at least half the same."""
    query = (
        KnockDecision.select(KnockDecision, User, Round)
        .join(User)
        .switch(KnockDecision)
        .join(Round)
        .where(KnockDecision.job == job, KnockDecision.table_id == table_id, Round.number <= round_.number)
        .order_by(KnockDecision.id.desc())
    )
    kept = [(decision, {tuple(cell) for cell in json.loads(decision.cells)}) for decision in query]
    found: dict[int, ClusterDecision] = {}
    for cluster in clusters:
        mine = set(cluster.cells)
        for decision, cells in kept:
            if len(mine & cells) >= _SAME * len(mine | cells):
                if decision.verdict != Verdict.UNSURE:
                    here = decision.round_id == round_.id
                    found[cluster.number] = ClusterDecision(
                        Verdict(decision.verdict), decision.reason, decision.author.name, decision.round.number, here
                    )
                break
    return found


def noise_cells(job: Job, round_: Round, table_id: str) -> set[tuple[int, int]]:
    """Cells of a table whose knock a person holds to be noise, the newest word on each cell counting."""
    query = (
        KnockDecision.select(KnockDecision.cells, KnockDecision.verdict)
        .join(Round)
        .where(KnockDecision.job == job, KnockDecision.table_id == table_id, Round.number <= round_.number)
        .order_by(KnockDecision.id)
    )
    noise: set[tuple[int, int]] = set()
    for decision in query:
        cells = {(int(i), int(j)) for i, j in json.loads(decision.cells)}
        noise = noise | cells if decision.verdict == Verdict.NOISE else noise - cells
    return noise


@dataclass(frozen=True)
class Word:
    """What a person holds a cluster in a table to be, and why."""

    table_id: str
    cluster: Cluster
    verdict: Verdict
    reason: str


def decide(job: Job, round_: Round, author: User, word: Word) -> None:
    """Keep what a person holds a cluster to be; *unsure* leaves it to the judgement again."""
    verdict, cluster, table_id = word.verdict, word.cluster, word.table_id
    words = " ".join(word.reason.split())[:300]
    KnockDecision.create(
        job=job,
        round=round_,
        table_id=table_id,
        verdict=verdict.value,
        reason=words,
        cells=json.dumps([list(cell) for cell in cluster.cells]),
        author=author,
        at=now(),
    )
    said = "left to the judgement" if verdict is Verdict.UNSURE else f"held to be {verdict.value}"
    told = f"Knock in {len(cluster.cells)} cells ({len(cluster.events)} events) {said}"
    events.record(
        job,
        "knock-decision",
        f"{told}: {words}" if words else told,
        author=author,
        round_=round_,
        inputs={"table": table_id, "cells": [list(cell) for cell in cluster.cells], "verdict": verdict.value},
    )
