"""The fuel error freed of what only changing conditions add to it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from uchiwa.core.evidence.conditions import (
    FOLLOWING,
)
from uchiwa.core.evidence.log_levels import log_levels
from uchiwa.core.evidence.quantisation import quantum
from uchiwa.core.evidence.stretches import stretches_of
from uchiwa.core.evidence.transients import (
    FAR,
    SLOW_TRIMS,
    STILL_MOVING,
    WALL_FILM,
    Signals,
    Transient,
    chosen,
    estimate_transients,
    transient_factor,
)
from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.proposals.fuel.cell_numbers import cell_numbers
from uchiwa.core.proposals.fuel.one_log import OneLog
from uchiwa.core.proposals.fuel.samples import Estimated, Evidence
from uchiwa.core.tables.table import Table

_STILL_UNSURE = 0.65
"""Share of what slow trims were found to lag by that is held to be uncertain itself: loops and zones differ in pace."""


def _signals_of(prepared: Sequence[OneLog]) -> Signals:
    """The signals of all logs, one after the other; a log without one has nought."""
    found: dict[str, list[tuple[float, FloatArray]]] = {}
    for words in dict.fromkeys(words for log in prepared for words in log.changing):
        times = next([seconds for seconds, _ in log.changing[words]] for log in prepared if words in log.changing)
        found[words] = [
            (
                seconds,
                np.concatenate(
                    [
                        log.changing[words][at][1] if words in log.changing else np.zeros(log.time.shape)
                        for log in prepared
                    ]
                ),
            )
            for at, seconds in enumerate(times)
        ]
    return found


def free_of_transients(evidence: Evidence, table: Table, prepared: list[OneLog], known: Estimated | None) -> Evidence:
    """The evidence with the error free of what only changing conditions add, and what stays unsure of it."""
    signals = _signals_of(prepared)
    used = evidence.sieve.used
    if known is not None:
        found = known.transients
    else:
        # Trims move for long while the engine moves through a cell, so that place and pace must be told apart within it.
        finer = all(log.reading is None for log in prepared)
        cells = np.concatenate([cell_numbers(log, table, finer=finer)[0] for log in prepared])
        stretch, first = [], 0
        for log in prepared:
            stretch.append(stretches_of(log.time, first))
            first = int(stretch[-1][-1]) + 1 if stretch[-1].size else first
        levels = log_levels(
            cells[used], evidence.log[used], np.log(np.maximum(evidence.error[used], 1e-6)), len(prepared)
        )
        found = estimate_transients(
            cells[used],
            np.concatenate(stretch)[used],
            evidence.error[used] / np.exp(levels)[evidence.log[used]],
            {words: [(time, signal[used]) for time, signal in every] for words, every in signals.items()},
        )
    steps = max((_grain_of(log) for log in prepared if log.ratio is None), default=0.0)
    behind = [
        transient.slope * chosen(transient, signals[transient.words])
        for transient in found
        if transient.words == SLOW_TRIMS
    ]
    unsure = None
    if behind and used.any():
        squared = np.square(_STILL_UNSURE * np.sum(behind, axis=0))
        unsure = np.sqrt(np.maximum(squared, squared[used].mean()))
    films = signals.get(WALL_FILM)
    evidence = replace(evidence, unsure=unsure, grain=steps, ahead=films[-1][1] if films else None)
    if SLOW_TRIMS in signals:
        evidence = replace(evidence, sieve=evidence.sieve.without(FOLLOWING, _still_following(found, signals)))
    if not found:
        return evidence
    parts = replace(evidence.parts, transient=transient_factor(found, signals, evidence.time.size))
    return replace(evidence, parts=parts, error=parts.error, transients=found)


def _still_following(found: Sequence[Transient], signals: Signals) -> BoolArray:
    """Where trims that are all there is to go by have not arrived: too far to be told from their rate."""
    every = signals[SLOW_TRIMS]
    moving = np.abs(every[len(every) // 2][1]) > STILL_MOVING
    for transient in found:
        if transient.words == SLOW_TRIMS:
            moving = np.abs(transient.slope * chosen(transient, every)) > FAR
    return moving


def _grain_of(log: OneLog) -> float:
    """The steps in which a log's error comes, as a fraction: of its trims without a sensor, else of the mixture."""
    if log.reading is None:
        return quantum(log.short_trim + log.long_trim)
    usual = float(np.nanmedian(log.target)) if np.isfinite(log.target).any() else 1.0
    return quantum(log.reading) / usual
