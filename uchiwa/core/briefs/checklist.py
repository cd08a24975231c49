"""The brief as a checklist that ticks itself as logs arrive."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from uchiwa.core.briefs.acceptance import Verdict
from uchiwa.core.briefs.brief import Brief, DriveAsk


class Tick(StrEnum):
    """How a drive of the brief stands."""

    DONE = "done"
    REPEAT = "repeat"
    OPEN = "open"


@dataclass(frozen=True)
class Item:
    """A drive of the brief and how it stands; `said` is what the newest log that holds it was worth."""

    ask: DriveAsk
    tick: Tick
    said: str = ""


def checklist(brief: Brief, logs: Sequence[Sequence[Verdict]]) -> tuple[Item, ...]:
    """How each drive of a brief stands.

    Args:
        brief: what was asked for.
        logs: the verdicts of each log, oldest first. Once met a drive stays met.
    """
    items: list[Item] = []
    for ask in brief.to_drive:
        own = [verdict for verdicts in logs for verdict in verdicts if verdict.kind is ask.kind]
        met = next((verdict for verdict in own if verdict.met), None)
        if met is not None:
            items.append(Item(ask, Tick.DONE, met.said))
        elif own:
            items.append(Item(ask, Tick.REPEAT, own[-1].said))
        else:
            items.append(Item(ask, Tick.OPEN))
    return tuple(items)
