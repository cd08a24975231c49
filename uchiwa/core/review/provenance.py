"""Rules about what a change rests on: evidence, logs, temporary setups, and the image it goes into."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from uchiwa.core.review.concern import Concern, Weight, cells_of, many
from uchiwa.core.review.reviewed import ReviewedDraft


def unseen(it: ReviewedDraft) -> Iterator[Concern]:
    """Changed cells that no sample of the round has visited: to be answered for where they were edited by hand."""
    for _, table, changed in it.changed():
        seen = it.visited.get(table.id)
        if seen is None or not seen.logged or not it.logs:
            continue
        without = changed & (seen.dwell <= 0)
        by_hand = without & it.by_hand.get(table.id, np.zeros(table.shape, dtype=np.bool_))
        if by_hand.any():
            sentence = f"{table.title}: {many(int(by_hand.sum()))} edited by hand without a sample behind them"
            yield Concern("unseen", Weight.ANSWER, sentence, table.id, cells_of(by_hand))
        filled = without & ~by_hand
        if filled.any():
            sentence = f"{table.title}: {many(int(filled.sum()))} filled by the proposal, without a sample behind them"
            yield Concern("filled", Weight.NOTE, sentence, table.id, cells_of(filled))


def never_logged(it: ReviewedDraft) -> Iterator[Concern]:
    """Tables changed although the round's logs cannot say where in them the engine was."""
    for _, table, changed in it.changed():
        seen = it.visited.get(table.id)
        if it.logs and (seen is None or seen.logged):
            continue
        why = "the logs have no channel for its axes" if it.logs else "this round has no log"
        sentence = f"{table.title}: {many(int(changed.sum()))} changed, and {why}"
        yield Concern("never_logged", Weight.ANSWER, sentence, table.id, cells_of(changed))


def temporary_setup(it: ReviewedDraft) -> Iterator[Concern]:
    """A temporary setup in force: no final revision is frozen with it."""
    if it.setup:
        sentence = (
            f"The temporary setup “{it.setup}” is in force: this can be a revision to measure with, not the final one"
        )
        yield Concern("setup", Weight.ANSWER, sentence, state=it.setup)


def image(it: ReviewedDraft) -> Iterator[Concern]:
    """What the controller's image cannot hold, or holds only nearly."""
    if it.image is None:
        return
    if it.image.refusal:
        yield Concern("image", Weight.STOP, f"Into the image: {it.image.refusal}")
    for table_id, (cells, most) in it.image.roundings.items():
        title = next((table.title for table in it.draft.tables if table.id == table_id), table_id)
        sentence = f"{title}: the image rounds {many(len(cells))}, by up to {most:.3g}"
        yield Concern("rounding", Weight.NOTE, sentence, table_id, cells)
