"""Rules about the engine: spark where knock was seen, lean targets at load, injectors at their end."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from uchiwa.core.briefs.coverage import load_shares
from uchiwa.core.proposals.fuel.filling import above_measured_load
from uchiwa.core.review.concern import Concern, Weight, cells_of, many
from uchiwa.core.review.reviewed import ReviewedDraft
from uchiwa.core.tables.orientation import load_axis

RETARD = 1.0
"""Knock retard from which a cell counts as one where knock was seen, degrees."""
LOADED, LEAN = 1.02, 0.95
"""Load, as a share of ambient pressure, from which a λ target is to be richer than this."""
DUTY, DUTY_STOP = 85.0, 100.0
"""Injector duty to be answered for, and that no injector has, %."""


def spark_where_knock(it: ReviewedDraft) -> Iterator[Concern]:
    """More spark than the last revision in cells where the round's logs show knock retard, or next to them upward in load."""
    for before, after, _ in it.changed("spark_advance"):
        seen = it.visited.get(after.id)
        if seen is None:
            continue
        knocked = seen.retard >= RETARD
        near = knocked.copy()
        along = load_axis(after)
        if along == 0:
            near[1:] |= knocked[:-1]
        elif along == 1:
            near[:, 1:] |= knocked[:, :-1]
        raised = near & (after.grid > before.grid)
        if raised.any():
            most = float((after.grid - before.grid)[raised].max())
            sentence = (
                f"{after.title}: up to {most:.1f}° more than before in {many(int(raised.sum()))} where knock was seen"
            )
            yield Concern("spark_knock", Weight.ANSWER, sentence, after.id, cells_of(raised), f"{most:.3f}")


def lean_at_load(it: ReviewedDraft) -> Iterator[Concern]:
    """A λ target made leaner at load."""
    for before, after, changed in it.changed("lambda_target"):
        if after.y is None:
            continue
        loaded = load_shares(after) >= LOADED
        lean = changed & loaded & (after.grid > before.grid) & (after.grid > LEAN)
        if lean.any():
            leanest = float(after.grid[lean].max())
            sentence = f"{after.title}: λ up to {leanest:.3f} at load, leaner than before, in {many(int(lean.sum()))}"
            yield Concern("lean_load", Weight.ANSWER, sentence, after.id, cells_of(lean), f"{leanest:.4f}")


def lean_above_load(it: ReviewedDraft) -> Iterator[Concern]:
    """An airflow table made leaner above the highest load that the round's logs have seen at that speed."""
    for role in ("volumetric_efficiency", "maf_curve"):
        for before, after, changed in it.changed(role):
            seen = it.visited.get(after.id)
            if seen is None or not seen.logged or not (seen.dwell > 0).any():
                continue
            lean = changed & (after.grid < before.grid) & (seen.dwell <= 0)
            lean &= above_measured_load(after, seen.dwell > 0)
            if lean.any():
                most = float((1 - after.grid[lean] / before.grid[lean]).max()) * 100
                sentence = f"{after.title}: up to {most:.1f} % leaner in {many(int(lean.sum()))} above any load that was driven at their speed"
                yield Concern("lean_above_load", Weight.ANSWER, sentence, after.id, cells_of(lean), f"{most:.2f}")


def injectors(it: ReviewedDraft) -> Iterator[Concern]:
    """Injector duty to be expected with the draft."""
    duty = it.duty
    if duty is None or not np.isfinite(duty.expected) or duty.expected < DUTY or not it.changes:
        return
    weight = Weight.STOP if duty.expected >= DUTY_STOP and duty.expected > duty.logged + 0.5 else Weight.ANSWER
    sentence = (
        f"Injectors: {duty.expected:.0f} % duty to be expected at {duty.speed:.0f} rpm, {duty.logged:.0f} % in the logs"
    )
    yield Concern("duty", weight, sentence, state=f"{duty.expected:.0f}")
