"""Where a round stands on its fan, and whose move it is."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class Station(StrEnum):
    """A rib of the fan, in the order in which a round is worked."""

    BRIEF = "Brief"
    LOGS = "Logs"
    FUEL = "Fuel"
    SPARK = "Spark"
    IDLE = "Idle"
    REVIEW = "Review"
    RETURN = "Return"


class StationState(StrEnum):
    """How a station stands."""

    DONE = "done"
    HERE = "here"
    NEEDS_YOU = "needs-you"
    TO_COME = "to-come"


class Move(StrEnum):
    """Whose move it is in a job."""

    YOURS = "Your move"
    THEIRS = "Theirs"
    REST = "At rest"


@dataclass(frozen=True)
class RoundFacts:
    """What has happened in a round.

    Attributes:
        number: of the round, from 1.
        briefed: whether the customer has been told what to record.
        logs_ready, logs_reading, logs_refused: accepted logs by what became of them.
        logs_unfit: logs, since the last accepted one, that the customer has been told to record again.
        logs_dyno: of the accepted ones, those that a dyno wrote.
        taken: steps of the draft that stand.
        sparked, idled: of these, proposals of spark, and of idle and warm-up.
        frozen: whether the round has ended with a revision.
        last_refusal: why the last log was refused.
        running: number of the revision that the customer is to run.
        carried: how far that has come: `sent`, `downloaded` or `flashed`; empty if nothing was sent.
        purpose: of its brief.
    """

    number: int
    briefed: bool = True
    logs_ready: int = 0
    logs_reading: int = 0
    logs_refused: int = 0
    logs_unfit: int = 0
    logs_dyno: int = 0
    taken: int = 0
    sparked: int = 0
    idled: int = 0
    frozen: bool = False
    last_refusal: str = ""
    running: int = 0
    carried: str = ""
    purpose: str = "fuel"


_FIRST_OF = {"idle": Station.IDLE, "torque": Station.SPARK}
"""Where a round is worked first, by the purpose of its brief; at Fuel otherwise."""


def next_station(facts: RoundFacts) -> Station:
    """The station at which the round is to be worked next."""
    if facts.frozen:
        return Station.RETURN
    if not facts.logs_ready:
        anything = facts.briefed or facts.number > 1 or facts.logs_reading or facts.logs_refused or facts.logs_unfit
        return Station.LOGS if anything else Station.BRIEF
    if facts.taken:
        return Station.REVIEW
    return Station.SPARK if facts.logs_dyno == facts.logs_ready else _FIRST_OF.get(facts.purpose, Station.FUEL)


def standings(facts: RoundFacts, here: Station | None = None, *, closed: bool = False) -> dict[Station, StationState]:
    """How each station stands; `here` is the one being looked at, by default the next one to be worked.

    Seen as a whole, a job at rest (`closed`) has nothing left to do.
    """
    if closed and here is None:
        return dict.fromkeys(Station, StationState.DONE)
    done = {
        Station.BRIEF: facts.briefed,
        Station.LOGS: facts.logs_ready > 0,
        Station.FUEL: facts.taken > facts.sparked + facts.idled,
        Station.SPARK: facts.sparked > 0,
        Station.IDLE: facts.idled > 0,
        Station.REVIEW: facts.frozen,
        Station.RETURN: facts.frozen,
    }
    result: dict[Station, StationState] = {}
    for station in Station:
        if done[station]:
            result[station] = StationState.DONE
        else:
            result[station] = StationState.TO_COME
    if facts.logs_refused and not facts.logs_ready:
        result[Station.LOGS] = StationState.NEEDS_YOU
    at = here or (None if facts.frozen else next_station(facts))
    if at is not None and (here is not None or result[at] is not StationState.NEEDS_YOU):
        result[at] = StationState.HERE
    return result


def _logs(count: int) -> str:
    return "1 log" if count == 1 else f"{count} logs"


def whose_move(facts: RoundFacts, *, closed: bool) -> tuple[Move, str]:
    """Whose move it is, and in one plain sentence why."""
    if closed:
        rounds = facts.number - 1 if not (facts.logs_ready or facts.taken) else facts.number
        return Move.REST, f"Done in {max(rounds, 1)} round{'s' if rounds > 1 else ''}"
    if facts.taken:
        return Move.YOURS, "Draft ready to review"
    if facts.logs_unfit and not facts.logs_reading:
        ready = f", {_logs(facts.logs_ready)} accepted" if facts.logs_ready else ""
        return Move.THEIRS, f"Asked to record again{ready}"
    if facts.logs_ready:
        return Move.YOURS, f"{_logs(facts.logs_ready)} accepted, {next_station(facts).lower()} is next"
    if facts.logs_reading:
        return Move.YOURS, f"{_logs(facts.logs_reading)} being read"
    if facts.logs_refused:
        return Move.YOURS, "The log cannot be used"
    if facts.number > 1:
        words = {
            "downloaded": "downloaded, not yet flashed",
            "flashed": "flashed, nothing recorded with it yet",
        }.get(facts.carried, "sent, not yet downloaded")
        return Move.THEIRS, f"Revision {facts.running or facts.number - 1} {words}"
    if not facts.briefed:
        return Move.YOURS, "The brief is to be sent"
    return Move.THEIRS, "Nothing recorded yet"
